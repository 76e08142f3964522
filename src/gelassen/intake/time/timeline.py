"""Turns the stamps of a log into increasing seconds, across midnight, daylight saving and clock changes."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Literal

import numpy as np

from gelassen.core.foundation.counted import counted
from gelassen.core.foundation.errors import FileError
from gelassen.core.foundation.inputs import Bools, Floats

DAY_S = 86_400.0
_HOUR_S = 3_600.0
# With more corrections than this, the times are not those of one log.
_MOST = 3


@dataclass(slots=True)
class Timeline:
    """Times in s that never run backwards, in the order `order` of the rows.

    Attributes
    ----------
    time_s
        One a row, in the unit and from the zero of the stamps.
    order
        Rows in order of time.
    notes
        What was corrected, and where.
    kept
        Which rows belong to the part that was asked for.
    """

    time_s: Floats
    order: np.ndarray
    notes: list[str] = field(default_factory=list)
    kept: Bools | None = None


Kind = Literal["moment", "of day", "elapsed"]


def straighten(
    time_s: Floats,
    *,
    kind: Kind,
    local: bool,
    line_of: Callable[[int], int],
    where: str,
    part: int | None = None,
    twelve_without_mark: bool = False,
) -> Timeline:
    """Return times that never run backwards, and cautions about corrections.

    Parameters
    ----------
    time_s : ndarray, shape (n,)
        In the order of the rows, without NaN.
    kind
        "moment" for stamps with a date, "of day" without, "elapsed" for times that count from a start.
    local
        Whether stamps follow a local clock, which daylight saving moves.
    line_of
        Line of a row in the file.
    part
        Which part to take of a log that starts again; counted from 1.

    Raises
    ------
    FileError
        The times run backwards in a way that is no known one.
    """
    times = time_s.astype(float).copy()
    kept = np.ones(times.size, dtype=bool)
    notes: list[str] = []
    usual = _usual_step(times)
    if kind == "of day":
        notes += _midnight(times, usual, line_of, twelve_without_mark)
    elif kind == "moment" and local:
        notes += _midnight_of_one_date(times, usual, line_of)
        notes += _daylight(times, usual, line_of)
    back = np.flatnonzero(np.diff(times) < 0)
    if back.size and _only_out_of_order(times, back, usual):
        order = np.argsort(times, kind="stable")
        moved = int((order != np.arange(times.size)).sum())
        notes.append(
            f"sorted by time: {counted(moved, 'row')} out of order, the first near line "
            f"{line_of(int(back[0]) + 1)}"
        )
        return Timeline(times[order], order, notes, kept)
    if back.size and (part is not None or kind == "elapsed"):
        kept, more = _one_part(times, back, part, line_of, where)
        notes += more
    elif back.size > _MOST:
        raise FileError(
            f"{where}, line {line_of(int(back[0]) + 1)}: time runs backwards, and "
            f"{back.size - 1} times more. "
            'Is the right column the time? Say which: --column "HEADER=t_s"'
        )
    else:
        for at in back:
            jump = float(times[at + 1] - times[at])
            times[at + 1 :] += usual - jump
            notes.append(
                f"guessed: the clock was set back by {usual - jump:g} s at line "
                f"{line_of(int(at) + 1)}; from there on "
                f"times are counted on from the sample before"
            )
    return Timeline(times, np.arange(times.size), notes, kept)


def _usual_step(times: Floats) -> float:
    steps = np.diff(times)
    ahead = steps[steps > 0]
    return float(np.median(ahead)) if ahead.size else 0.0


def _midnight(
    times: Floats, usual: float, line_of: Callable[[int], int], twelve: bool
) -> list[str]:
    notes = []
    for at in np.flatnonzero(np.diff(times) < 0):
        fall = float(times[at] - times[at + 1])
        if fall > DAY_S / 2 and DAY_S - fall < max(60 * usual, 6 * _HOUR_S):
            times[at + 1 :] += DAY_S
            notes.append(f"midnight was crossed at line {line_of(int(at) + 1)}")
        elif twelve and abs(fall + usual - DAY_S / 2) < max(10 * usual, 5.0):
            times[at + 1 :] += DAY_S / 2
            notes.append(
                f"guessed: a 12-hour clock without a.m. or p.m. passed 12 at line {line_of(int(at) + 1)}"
            )
    return notes


def _midnight_of_one_date(times: Floats, usual: float, line_of: Callable[[int], int]) -> list[str]:
    """Repair logs that write the date of their start beside a running time of day."""
    notes = []
    for at in np.flatnonzero(np.diff(times) < 0):
        fall = float(times[at] - times[at + 1])
        late, early = times[at] % DAY_S, times[at + 1] % DAY_S
        if (
            abs(fall - DAY_S) <= max(10 * usual, 5.0)
            and late > 0.98 * DAY_S
            and early < 0.02 * DAY_S
        ):
            times[at + 1 :] += DAY_S
            notes.append(
                f"midnight was crossed at line {line_of(int(at) + 1)}, where the date did not change"
            )
    return notes


def _daylight(times: Floats, usual: float, line_of: Callable[[int], int]) -> list[str]:
    """Remove the hour by which a local clock is moved twice a year, on a Sunday night."""
    notes = []
    steps = np.diff(times)
    near = max(3 * usual, 2.0)
    for at in np.flatnonzero(np.abs(np.abs(steps - usual) - _HOUR_S) <= near):
        moment = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(seconds=float(times[at + 1]))
        forward = bool(steps[at] > 0)
        spring, autumn = moment.month in (3, 4, 9, 10), moment.month in (9, 10, 11, 3, 4)
        if moment.weekday() != 6 or moment.hour > 3 or not (spring if forward else autumn):
            continue
        times[at + 1 :] += -_HOUR_S if forward else _HOUR_S
        way = "forward to" if forward else "back from"
        notes.append(
            f"guessed: the clock went {way} daylight-saving time at line {line_of(int(at) + 1)}"
        )
    return notes


def _only_out_of_order(times: Floats, back: np.ndarray, usual: float) -> bool:
    """Return whether rows are only swapped with near neighbours."""
    if usual <= 0:
        return False
    falls = times[back] - times[back + 1]
    if falls.max() > 20 * usual:
        return False
    order = np.argsort(times, kind="stable")
    moved = np.abs(order - np.arange(times.size))
    # A clock that was set back repeats times. Swapped rows do not.
    sorted_steps = np.diff(times[order])
    crowded = int((sorted_steps < 0.3 * usual).sum()) - int((np.diff(times) == 0).sum())
    return bool(moved.max() <= 20 and (crowded <= back.size and (moved > 0).mean() < 0.5))


def _one_part(
    times: Floats, back: np.ndarray, part: int | None, line_of: Callable[[int], int], where: str
) -> tuple[Bools, list[str]]:
    """Choose one part of a log that was started again."""
    starts = [0, *(back + 1)]
    ends = [*(back + 1), times.size]
    if part is None:
        listed = "; ".join(
            f"part {n}: lines {line_of(int(a))} to {line_of(int(b) - 1)}, {times[b - 1] - times[a]:g} s"
            for n, (a, b) in enumerate(zip(starts[:6], ends[:6], strict=True), start=1)
        )
        more = f" and {len(starts) - 6} more" if len(starts) > 6 else ""
        raise FileError(
            f"{where}, line {line_of(int(back[0]) + 1)}: time runs backwards ({times[back[0]]:g} s, then "
            f"{times[back[0] + 1]:g} s), so the log was started again, and how long it paused "
            f"is not in it. Take one part: --part N ({listed}{more})"
        )
    if not 1 <= part <= len(starts):
        raise FileError(f"{where}: there is no part {part}; the log has {len(starts)}")
    kept = np.zeros(times.size, dtype=bool)
    kept[starts[part - 1] : ends[part - 1]] = True
    return kept, [
        f"only part {part} of {len(starts)} is taken, from line {line_of(int(starts[part - 1]))}"
    ]


def gaps(times: Sequence[float] | np.ndarray) -> tuple[float, list[tuple[float, float]]]:
    """Return the usual interval of samples in s, and the gaps that are five times longer."""
    moments = np.asarray(times, dtype=float)
    steps = np.diff(moments)
    if steps.size == 0:
        return float("nan"), []
    usual = float(np.median(steps[steps > 0])) if (steps > 0).any() else 0.0
    wide = np.flatnonzero(steps > max(5 * usual, 1e-9)) if usual else np.zeros(0, dtype=int)
    return usual, [(float(moments[k]), float(moments[k + 1])) for k in wide]
