"""The runs of a study on disk: found, read, analysed once, and left out with a reason."""

import logging
from collections.abc import Callable, Collection, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING

import pandas as pd
import tomlkit

from gelassen.answers.rows.equal_mean_power import at_equal_mean_power
from gelassen.answers.rows.own_levels import named_by_own_levels
from gelassen.answers.rows.power_steps import at_one_power, power_rungs
from gelassen.answers.rows.row_by_hand import row_by_hand
from gelassen.answers.rows.run_row import RunRow, row_from_kept, run_row
from gelassen.answers.rows.run_table import (
    of_another_unit,
    of_one_unit,
    reasons_left_out,
    run_table,
)
from gelassen.answers.workers.pool import as_executor
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.counted import counted
from gelassen.core.foundation.errors import GelassenError, InputError
from gelassen.core.foundation.printable import printable
from gelassen.core.foundation.result import MADE_UP
from gelassen.core.foundation.spelling import nearest
from gelassen.core.recording.chips import core_channels
from gelassen.core.recording.judging import HOTTEST_CORE, MEAN_OF_CORES
from gelassen.core.recording.recording import Recording
from gelassen.core.recording.series import series_of
from gelassen.study.disk.archive import read_run
from gelassen.study.disk.cache import fingerprint, keep_row, kept_rows
from gelassen.study.disk.run_file import FAN_STEPS
from gelassen.study.disk.samples import SAMPLES_CSV, SAMPLES_PARQUET
from gelassen.study.disk.writer import RUN_JSON
from gelassen.study.file.levels import expected_quantities, mounted_as
from gelassen.study.file.reader import read_study_file
from gelassen.study.file.study_file import STUDY_FILE, StudyFile, check_setup_name
from gelassen.system.files import read_text, replace_file

if TYPE_CHECKING:
    from gelassen.core.run.summary import RunSummary

# Runs of another kind, and why a comparison leaves them out.
OTHER_KINDS = {
    "capacity": "its power climbed: it tells a capacity (gelassen capacity), not a temperature",
    FAN_STEPS: "its fan went through several duties: it tells its cooling over speed (gelassen curve)",
}


_LOG = logging.getLogger(__name__)
# Of the interval of each single run. Answers over many runs take its value and standard error, which are
# the same for any confidence: so another confidence is answered from what is kept.
RUN_CONFIDENCE = 0.95


