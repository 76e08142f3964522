"""What people add to a run by hand, during the run and afterwards: readings and events.

Notes have their own file, `notes.jsonl`. Lines are only appended to it, so a recorder that writes at the
same moment cannot destroy a note.
"""

import json
import math
import os
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from gelassen.core.foundation.caution import Caution, caution

NOTES = "notes.jsonl"


@dataclass(frozen=True, slots=True)
class Note:
    """Readings and words for one moment, in s from the start of the recording."""

    at_s: float
    readings: Mapping[str, float]
    text: str = ""


def add_note(folder: Path, note: Note) -> None:
    """Append a note; it is on disk when this returns."""
    entry = {"at_s": note.at_s, "readings": dict(note.readings), "text": note.text}
    line = json.dumps(entry, ensure_ascii=False) + "\n"
    descriptor = os.open(folder / NOTES, os.O_CREAT | os.O_WRONLY | os.O_APPEND, 0o644)
    try:
        os.write(descriptor, line.encode())
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def read_notes(folder: Path) -> tuple[list[Note], list[Caution]]:
    """Return the notes of a run in order of time, and cautions about torn lines."""
    path = folder / NOTES
    if not path.exists():
        return [], []
    notes: list[Note] = []
    cautions: list[Caution] = []
    lines = path.read_text(encoding="utf-8", errors="replace").splitlines()
    for number, line in enumerate(lines, start=1):
        try:
            entry = json.loads(line)
            readings = {str(k): float(v) for k, v in entry["readings"].items()}
            note = Note(float(entry["at_s"]), readings, str(entry.get("text", "")))
            if not math.isfinite(note.at_s):
                raise ValueError
        except (ValueError, KeyError, TypeError, AttributeError):
            cautions.append(caution("line_unreadable", file=path.name, line=number))
            continue
        notes.append(note)
    return sorted(notes, key=lambda note: note.at_s), cautions
