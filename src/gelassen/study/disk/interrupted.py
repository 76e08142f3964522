"""Finds runs that ended without notice, such as by a crash, and keeps them as results."""

import os
from pathlib import Path

from gelassen.core.foundation.errors import FileError
from gelassen.study.disk.journal import JOURNAL, goes_on
from gelassen.study.disk.last_samples import last_words
from gelassen.study.disk.run_file import read_run_file
from gelassen.study.disk.samples import SAMPLES_CSV, read_samples
from gelassen.study.disk.writer import RUN_JSON, fold

ENDED_WITHOUT_NOTICE = "ended without notice"


def close_abandoned(runs: Path) -> list[str]:
    """Finish every run in `runs` that nobody records any more; return one line about each."""
    lines = []
    for folder in sorted(runs.iterdir()) if runs.is_dir() else ():
        if not (folder / JOURNAL).exists() or goes_on(folder):
            continue
        try:
            lines.append(f"{folder.name}: {_close(folder)}")
        except (FileError, OSError) as error:
            lines.append(f"{folder.name}: ended without notice, and is left as it is ({error})")
    return lines


def _close(folder: Path) -> str:
    run = read_run_file(folder / RUN_JSON)
    if run.outcome != "recording":  # only the clean-up was cut short
        fold_again = (folder / SAMPLES_CSV).exists()
        if not fold_again:
            (folder / JOURNAL).unlink()
            return f"{run.outcome}; its journal was left over"
    frame, torn = read_samples(folder)
    if frame is None:
        raise FileError("it has no samples")
    words = last_words(frame, run)
    if (folder / SAMPLES_CSV).exists():
        _cut_torn_line(folder / SAMPLES_CSV)
    outcome = ENDED_WITHOUT_NOTICE if run.outcome == "recording" else run.outcome
    fold(folder, run, outcome, [*torn, words])
    return words


def _cut_torn_line(path: Path) -> None:
    size = path.stat().st_size
    with path.open("rb") as stream:
        stream.seek(max(size - (1 << 20), 0))
        tail = stream.read()
    torn = len(tail) - (tail.rfind(b"\n") + 1)
    if torn:
        os.truncate(path, size - torn)