@dataclass(frozen=True, slots=True)
class StudyRuns:
    """The runs of a study.

    Attributes
    ----------
    folder
        Where the study lives.
    file
        What `study.toml` says.
    executor
        Where new runs are analysed side by side; None for here, one by one.
    """

    folder: Path
    file: StudyFile
    executor: Executor | None = field(default=None, repr=False, compare=False)

    def __repr__(self) -> str:
        """Return the study in one line."""
        title = printable(self.file.title or self.folder.name)
        setups = counted(len(self.file.setups), "setup")
        made_up = f", {MADE_UP}" if self.file.made_up else ""
        return f"<Study {title}: {setups}, {counted(len(self.run_folders()), 'run')}{made_up}>"

    def analysed_by(self, executor: Executor | None) -> "StudyRuns":
        """Return this study with its new runs analysed by an executor or a Dask client."""
        return self if executor is None else replace(self, executor=as_executor(executor))

    def run_folders(self) -> list[Path]:
        """Return the folders of all runs, in order of their numbers."""
        runs = self.folder / "runs"
        if not runs.is_dir():
            return []
        return sorted(p for p in runs.iterdir() if p.is_dir() and not p.name.startswith("."))

    def run(self, name: str) -> Recording:
        """Open one run by its folder name or its number."""
        return self.completed(read_run(self.find_run(name)))

    def find_run(self, name: str) -> Path:
        """Return the folder of a run, by its name or its number."""
        folders = self.run_folders()
        for folder in folders:
            if name in (
                folder.name,
                folder.name.split("-")[0],
                folder.name.split("-")[0].lstrip("0"),
            ):
                return folder
        names = [folder.name for folder in folders]
        raise InputError(f'there is no run "{name}" in {self.folder}.{nearest(name, names)}')

    def completed(self, recording: Recording) -> Recording:
        """Fill in what the run does not tell, from the study.

        The reference of the rises belongs to the analysis. So a study that names it has the last
        word, wherever that channel was read.
        """
        limit = recording.limit_c if recording.limit_c is not None else self.file.machine.limit_c
        reference, named = recording.reference, self.named_reference()
        if named is not None and series_of(recording.frame, named) is not None:
            reference = named
        stated = {
            name: table.limit_c for name, table in self.file.channels.items() if table.limit_c
        }
        return replace(
            recording,
            limit_c=limit,
            limits_c={**recording.limits_c, **stated},
            reference=reference or self.file.reference,
            made_up=recording.made_up or self.file.made_up,
        )

    def named_reference(self) -> str | None:
        """Return the reference that the study file names; None where it leaves the usual one."""
        return self.file.reference if "reference" in self.file.model_fields_set else None

    def checked_baseline(self, baseline: str | None) -> str | None:
        """Return the setup to compare against: the one asked for, else the study's own.

        Raises
        ------
        InputError
            The study has no such setup.
        """
        against = baseline or self.file.baseline
        if against is not None and self.file.setups:
            check_setup_name(self.file, against)
        return against

    def summaries(
        self, *, confidence: float = 0.95, executor: Executor | None = None
    ) -> "tuple[list[RunSummary], list[tuple[str, str]]]":
        """Summarise all runs; return the summaries, and the runs left out with the reason."""
        folders, executor = self.run_folders(), as_executor(executor) or self.executor
        jobs = [(replace(self, executor=None), folder, confidence, None) for folder in folders]
        mapped = executor.map(_summarise, jobs, chunksize=4) if executor else map(_summarise, jobs)
        summaries, left_out = [], []
        for folder, result in zip(folders, mapped, strict=True):
            if isinstance(result, str):
                left_out.append((folder.name, result))
                _LOG.info("%s cannot be used: %s", folder.name, result)
            else:
                _LOG.debug("analysed %s", folder.name)
                summaries.append(result)
        return summaries, left_out

    def rows(
        self,
        *,
        confidence: float = RUN_CONFIDENCE,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
        judge: str | None = None,
        progress: Callable[[int, int], None] | None = None,
    ) -> tuple[list[RunRow], list[tuple[str, str]]]:
        """Return what comparisons need from each run, and the runs left out with the reason.

        Runs that were analysed before, and have not changed since, are not analysed again. `judge` is the
        temperature to judge by, in place of the study's. `progress` is told how many of the new runs are
        analysed, and how many there are.
        """
        folders = self.run_folders()
        out = self._left_out(leave_out or {})
        said = self._said(confidence, judge)
        marks = {_kept_as(folder.name, judge): _mark(folder, said) for folder in folders}
        kept = kept_rows(self.folder)
        known = {
            _run_of(name): row
            for name, (mark, entry) in kept.items()
            if mark and marks.get(name) == mark and (row := row_from_kept(entry))
        }
        new = [f for f in folders if f.name not in known and f.name not in out]
        _LOG.info("%s: %d kept analyses, %d new", self.folder, len(known), len(new))
        executor, alone = as_executor(executor) or self.executor, replace(self, executor=None)
        jobs = [(alone, folder, confidence, judge) for folder in new]
        mapped = executor.map(_row, jobs) if executor else map(_row, jobs)
        left_out = list(out.items())
        for number, (folder, result) in enumerate(zip(new, mapped, strict=True), start=1):
            if isinstance(result, str):
                left_out.append((folder.name, result))
            else:
                known[folder.name] = result
                if mark := marks[
                    _kept_as(folder.name, judge)
                ]:  # kept at once, as it may be cut short
                    keep_row(self.folder, _kept_as(folder.name, judge), mark, result.to_dict())
            if progress is not None:
                progress(number, len(new))
        rows = [known[f.name] for f in folders if f.name in known and f.name not in out]
        return rows, left_out

    def _said(self, confidence: float, judge: str | None = None) -> list[object]:
        """Return those entries of the study that change how a run is judged."""
        file = self.file
        limits = {name: table.limit_c for name, table in file.channels.items() if table.limit_c}
        judged = judge or file.compare
        stated = [file.machine.limit_c, limits, file.reference, judged, file.made_up]
        return [*stated, file.doubt.by_hand_k, confidence]

    def unanalysed(self) -> int:
        """Return how many runs must be analysed again."""
        said = self._said(RUN_CONFIDENCE)
        kept = kept_rows(self.folder)
        folders = self.run_folders()
        return sum(kept.get(f.name, ("",))[0] != _mark(f, said) for f in folders)

    def left_out(self) -> dict[str, str]:
        """Return the folder names of runs that the study leaves out, with the reason."""
        return self._left_out({})

    def discard(self, run: str, why: str) -> str:
        """Leave a run out from now on: noted in the study file, nothing is deleted.

        Returns the name of its folder.
        """
        (name,) = set(self._left_out({run: why})) - set(self.left_out()) or {run}
        path = self.folder / STUDY_FILE
        document = tomlkit.parse(read_text(path))
        table = document.setdefault("left_out", tomlkit.table())
        table[name] = why
        replace_file(path, tomlkit.dumps(document), check=read_study_file)
        return name

    def _left_out(self, more: Mapping[str, str]) -> dict[str, str]:
        """Return the folder names of runs that the tester leaves out, with the reason."""
        names = [folder.name for folder in self.run_folders()]
        out: dict[str, str] = {}
        for run, why in {**self.file.left_out, **more}.items():
            match = [n for n in names if run in (n, n.split("-")[0], n.split("-")[0].lstrip("0"))]
            if not match:
                raise InputError(
                    f'"{run}" is to be left out, but there is no such run in {self.folder}.'
                    + nearest(run, names)
                )
            if not why.strip():
                raise InputError(f'"{run}" is to be left out: say why')
            out[match[0]] = why
        return out

    def has_programs(self, leave_out: Mapping[str, str] | None = None) -> bool:
        """Return whether setups were run under several programs, which are not one load."""
        if self.file.workloads:
            return True
        loads: dict[str, set[str]] = {}
        for row in self.rows(leave_out=leave_out)[0]:
            if row.load:
                loads.setdefault(row.setup, set()).add(row.load)
        return any(len(names) > 1 for names in loads.values())

    def table(
        self,
        *,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> pd.DataFrame:
        """Return one row for each run that can be compared, with the level of each factor."""
        study = self.analysed_by(executor)
        return study.table_and_left_out(leave_out, confidence=confidence, every_unit=True)[0]

    def table_and_left_out(
        self,
        leave_out: Mapping[str, str] | None,
        *,
        confidence: float = RUN_CONFIDENCE,
        every_level: bool = False,
        every_unit: bool = False,
        setup: str | None = None,
    ) -> tuple[pd.DataFrame, tuple[Caution, ...]]:
        """Return the table, and a line for each run that is not in it.

        Of a run with several powers, the table holds the level used for comparison, or all levels. It holds
        rises or temperatures, whichever `setup` (else the baseline, else most runs) has; or both.
        """
        rows, given = self.compared_rows(leave_out, confidence=confidence)
        if every_level and any(row.levels for row in rows):
            left_out: list[tuple[str, str]] = list(given)
            level: tuple[Caution, ...] = ()
            rows = [
                replace(row, level=rung.words) for rung in power_rungs(rows) for row in rung.rows
            ]
        else:
            rows, left_out, level = at_one_power(rows, given)
        table = run_table(rows, left_out, self.named_reference())
        if table.empty:
            raise InputError(f"no run can be compared ({reasons_left_out(left_out)})")
        other = table.iloc[:0]
        if not every_unit:
            table, other = of_one_unit(table, setup or self.file.baseline)
        of_run = {row.run: {**self.file.setups.get(row.setup, {}), **row.factors} for row in rows}
        for factor in self.file.factors:
            levels = {run: own.get(factor) for run, own in of_run.items()}
            table = table.assign(**{factor: table["run"].map(levels)})
        lines = (caution("left_out", run=run, why=why) for run, why in left_out)
        return table, (*level, *of_another_unit(other), *lines)

    def usable_rows(
        self,
        leave_out: Mapping[str, str] | None,
        *,
        confidence: float = RUN_CONFIDENCE,
        kinds: Collection[str] = ("steady",),
        judge: str | None = None,
    ) -> tuple[list[RunRow], list[tuple[str, str]]]:
        """Return the rows that an answer can use, and the runs left out with the reason.

        Runs of other kinds are left out. A climb in power tells a capacity; a fan that goes through several
        duties tells its cooling. Neither tells a temperature. `judge` is as in `rows`.

        Raises
        ------
        InputError
            No run is left.
        """
        rows, left_out = self.rows(confidence=confidence, leave_out=leave_out, judge=judge)
        other = {kind: why for kind, why in OTHER_KINDS.items() if kind not in kinds}
        left_out = [
            *left_out,
            *((row.run, other[row.protocol]) for row in rows if row.protocol in other),
        ]
        rows = [row for row in rows if row.protocol not in other]
        rows = self.with_mountings(rows)
        if not rows:
            reasons = "; ".join(f"{name}: {why}" for name, why in left_out) or "it has no runs yet"
            raise InputError(f"{self.folder}: nothing to compare ({reasons})")
        return rows, left_out

    def compared_rows(
        self,
        leave_out: Mapping[str, str] | None,
        *,
        confidence: float = RUN_CONFIDENCE,
        judge: str | None = None,
    ) -> tuple[list[RunRow], list[tuple[str, str]]]:
        """Return `usable_rows` to compare setups by: means of loads that vary are at one mean power.

        Not so in a study in which a factor changes the power. Where the tester chose what is judged, no
        other part is named as hotter. Runs of one setup at unlike levels of a factor are setups of their
        own.
        """
        rows, left_out = self.usable_rows(leave_out, confidence=confidence, judge=judge)
        rows = named_by_own_levels(rows)
        if self.file.judge:
            rows = [replace(row, hotter_chip=None) for row in rows]
        if "power_w" in expected_quantities(self.file):
            return rows, left_out
        return at_equal_mean_power(rows), left_out

    def with_mountings(self, rows: Sequence[RunRow]) -> list[RunRow]:
        """Return rows whose mountings have names of their own.

        The first mounting of one cooler is not that of another, even where both have the same name.
        """
        return [
            replace(row, mount=f"{mounted_as(self.file, row.setup)}: {row.mount}")
            if row.mount
            else row
            for row in rows
        ]

    def is_made_up(self, rows: Sequence[RunRow]) -> bool:
        """Return whether any of this is made up, so that every output says so."""
        return self.file.made_up or any(row.made_up for row in rows)


def _mark(folder: Path, said: list[object]) -> str:
    """Return the fingerprint of a run; empty if its folder cannot be read, which is told later."""
    try:
        return fingerprint(folder, said)
    except OSError:
        return ""


Job = tuple[StudyRuns, Path, float, str | None]  # study, run, confidence, what is judged


def _kept_as(run: str, judge: str | None) -> str:
    """Return under which name the row of a run is kept."""
    return run if judge is None else f"{run}\t{judge}"


def _run_of(kept_as: str) -> str:
    return kept_as.partition("\t")[0]


def _row(job: Job) -> RunRow | str:
    """Return the row of one run, or why there is none."""
    study, folder, _, _ = job
    found = _read(study, folder)
    if isinstance(found, Recording) and found.by_hand:
        return row_by_hand(found, study.file.doubt.by_hand_k)
    summarised = found if isinstance(found, str) else _summarised(found, job)
    return summarised if isinstance(summarised, str) else run_row(*summarised)


def _summarise(job: Job) -> "RunSummary | str":
    """Return the summary of one run, or why there is none."""
    found = _read(job[0], job[1])
    if isinstance(found, Recording) and found.by_hand:
        return "it was read by hand: it has no samples"
    summarised = found if isinstance(found, str) else _summarised(found, job)
    return summarised if isinstance(summarised, str) else summarised[1]


def _read(study: StudyRuns, folder: Path) -> Recording | str:
    """Return a run, or why it cannot be read."""
    try:
        present = {path.name for path in folder.iterdir()}
    except OSError as error:
        return f"its folder cannot be read ({error.strerror or error})"
    if not present & {RUN_JSON, SAMPLES_CSV, SAMPLES_PARQUET}:
        return "no run in this folder"
    try:
        return study.completed(read_run(folder))
    except (GelassenError, OSError) as error:
        return str(error)


def _summarised(recording: Recording, job: Job) -> "tuple[Recording, RunSummary] | str":
    study, _, confidence, judge = job
    try:
        compare = judge or study.file.compare
        averaged = compare == MEAN_OF_CORES and core_channels(recording.frame)
        wanted = compare if averaged or compare in recording.frame else None
        if judge is not None and wanted is None and judge != HOTTEST_CORE:
            return f"{judge} was not logged"
        from gelassen.core.run.summary import summarise_run  # only here: a kept row does without it

        return recording, summarise_run(recording, channel=wanted, confidence=confidence)
    except (GelassenError, OSError) as error:
        return str(error)
