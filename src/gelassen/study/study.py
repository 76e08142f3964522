"""A study on disk: its file, its runs, and what they say together."""

from concurrent.futures import Executor
from dataclasses import dataclass, replace
from pathlib import Path

from gelassen.core.errors import FileError, GelassenError, InputError
from gelassen.core.judging import MEAN_OF_CORES, core_channels
from gelassen.core.recording import Recording
from gelassen.core.spelling import nearest
from gelassen.core.summary import RunSummary, summarise_run
from gelassen.study.analysis import StudyComparison, compare_runs
from gelassen.study.archive import read_run
from gelassen.study.samples import SAMPLES_CSV, SAMPLES_PARQUET
from gelassen.study.studyfile import STUDY_FILE, StudyFile, check_setup_name, read_study_file
from gelassen.study.writer import RUN_JSON


@dataclass(frozen=True, slots=True)
class Study:
    """A study and its runs.

    Attributes
    ----------
    folder
        Where it lives.
    file
        What `study.toml` says.
    """

    folder: Path
    file: StudyFile

    def run_folders(self) -> list[Path]:
        """Return the folders of all runs, in order of their numbers."""
        runs = self.folder / "runs"
        if not runs.is_dir():
            return []
        return sorted(p for p in runs.iterdir() if p.is_dir() and not p.name.startswith("."))

    def run(self, name: str) -> Recording:
        """Open one run by its folder name or its number."""
        folders = self.run_folders()
        for folder in folders:
            if name in (
                folder.name,
                folder.name.split("-")[0],
                folder.name.split("-")[0].lstrip("0"),
            ):
                return self._with_limits(read_run(folder))
        names = [folder.name for folder in folders]
        raise InputError(f'there is no run "{name}" in {self.folder}.{nearest(name, names)}')

    def _with_limits(self, recording: Recording) -> Recording:
        """Fill in what the study knows and the run does not say."""
        limit = recording.limit_c if recording.limit_c is not None else self.file.machine.limit_c
        return replace(
            recording,
            limit_c=limit,
            reference=recording.reference or self.file.reference,
            made_up=recording.made_up or self.file.made_up,
        )

    def summaries(
        self, *, confidence: float = 0.95, executor: Executor | None = None
    ) -> tuple[list[RunSummary], list[tuple[str, str]]]:
        """Summarise all runs; return the summaries, and the runs left out with the reason."""
        folders = self.run_folders()
        jobs = [(self, folder, confidence) for folder in folders]
        mapped = executor.map(_summarise, jobs, chunksize=4) if executor else map(_summarise, jobs)
        summaries, left_out = [], []
        for folder, result in zip(folders, mapped, strict=True):
            if isinstance(result, str):
                left_out.append((folder.name, result))
            else:
                summaries.append(result)
        return summaries, left_out

    def compare(
        self,
        *,
        baseline: str | None = None,
        confidence: float = 0.95,
        executor: Executor | None = None,
    ) -> StudyComparison:
        """Compare the setups by steady rise over the reference.

        Parameters
        ----------
        baseline : str, optional
            Setup to compare against; the study's own if not given, else every pair.
        confidence : float
            Share of intervals that should cover the truth.
        executor : concurrent.futures.Executor, optional
            Where to analyse the runs side by side.

        Raises
        ------
        InputError
            An unknown baseline, or a study without a run to compare.
        """
        against = baseline or self.file.baseline
        if against is not None and self.file.setups:
            check_setup_name(self.file, against)
        summaries, left_out = self.summaries(confidence=confidence, executor=executor)
        if not summaries:
            reasons = "; ".join(f"{name}: {why}" for name, why in left_out) or "it has no runs yet"
            raise InputError(f"{self.folder}: nothing to compare ({reasons})")
        return compare_runs(
            summaries,
            left_out,
            title=self.file.title,
            baseline=against,
            confidence=confidence,
            made_up=self.file.made_up or any(s.made_up for s in summaries),
        )


def _summarise(job: tuple[Study, Path, float]) -> RunSummary | str:
    """Return the summary of one run, or why there is none."""
    study, folder, confidence = job
    has_run = any((folder / name).exists() for name in (RUN_JSON, SAMPLES_CSV, SAMPLES_PARQUET))
    if not has_run:
        return "no run in this folder"
    try:
        recording = study._with_limits(read_run(folder))
        compare = study.file.compare
        averaged = compare == MEAN_OF_CORES and core_channels(recording.frame)
        wanted = compare if averaged or compare in recording.frame else None
        return summarise_run(recording, channel=wanted, confidence=confidence)
    except GelassenError as error:
        return str(error)


def open_study(path: str | Path) -> Study:
    """Open a study by its folder.

    Raises
    ------
    FileError
        The folder is no study, or its `study.toml` is wrong; the message says where.
    """
    folder = Path(path)
    if folder.is_file() and folder.name == STUDY_FILE:
        folder = folder.parent
    if not folder.is_dir():
        raise FileError(f"{folder}: there is no such folder")
    return Study(folder, read_study_file(folder / STUDY_FILE))
