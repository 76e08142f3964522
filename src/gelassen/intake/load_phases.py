"""Idle, soak, hold and cooldown of a log that has no phases: given by the tester, or found."""

import numpy as np
import pandas as pd

from gelassen.core.foundation.caution import Caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats
from gelassen.core.recording.chips import whole_chips
from gelassen.core.recording.load_span import (
    LoadSpan,
    alone_span,
    load_stretches,
    span_from_level,
)
from gelassen.core.recording.recording import Phase
from gelassen.core.recording.series import series_of

# The code of the caution that the load of a log paused.
LOAD_PAUSED = "load_paused"
_HOLD_S = 600.0
# A shorter time before the load is not rest, only the time between two commands.
_LEAST_S = 5.0
# A processor this busy, this long before power was high, was already under load.
_BUSY_PCT, _LONGER_S = 80.0, 120.0


def find_phases(
    frame: pd.DataFrame,
    *,
    load_start_s: float | None = None,
    load_end_s: float | None = None,
    hold_s: tuple[float, float] | None = None,
) -> tuple[tuple[Phase, ...], list[Caution]]:
    """Return the phases of a log and cautions about its loads. There are no phases if nothing shows them.

    Parameters
    ----------
    frame
        Index `t_s`; columns are channels.
    load_start_s, load_end_s, hold_s
        What the tester says.

    Raises
    ------
    InputError
        A moment that lies outside the log, or a hold outside the load.
    """
    times = frame.index.to_numpy(dtype=float)
    first, last = float(times[0]), float(times[-1])
    notes: list[Caution] = []
    start, end, by, ending = load_start_s, load_end_s, "told", "told"
    for name, moment in (("load start", start), ("load end", end)):
        if moment is not None and not first <= moment <= last:
            raise InputError(
                f"{name} at {moment:g} s lies outside the log ({first:g} to {last:g} s)"
            )
    source, level = load_channel(frame)
    if level is not None and (start is None or end is None):
        inside = times >= (start if start is not None else first)
        span = span_from_level(times[inside], level[inside]) if inside.sum() > 5 else None
        if span is not None and start is None:
            span, source = _with_all_of_the_load(frame, times, span, str(source))
        if span is not None:
            by, ending = (f"found in {source}", "found") if start is None else ("told", "told")
            known = start is not None
            start = span.start_s if start is None and span.found_start else start
            end = span.end_s if end is None and (span.found_end or known) else end
        stretches = load_stretches(times, level)
        others = [s for s in stretches if start is None or not s[0] - 60 <= start <= s[1] + 60]
        if len(stretches) > 1 and load_start_s is None:
            listed = ", ".join(f"{a:.0f} to {b:.0f} s" for a, b in others[:5])
            notes.append(
                Caution(
                    f"the load paused: it was also on from {listed}. The longest stretch is analysed; "
                    "choose another with --load-start, or take each as a run of its own with "
                    "--every-load",
                    code=LOAD_PAUSED,
                )
            )
    if start is None and end is None and hold_s is None:
        return (), notes
    begin = first if start is None else start
    stop = last if end is None else end
    if stop <= begin:
        raise InputError(f"the load ends at {stop:g} s, before it starts at {begin:g} s")
    hold = hold_s or (stop - min(_HOLD_S, (stop - begin) / 3), stop)
    if not begin <= hold[0] < hold[1] <= max(stop, last):
        raise InputError(
            f"the hold from {hold[0]:g} to {hold[1]:g} s does not lie in the load ({begin:g} to {stop:g} s)"
        )
    stop = max(stop, hold[1])
    first, last = (first, last) if level is None else alone_span(times, level, (begin, stop))
    phases = [Phase("idle", first, begin, by, ending)] if begin - first > _LEAST_S else []
    phases += [
        Phase("soak", begin, hold[0], by, ending),
        Phase("hold", hold[0], hold[1], *((by, ending) if hold_s is None else ("told", "told"))),
    ]
    if last - stop > _LEAST_S:
        phases.append(Phase("cooldown", stop, last, by, ending))
    return tuple(phases), notes


def load_channel(frame: pd.DataFrame) -> tuple[str | None, Floats | None]:
    """Return the channel that shows when the load was on, and its readings; None if there is none."""
    processors, cards = (whole_chips(frame, part, "power_w") for part in ("cpu", "gpu"))
    levels = (
        *_most_moved_first(frame, processors), "cpu.all.load_pct",
        *_most_moved_first(frame, cards), "wall.supply.power_w",
    )  # fmt: skip
    source = next((name for name in levels if _moves(frame, name)), None)
    return source, None if source is None else series_of(frame, source)


def _with_all_of_the_load(
    frame: pd.DataFrame, times: Floats, span: LoadSpan, source: str
) -> tuple[LoadSpan, str]:
    """Start where the processor began to work, if that was earlier: power may rise in steps after that."""
    busy = series_of(frame, "cpu.all.load_pct")
    if busy is None or source == "cpu.all.load_pct" or not span.found_start:
        return span, source
    inside = (times >= span.start_s) & (times <= span.end_s) & np.isfinite(busy)
    before = times < span.start_s
    if not inside.any() or np.median(busy[inside]) < _BUSY_PCT:
        return span, source
    idle = np.flatnonzero(before & (busy < 0.6 * np.median(busy[inside])))
    first = int(idle[-1]) + 1 if idle.size else 0
    if span.start_s - times[first] < _LONGER_S:
        return span, source
    started = LoadSpan(float(times[first]), span.end_s, True, span.found_end)
    return started, "cpu.all.load_pct"


def _most_moved_first(frame: pd.DataFrame, names: list[str]) -> list[str]:
    """Return the powers of several chips: those that moved most were loaded."""
    return sorted(names, key=lambda name: frame[name].min() - frame[name].max())


def _moves(frame: pd.DataFrame, name: str) -> bool:
    level = series_of(frame, name)
    return (
        level is not None
        and bool(np.isfinite(level).sum() > 5)
        and float(np.nanmax(level) - np.nanmin(level)) > 0
    )
