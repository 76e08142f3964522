"""The note of values before the run, and the guardian that puts them back, for one process."""

import contextlib
import os
import subprocess
from collections.abc import Sequence
from pathlib import Path

from gelassen.bench.actuators.undo import Before
from gelassen.bench.actuators.undo_notes import UndoNote, claimed, note_folder, prepare_folder
from gelassen.core.foundation.errors import BenchError
from gelassen.system.processes import is_ready, start_own

_READY_S = 20.0  # starting Python takes a second or two on a machine under full load


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
                prepare_folder(folder)
                self._note = UndoNote(folder / f"settings-{os.getpid()}-{id(self)}.json")
            if reason := claimed(entries, self._note.path):
                raise BenchError(f"{entries[0].setting}: {reason}; nothing was changed")
            for entry in entries:
                entry.check()
            self._watch(self._note.path)
            self._note.add(entries)
        except ValueError as error:
            raise BenchError(
                f"{entries[0].setting} could not be put back after a crash ({error}); nothing was changed"
            ) from None
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

    def check(self) -> str:
        """Make sure that a guardian watches while settings are changed; return what was found."""
        if self._note is None or not self._note.entries or self._guarded():
            return ""
        try:
            self._watch(self._note.path)
        except (OSError, BenchError) as error:
            return (
                f"the guardian, which puts settings back after a crash, has ended, and no other one "
                f"starts ({error})"
            )
        return "the guardian, which puts settings back after a crash, had ended; another one watches now"

    def _guarded(self) -> bool:
        return self._guardian is not None and self._guardian.poll() is None

    def _watch(self, note: Path) -> None:
        """Start the guardian if there is none, and wait until it is ready."""
        if self._guarded():
            return
        self._rest()
        guardian = start_own(
            "gelassen.bench.actuators.guardian",
            str(note),
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            start_new_session=True,  # Ctrl-C and the end of the terminal must not reach it
        )
        if not is_ready(guardian, _READY_S):
            guardian.kill()
            self._guardian = guardian
            self._rest()
            raise BenchError(
                "the guardian, which puts settings back after a crash, does not start; nothing was "
                "changed. Is memory short, or is the installation damaged?"
            )
        self._guardian = guardian

    def _rest(self) -> None:
        guardian, self._guardian = self._guardian, None
        if guardian is None:
            return
        for stream in (guardian.stdin, guardian.stdout):
            if stream is not None:
                stream.close()
        with contextlib.suppress(subprocess.TimeoutExpired):
            guardian.wait(timeout=10)
