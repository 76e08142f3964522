"""A column of words that says what ran when: each change of it is an event of the run."""

from collections.abc import Sequence
from itertools import pairwise

from gelassen.core.foundation.inputs import Floats
from gelassen.core.recording.recording import Event
from gelassen.intake.text.cells import is_missing
from gelassen.intake.text.rows import shown

# Headers of such columns, in small letters.
MARK_HEADERS = frozenset({
    "activity", "app", "application", "benchmark", "event", "game", "job", "label", "load", "mark",
    "marker", "phase", "process", "program", "running", "scene", "section", "stage", "task", "test",
    "title", "workload",
})  # fmt: skip
END = "end of "
_MOST = 500  # changes: a column with more tells a state, not what ran
_LONGEST = 60  # letters of a name
_SHORT_S, _SHORT_SHARE = 30.0, 0.05  # how late after a load began its mark may come


def find_marks(times_s: Floats, cells: Sequence[str]) -> list[Event]:
    """Return the moments at which the words change, in s; none if they never do, or too often.

    Words may stand in every row, or only in the row where something begins. In the first case, the rows
    without words are those after its end.
    """
    name = {cell: "" if is_missing(cell) else _name(cell) for cell in set(cells)}
    texts = [name[cell] for cell in cells]
    filled = sum(bool(text) for text in texts)
    moments = filled < len(texts) / 20
    events, before = [], ""
    for at_s, text in zip(times_s.tolist(), texts, strict=True):
        if text == before or (moments and not text):
            continue
        events.append(Event(float(at_s), text or f"{END}{before}"))
        before = text
    several = len({event.text for event in events}) > 1
    return events if several and len(events) <= _MOST else []


def _name(cell: str) -> str:
    """Return what a cell calls it, no longer than fits into a table."""
    text = shown(cell)
    return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"


def mark_of(events: Sequence[Event], load_s: tuple[float, float]) -> str | None:
    """Return what was marked when a load began, shortly after that, or before it; None if nothing was."""
    late_s = load_s[0] + max(_SHORT_S, _SHORT_SHARE * (load_s[1] - load_s[0]))
    said = [event.text for event in events if event.at_s <= late_s]
    return said[-1] if said and not said[-1].startswith(END) else None


def cut_at_marks(
    loads: Sequence[tuple[float, float]], events: Sequence[Event], least_s: float
) -> list[tuple[float, float]]:
    """Return the loads, each cut where a mark within it says that something else began."""
    found = []
    for start, end in loads:
        inside = [e.at_s for e in events if start + least_s <= e.at_s <= end - least_s]
        borders = [start, *dict.fromkeys(inside), end]
        found += [(a, b) for a, b in pairwise(borders) if b - a >= least_s]
    return found
