"""Writes one run, sample by sample, so that no sample is lost, whatever happens next.

While a run is recorded its folder holds `run.json` (what was set up), `samples.csv` (one line a
sample, with the kernel before the next is taken) and `journal.jsonl`. Finishing folds the journal
into `run.json` and turns the samples into `samples.parquet`, which is read back and compared before
the CSV is deleted. A small file is kept in reserve: on a full disk, its space is used to note the end.
"""

import contextlib
import json
import math
import os
import re
import shutil
import threading
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from gelassen.core.foundation.errors import FileError
from gelassen.core.recording.channels import slug
from gelassen.study.disk.journal import JOURNAL, JournalWriter, closed, read_journal
from gelassen.study.disk.run_file import CautionEntry, EventEntry, PhaseEntry, RunFile
from gelassen.study.disk.samples import (
    SAMPLES_CSV,
    SAMPLES_PARQUET,
    last_csv_time_s,
    last_time_s,
    parquet_from_csv,
    rehearse,
)
from gelassen.system.files import replace_file, sync

RUN_JSON = "run.json"
_RESERVE = ".reserve"
_RESERVE_BYTES = 64 << 10
_MOST_CELLS = 8192
_SYNC_S = 5.0  # the kernel keeps written lines if this program crashes, but not in a power cut


class _Cells(dict[float, str]):
    """The text of values, cached: readings of coarse sensors repeat."""

    def __missing__(self, value: float) -> str:
        if len(self) >= _MOST_CELLS:
            self.clear()
        text = self[value] = repr(float(value)) if value == value else ""
        return text


def new_run_folder(runs: Path, label: str) -> Path:
    """Make and return the next numbered folder in `runs`, such as `007-brise-120`."""
    runs.mkdir(parents=True, exist_ok=True)
    for _ in range(100):
        numbers = [int(m[1]) for p in runs.iterdir() if (m := re.match(r"(\d+)-", p.name))]
        name = slug(label).replace("_", "-")[:60]
        folder = runs / f"{max(numbers, default=0) + 1:03d}-{name}"
        try:
            folder.mkdir()
        except FileExistsError:  # another recording took the number at the same moment
            continue
        return folder
    raise FileError(f"{runs}: no free run number found")


