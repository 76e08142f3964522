"""Which mounting a run belongs to: whether a change by hand took the cooler off."""

from gelassen.answers import Study
from gelassen.conduct.planning.order import HandChange, PlannedRun
from gelassen.study.disk.run_file import read_run_file
from gelassen.study.disk.writer import RUN_JSON
from gelassen.study.file.levels import takes_cooler_off
from gelassen.study.file.study_file import StudyFile


def remounts(study: StudyFile, change: HandChange) -> bool:
    """Return whether a change by hand takes the cooler off."""
    return change.factor is None or takes_cooler_off(study, change.factor)


def mounting_of(study: Study, planned: PlannedRun) -> str:
    """Return the mounting of the next run: that of the last one, unless a change took the cooler off."""
    runs = [folder / RUN_JSON for folder in study.run_folders()]
    known = [read_run_file(path).mount for path in runs if path.exists()]
    last = known[-1] if known else None
    if last is not None and not any(remounts(study.file, change) for change in planned.changes):
        return last
    taken = set(known)
    return next(name for k in range(1, len(known) + 2) if (name := f"mounting {k}") not in taken)
