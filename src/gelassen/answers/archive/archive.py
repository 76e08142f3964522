"""All studies of an archive: what there is, one table over all, and what no study tells alone."""

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from itertools import repeat
from pathlib import Path
from typing import Any

import pandas as pd
import pyarrow as pa

from gelassen.answers.archive.conditions import column_of, condition
from gelassen.answers.archive.index import FACTOR, Index, Indexed, as_table
from gelassen.answers.archive.place import INDEX, Place
from gelassen.answers.comparison import ComparisonAsked, StudyComparison, compare_runs
from gelassen.answers.drift import drift_in
from gelassen.answers.one_room import in_one_room
from gelassen.answers.repeatability import repeatability_in
from gelassen.answers.rows.equal_mean_power import at_equal_mean_power
from gelassen.answers.rows.known_spread import repeats_or_usual
from gelassen.answers.rows.power_steps import at_one_power
from gelassen.answers.rows.run_row import RunRow, row_from_kept
from gelassen.answers.rows.run_table import run_table
from gelassen.answers.study import Study, open_study
from gelassen.answers.workers.pool import as_executor
from gelassen.core.comparing.machine_drift import MachineDrift
from gelassen.core.comparing.repeatability import Repeatability
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import GelassenError, InputError
from gelassen.core.foundation.spelling import nearest