class RunWriter:
    """Writes one run into a folder of its own."""

    def __init__(self, folder: Path, columns: Sequence[str], run: RunFile) -> None:
        self.folder = folder
        self.columns = tuple(columns)
        self._run = run
        try:
            self._fd = os.open(
                folder / SAMPLES_CSV, os.O_CREAT | os.O_EXCL | os.O_WRONLY | os.O_APPEND, 0o644
            )
        except FileExistsError:
            raise _taken(folder) from None
        self._length = 0
        self._texts = _Cells()
        self._lost = False
        with contextlib.ExitStack() as undo:  # a full disk or Ctrl-C leaves no empty run
            undo.callback(shutil.rmtree, folder, ignore_errors=True)
            undo.callback(os.close, self._fd)
            try:
                self._journal = JournalWriter(folder)
                undo.callback(self._journal.close)
                self._begin()
            except OSError as error:
                raise FileError(
                    f"{folder}: the run could not be begun ({error.strerror or error}); nothing was "
                    "recorded"
                ) from None
            undo.pop_all()
        self._ended = threading.Event()
        self._syncer = threading.Thread(target=self._sync_now_and_then, daemon=True)
        self._syncer.start()

    def _begin(self) -> None:
        write_json(self.folder / RUN_JSON, self._run.model_dump(mode="json"))
        with (self.folder / _RESERVE).open("wb") as stream:
            stream.write(b"\0" * _RESERVE_BYTES)
        self._append(",".join(("t_s", *self.columns)) + "\n")
        rehearse(self.folder, self._run)
        self._sync()
        sync(self.folder)

    @classmethod
    def create(cls, folder: Path, columns: Sequence[str], run: RunFile) -> "RunWriter":
        """Start a run in an empty folder; one that holds a run is refused."""
        if (folder / RUN_JSON).exists():
            raise _taken(folder)
        return cls(folder, columns, run)

    def sample(self, t_s: float, values: Mapping[str, float]) -> None:
        """Store one sample. The kernel has it before this returns.

        If the disk is full, no half line is left behind and OSError is raised. FileError is raised if the
        folder was moved or deleted.
        """
        if self._lost:
            raise self.lost()
        texts = self._texts
        cells = [texts[values.get(column, math.nan)] for column in self.columns]
        self._append(f"{t_s:.3f},{','.join(cells)}\n")

    def phase(self, name: str, start_s: float) -> None:
        """Note that a phase begins."""
        self._journal.phase(name, start_s)

    def phase_ended(self, name: str, end_s: float, ended_by: str, ending: str = "") -> None:
        """Note that a phase ended, and what ended it, in words and as one of `ENDINGS`."""
        self._journal.phase_ended(name, end_s, ended_by, ending)

    def event(self, at_s: float, text: str) -> None:
        """Note something that happened."""
        self._journal.event(at_s, text)

    def _append(self, line: str) -> None:
        data = line.encode()
        try:
            written = os.write(self._fd, data)
            while written < len(data):
                written += os.write(self._fd, data[written:])
        except BaseException:
            with contextlib.suppress(OSError):
                os.ftruncate(self._fd, self._length)
            raise
        self._length += len(data)

    def _sync(self) -> None:
        with contextlib.suppress(OSError):  # a failing disk shows in the next write
            os.fsync(self._fd)
            self._journal.sync()

    def _sync_now_and_then(self) -> None:
        # In a thread of its own: a slow disk must not make samples late.
        while not self._ended.wait(_SYNC_S):
            self._sync()
            self._lost = not self.in_place()

    def in_place(self) -> bool:
        """Return whether the samples still are where they were begun."""
        try:
            return os.path.samestat(os.fstat(self._fd), (self.folder / SAMPLES_CSV).stat())
        except OSError:
            return False

    def lost(self) -> FileError:
        """Return the error for a folder that is gone."""
        return FileError(
            f"{self.folder} was moved or deleted while the run was recorded, so the run was ended. If it "
            "was moved, what was recorded is there"
        )

    def close(self) -> None:
        """Close the files and leave the run unfinished; it opens as one that ended without notice."""
        if self._ended.is_set():
            return
        self._ended.set()
        self._syncer.join()
        with contextlib.suppress(OSError):
            self._sync()
            self._journal.close()
        os.close(self._fd)

    def finish(self, outcome: str, cautions: Sequence[str] = ()) -> None:
        """End the run: samples become Parquet, the journal becomes part of `run.json`."""
        self.close()
        fold(self.folder, self._run, outcome, cautions)


def fold(folder: Path, run: RunFile, outcome: str, cautions: Sequence[str]) -> None:
    """End a run whose files are closed. Samples that cannot be turned into Parquet stay as CSV."""
    (folder / _RESERVE).unlink(missing_ok=True)
    more = []
    kept_as_csv = False
    try:
        done_before = (folder / SAMPLES_PARQUET).exists() and not (folder / SAMPLES_CSV).exists()
        last_s = last_time_s(folder) if done_before else parquet_from_csv(folder, run)
    except (OSError, FileError) as error:
        kept_as_csv = True
        errno = getattr(error, "errno", None)
        reason = os.strerror(errno) if errno else error
        more.append(f"the samples stay in {SAMPLES_CSV} ({reason})")
        last_s = last_csv_time_s(folder / SAMPLES_CSV)
    phases, events, torn = read_journal(folder / JOURNAL)
    finished = run.model_copy(
        update={
            "outcome": outcome,
            "phases": [PhaseEntry(**asdict(phase)) for phase in closed(phases, last_s)],
            "events": [EventEntry(**asdict(event)) for event in events],
            "cautions": [*run.cautions, *map(CautionEntry.of, (*cautions, *torn, *more))],
        }
    )
    content = finished.model_dump(mode="json")
    try:
        write_json(folder / RUN_JSON, content)
    except OSError:
        if kept_as_csv:
            raise
        (folder / SAMPLES_CSV).unlink(
            missing_ok=True
        )  # its samples are safe, and its space is needed
        write_json(folder / RUN_JSON, content)
    if not kept_as_csv:
        (folder / SAMPLES_CSV).unlink(missing_ok=True)
    (folder / JOURNAL).unlink()
    sync(folder)


def write_json(path: Path, content: Mapping[str, Any]) -> None:
    """Replace a file as a whole, so that a crash leaves the old one or the new one."""
    replace_file(path, json.dumps(content, indent=2, ensure_ascii=False) + "\n")


def _taken(folder: Path) -> FileError:
    return FileError(f"{folder} already holds a run; nothing was written. Choose another folder")
