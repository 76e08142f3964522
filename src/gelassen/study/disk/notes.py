"""What people add to a run by hand, during the run and afterwards: readings and events.

Notes have their own file, `notes.jsonl`. Lines are only appended to it, so a recorder that writes at the
same moment cannot destroy a note.
"""

import json
import math
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from gelassen.core.foundation.caution import Caution, caution
from gelassen.system.files import append_line, read_text

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
    append_line(folder / NOTES, json.dumps(entry, ensure_ascii=False))


def read_notes(folder: Path) -> tuple[list[Note], list[Caution]]:
    """Return the notes of a run in order of time, and cautions about torn lines."""
    path = folder / NOTES
    if not path.exists():
        return [], []
    notes: list[Note] = []
    cautions: list[Caution] = []
    try:
        lines = read_text(path, errors="replace").split("\n")
    except OSError as error:
        return [], [caution("file_unreadable", file=NOTES, why=error.strerror or str(error))]
    for number, line in enumerate(lines, start=1):
        if not line:
            continue
        try:
            entry = json.loads(line)
            readings = {str(k): float(v) for k, v in entry["readings"].items()}
            note = Note(float(entry["at_s"]), readings, str(entry.get("text", "")))
            if not math.isfinite(note.at_s):
                raise ValueError
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError, OverflowError):
            cautions.append(caution("line_unreadable", file=path.name, line=number))
            continue
        notes.append(note)
    return sorted(notes, key=lambda note: note.at_s), cautions