# More setups than this are not compared in pairs: nobody reads the table, and pairs grow with the square.
_MOST_SETUPS = 60
SHOWN = (
    "study", "machine", "run", "setup", "started", "value", "low", "high", "unit", "at_limit", "power_w",
    "fan_rpm", "left_out",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Archive:
    """The studies below a folder or an fsspec address.

    Attributes
    ----------
    address
        As it was given.
    indexed
        What the index says, by study.
    unreadable
        Studies that could not be read, with the reason.
    """

    address: str
    index: Index
    indexed: Mapping[str, Indexed]
    unreadable: tuple[tuple[str, str], ...] = ()

    def studies(self) -> pd.DataFrame:
        """Return one line for each study: what was tested on which machine, and what was found.

        Columns: study, title, machine, setups, runs, left_out, first, last, limit_c, coolest, rise, low,
        high, unit, made_up.
        """
        names = [name for name in Indexed.__dataclass_fields__ if name != "stamp"]
        lines = [{name: getattr(one, name) for name in names} for one in self.indexed.values()]
        return pd.DataFrame(lines, columns=names)

    def runs(
        self, where: Sequence[str] = (), *, columns: Sequence[str] | None = None
    ) -> pd.DataFrame:
        """Return one line for each run of all studies.

        Parameters
        ----------
        where : sequence of str
            Conditions that all must hold, such as "machine=Playout box", "cooler=Brise 120",
            "power_w>=100", "started>=2026-03-01". A name is a column, or a factor of any study.
        columns : sequence of str, optional
            Columns and factors to return; the usual ones and all factors if not given.

        Raises
        ------
        InputError
            A condition that is none, or a name that no study has.
        """
        if not self.indexed:
            return pd.DataFrame(columns=list(columns or SHOWN))
        data = self.index.dataset(list(self.indexed))
        names = data.schema.names
        if columns is None:
            wanted = [*SHOWN, *(name for name in names if name.startswith(FACTOR))]
        else:
            wanted = [name if name == "row" else column_of(name, names) for name in columns]
        table = data.to_table(columns=wanted, filter=condition(where, data.schema)).to_pandas()
        return table.rename(columns=lambda name: str(name).removeprefix(FACTOR))

    def compare(
        self, by: Sequence[str], where: Sequence[str] = (), *, confidence: float = 0.95
    ) -> StudyComparison:
        """Compare runs of several studies, such as one cooler on several machines.

        Parameters
        ----------
        by : sequence of str
            What tells setups apart: "machine", "study", factors, or other columns.
        where, confidence
            As in `runs` and `Study.compare`.

        Raises
        ------
        InputError
            No run matches, or too many setups do.
        """
        rows, table = self._rows(where, by)
        setups = [
            ", ".join("–" if pd.isna(one) else str(one) for one in key)
            for key in table[[_plain(name) for name in by]].itertuples(index=False, name=None)
        ]
        if len(set(setups)) > _MOST_SETUPS:
            raise InputError(
                f"{len(set(setups))} setups match; up to {_MOST_SETUPS} are compared. Choose fewer: --where"
            )
        named = [replace(row, setup=name) for row, name in zip(rows, setups, strict=True)]
        named = at_equal_mean_power(named)
        named, left_out, level = at_one_power(named, [])
        asked = ComparisonAsked(
            title=f"{self.address}: by {', '.join(by)}",
            confidence=confidence,
            made_up=any(row.made_up for row in rows),
            spread_of=repeats_or_usual,
        )
        found = compare_runs(named, left_out, asked)
        said = (*level, *_mixed(table), *self._lumped(where, by))
        return replace(found, cautions=(*said, *found.cautions))

    def repeatability(
        self, where: Sequence[str] = (), *, confidence: float = 0.95
    ) -> dict[str, Repeatability]:
        """Return how much each machine scatters between runs of one setup, over all its studies.

        A machine whose runs were all at their limit is left out.
        """
        found = {}
        for machine, table in self._machines(where).items():
            if not table["at_limit"].astype(bool).all():
                named = table.assign(setup=table["study"] + ": " + table["setup"])
                found[machine] = repeatability_in(in_one_room(named)[0], confidence)
        return found

    def drift(
        self, setup: str, where: Sequence[str] = (), *, confidence: float = 0.95
    ) -> dict[str, MachineDrift]:
        """Return how each machine drifted, from all runs of one setup in all its studies.

        Raises
        ------
        InputError
            No run of this setup.
        """
        machines = self._machines(where)
        known = sorted({name for table in machines.values() for name in table["setup"]})
        if setup not in known:
            raise InputError(f'no run here is of "{setup}".{nearest(setup, known)}')
        return {
            machine: drift_in(in_one_room(table)[0], setup, confidence)
            for machine, table in machines.items()
            if setup in set(table["setup"])
        }

    def _machines(self, where: Sequence[str]) -> dict[str, pd.DataFrame]:
        """Return the runs of each machine that can be compared, as a study has them, with their study.

        Rises over a reference are preferred. Temperatures are used where a machine has no rise.
        """
        rows, lines = self._rows(where, ("machine", "study"))
        found = {}
        for machine in sorted(set(lines["machine"])):
            own = [
                replace(row, run=f"{study}\t{row.run}")
                for row, of, study in zip(rows, lines["machine"], lines["study"], strict=True)
                if of == machine
            ]
            units = {row.unit for row in own}
            own = [row for row in own if row.unit == ("K" if "K" in units else row.unit)]
            table = run_table(at_one_power(own, [])[0], [])
            if len(table):
                found[str(machine)] = table.assign(
                    study=[name.partition("\t")[0] for name in table["run"]]
                )
        return found

    def _lumped(self, where: Sequence[str], by: Sequence[str]) -> tuple[Caution, ...]:
        """Say which factors differ within what is compared as one."""
        data = self.index.dataset(list(self.indexed))
        factors = [n for n in data.schema.names if n.startswith(FACTOR) and _plain(n) not in by]
        if not factors or "setup" in by:
            return ()
        table = self.runs(where, columns=[*by, *factors, "left_out"])
        table = table[table["left_out"].isna()]
        groups = table.groupby([_plain(name) for name in by], dropna=False)
        levels = groups[[_plain(n) for n in factors]].agg("nunique")
        mixed = [str(name) for name in levels.columns if (levels[name] > 1).any()]
        return (caution("setups_lumped", factors=", ".join(mixed)),) if mixed else ()

    def _rows(
        self, where: Sequence[str], names: Sequence[str]
    ) -> tuple[list[RunRow], pd.DataFrame]:
        """Return the runs that can be compared, and their lines with these columns."""
        columns = list(dict.fromkeys(["study", "machine", "setup", "left_out", *names, "row"]))
        table = self.runs(where, columns=columns) if self.indexed else pd.DataFrame({"row": []})
        usable = table[table["row"].notna() & table["left_out"].isna()] if len(table) else table
        rows = [row_from_kept(json.loads(text)) for text in usable["row"]]
        kept = [row is not None and row.value is not None for row in rows]
        usable = usable[kept].drop(columns="row").reset_index(drop=True)
        if usable.empty:
            asked = f" where {' and '.join(where)}" if where else ""
            raise InputError(f"{self.address}: no run can be compared{asked}")
        named = [
            # The first mounting in one study is not that of another.
            replace(row, mount=f"{study}: {row.mount}") if row.mount else row
            for row, study in zip(
                (row for row, keep in zip(rows, kept, strict=True) if keep and row),
                usable["study"], strict=True,
            )
        ]  # fmt: skip
        return named, usable


def open_archive(
    address: str | Path,
    *,
    index: str | Path | None = None,
    executor: Executor | None = None,
    progress: Callable[[int, int], None] | None = None,
) -> Archive:
    """Open all studies below a folder or an fsspec address; runs that are new are analysed first.

    Parameters
    ----------
    address : str or Path
        A folder, or an address such as "s3://bench/studies".
    index : str or Path, optional
        Where the index is kept; in the archive itself, as ``.gelassen-archive``, if not given.
    executor : concurrent.futures.Executor, optional
        Where to analyse new runs side by side.
    progress : callable, optional
        Told how many studies are read, and how many there are.

    Raises
    ------
    FileError
        There is no such place, or the index cannot be written.

    Notes
    -----
    A study that cannot be read is named in `Archive.unreadable`, and the others are read.
    """
    place = Place.at(address)
    kept_at = Place.at(_made(index)) if index is not None else replace(
        place, root=f"{place.root.rstrip('/')}/{INDEX}"
    )  # fmt: skip
    kept, names = Index(kept_at), place.studies()
    known = kept.known()
    stamps = {name: _stamp(place, name) for name in names}
    found = {n: one for n, one in known.items() if one.stamp and one.stamp == stamps.get(n)}
    unreadable: list[tuple[str, str]] = []
    new = [name for name in names if name not in found]
    for name, read in zip(new, _each_read(place, new, stamps, executor), strict=True):
        if isinstance(read, str):
            unreadable.append((name, read))
        else:
            found[name] = read[0]
            kept.write(*read)
        if progress is not None:
            progress(len(found) + len(unreadable), len(names))
    for gone in set(known) - set(names):
        kept.forget(gone)
    return Archive(
        str(address), kept, {n: found[n] for n in names if n in found}, tuple(unreadable)
    )


def _stamp(place: Place, study: str) -> str:
    """Return the mark of a study; none where its files cannot be listed, which reading it will say."""
    try:
        return place.stamp(study)
    except OSError:
        return ""


def _made(index: str | Path) -> str | Path:
    """Return the folder of an index, made if it is a new one of this machine."""
    if "://" not in str(index):
        Path(index).mkdir(parents=True, exist_ok=True)
    return index


def _each_read(
    place: Place, names: list[str], stamps: Mapping[str, str], executor: Executor | None
) -> Iterable[tuple[Indexed, pa.Table] | str]:
    """Read studies one by one, with their runs side by side; those of a store side by side.

    A worker copies a study from its store itself, so that no run goes through this process.
    """
    if place.local or executor is None:
        return (_read(place, name, stamps[name], executor) for name in names)
    return as_executor(executor).map(_read, repeat(place), names, [stamps[n] for n in names])


def _read(
    place: Place, name: str, stamp: str, executor: Executor | None = None
) -> tuple[Indexed, pa.Table] | str:
    """Return what the index shall say of a study, or why it cannot be read."""
    try:
        with place.opened(name) as folder:
            study = open_study(folder)
            rows, left_out = study.rows(executor=executor)
            rows = study.with_mountings(rows)
            entry = _entry(name, stamp, study, rows, left_out)
    except (GelassenError, OSError) as error:
        return str(error)
    file = study.file
    levels = {setup: dict(own) for setup, own in file.setups.items()}
    return entry, as_table(
        rows, left_out, title=file.title, machine=file.machine.name, levels=levels
    )


def _entry(
    name: str, stamp: str, study: Study, rows: list[RunRow], left_out: list[tuple[str, str]]
) -> Indexed:
    started = sorted(row.started for row in rows if row.started)
    entry = Indexed(
        study=name, stamp=stamp, title=study.file.title, machine=study.file.machine.name,
        limit_c=study.file.machine.limit_c, made_up=study.is_made_up(rows),
        setups=len({row.setup for row in rows}), runs=len(rows), left_out=len(left_out),
        first=started[0] if started else "", last=started[-1] if started else "",
    )  # fmt: skip
    return replace(entry, **_found(study))


def _found(study: Study) -> dict[str, Any]:
    """Return the coolest setup of a study, as its own comparison says; nothing where there is none."""
    try:
        compared = study.compare()
    except GelassenError:
        return {}
    setups = compared.setups
    told = setups[~setups["at_limit"].astype(bool)] if len(setups) else setups
    if told.empty:
        return {}
    first = told.iloc[0]
    numbers = {"rise": first["rise_k"], "low": first["low_k"], "high": first["high_k"]}
    return {
        "coolest": str(first["setup"]),
        "unit": compared.unit,
        **{key: None if pd.isna(value) else float(value) for key, value in numbers.items()},
    }


def _plain(name: str) -> str:
    return name.removeprefix(FACTOR)


def _mixed(table: pd.DataFrame) -> tuple[Caution, ...]:
    """Say where machines, and with them chips, cases and rooms, differ between what is compared."""
    machines = sorted(set(table["machine"]))
    if len(machines) < 2:
        return ()
    return (caution("several_machines", machines=len(machines)),)
