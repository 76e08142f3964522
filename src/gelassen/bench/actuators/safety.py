"""The note of values before the run, and the guardian that puts them back, for one process."""

import contextlib
import os
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

from gelassen.bench.actuators.undo import Before, UndoNote, claimed, note_folder
from gelassen.core.foundation.errors import BenchError


class SafetyNet:
    """Keeps the values from before; one for each bench."""

    def __init__(self) -> None:
        self._note: UndoNote | None = None
        self._guardian: subprocess.Popen[bytes] | None = None

    def remember(self, entries: Sequence[Before]) -> None:
        """Note the value that will change, and make sure that a guardian watches.

        Raises
        ------
        BenchError
            It cannot be noted; nothing may be changed then.
        """
        folder = note_folder()
        try:
            if self._note is None:
                folder.mkdir(parents=True, exist_ok=True)
                self._note = UndoNote(folder / f"settings-{os.getpid()}-{id(self)}.json")
            if reason := claimed(entries, self._note.path):
                raise BenchError(f"{entries[0].setting}: {reason}; nothing was changed")
            self._note.add(entries)
            self._watch(self._note.path)
        except OSError as error:
            raise BenchError(
                f"the values to put back cannot be noted in {folder} ({error.strerror or error}): "
                "nothing was changed. Set GELASSEN_STATE to a folder that can be written"
            ) from None

    def put_back(self, setting: str) -> list[str]:
        """Put one setting back; return what went wrong."""
        if self._note is None:
            return []
        problems = self._note.put_back(setting)
        if not self._note.entries:
            self._rest()
        return problems

    def _watch(self, note: Path) -> None:
        if self._guardian is not None and self._guardian.poll() is None:
            return
        self._guardian = subprocess.Popen(
            [sys.executable, "-m", "gelassen.bench.actuators.guardian", str(note)],
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,  # Ctrl-C and the end of the terminal must not reach it
        )

    def _rest(self) -> None:
        guardian, self._guardian = self._guardian, None
        if guardian is None:
            return
        if guardian.stdin is not None:
            guardian.stdin.close()
        with contextlib.suppress(subprocess.TimeoutExpired):
            guardian.wait(timeout=10)
