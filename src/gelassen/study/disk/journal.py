"""The journal of a run that is being recorded: phases and events as they happen, one a line."""

import json
import math
import os
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, TextIO

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.recording.recording import Event, Phase
from gelassen.system.files import read_text

JOURNAL = "journal.jsonl"

try:
    import fcntl
except ImportError:  # not on every system
    fcntl = None  # type: ignore[assignment]


class JournalWriter:
    """Writes a journal and keeps it locked. While the lock is held, the run is being recorded."""

    def __init__(self, folder: Path) -> None:
        self._stream: TextIO = (folder / JOURNAL).open("x", encoding="utf-8")
        if fcntl is not None:
            fcntl.flock(self._stream.fileno(), fcntl.LOCK_EX | fcntl.LOCK_NB)

    def phase(self, name: str, start_s: float) -> None:
        """Note that a phase begins."""
        self._note({"phase": name, "at_s": start_s})

    def phase_ended(self, name: str, end_s: float, ended_by: str, ending: str = "") -> None:
        """Note that a phase ended, and what ended it, in words and as one of `ENDINGS`."""
        self._note({"phase_ended": name, "at_s": end_s, "by": ended_by, "ending": ending})

    def event(self, at_s: float, text: str) -> None:
        """Note something that happened."""
        self._note({"event": text, "at_s": at_s})

    def _note(self, entry: dict[str, Any]) -> None:
        self._stream.write(json.dumps(entry, ensure_ascii=False) + "\n")
        self._stream.flush()

    def sync(self) -> None:
        """Force the journal to disk."""
        os.fsync(self._stream.fileno())

    def close(self) -> None:
        """Close the journal; the run no longer goes on."""
        self._stream.close()


def goes_on(folder: Path) -> bool:
    """Return whether another process is still recording this run."""
    path = folder / JOURNAL
    if fcntl is None or not path.is_file():
        return False
    try:
        with path.open("rb") as stream:
            fcntl.flock(stream.fileno(), fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except OSError:  # a file system without locks
        return False
    return False


def read_journal(path: Path) -> tuple[list[Phase], list[Event], list[Caution]]:
    """Return phases, events, and cautions about torn lines."""
    phases: list[Phase] = []
    events: list[Event] = []
    cautions: list[Caution] = []
    for number, line in enumerate(read_text(path, errors="replace").split("\n"), start=1):
        if not line:
            continue
        try:
            entry = json.loads(line)
            at_s = float(entry["at_s"])
            if not math.isfinite(at_s):  # JSON's readers take Infinity and 1e999
                raise ValueError("no time")
        except (ValueError, KeyError, TypeError, RecursionError, OverflowError):
            cautions.append(caution("line_torn", file=path.name, line=number))
            continue
        if "phase" in entry:
            phases.append(Phase(str(entry["phase"]), at_s, math.nan))
        elif "phase_ended" in entry and phases:
            last = phases[-1]
            by, ending = str(entry.get("by", "")), str(entry.get("ending", ""))
            phases[-1] = Phase(last.name, last.start_s, at_s, by, ending)
        elif "event" in entry:
            events.append(Event(at_s, str(entry["event"])))
    return phases, events, cautions


def closed(phases: Sequence[Phase], end_s: float) -> list[Phase]:
    """End open phases where the samples end."""
    return [
        phase if math.isfinite(phase.end_s) else replace(phase, end_s=max(end_s, phase.start_s))
        for phase in phases
    ]
