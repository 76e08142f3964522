"""Levels of a load: stretches in which the same work was asked of the chip.

More busy cores draw more power at a lower clock, and a lighter load draws less. In neither case was the
chip held back. So each level of a load is judged by itself. One thing shows only between levels: if two
different loads draw the same power, a power limit holds both.
"""

import numpy as np

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.flags import running_median, spans_of, usual_gap_s
from gelassen.core.throttling.chip_log import ChipLog
from gelassen.core.throttling.thresholds import LoadLevels as At


def levels_of_load(log: ChipLog) -> list[Bools]:
    """Return the samples of each level, one array for each; the whole load where it is one."""
    moves = _moves(log)
    if moves is None or not log.loaded.any():
        return [log.loaded]
    start_s, end_s = log.times[log.loaded][[0, -1]]
    at = [start_s]
    for span_s in spans_of(log.times, moves):
        at_s = float(np.mean(span_s))  # the change lies in the middle of the seconds that show it
        if start_s + At.EDGE_S < at_s < end_s - At.EDGE_S:
            at.append(at_s)
    at.append(end_s)
    if len(at) > At.MOST + 1 or np.diff(at).min() < At.SHORTEST_S:
        return [log.loaded]  # it comes and goes: no level lasts
    number = np.searchsorted(at[1:-1], log.times, side="right")
    return [log.loaded & (number == level) for level in range(len(at) - 1)]


def _moves(log: ChipLog) -> Bools | None:
    """Return around which samples the load changed; None if nothing tells."""
    power, clock, load = (
        None if one is None else _change(one, log.times, relative=one is not log.load)
        for one in (log.power, log.clock, log.load)
    )
    if power is None:
        return None if load is None else np.abs(load) > At.LOAD_PCT
    # A limit takes power and clock together, and no work. A heavier load takes clock and draws more.
    told, moved = np.zeros(power.size, dtype=bool), np.abs(power) > At.POWER
    if load is not None:
        told |= moved & (np.abs(load) > At.LOAD_PCT) & (load * power > 0)
    if clock is not None:
        told |= moved & (np.abs(clock) > At.CLOCK) & (clock * power < 0)
        # At a power limit, more work lowers the clock, and the power stays.
        heavier = True if load is None else (np.abs(load) > At.LOAD_PCT) & (load * clock < 0)
        told |= heavier & (np.abs(power) < At.SAME_POWER) & (np.abs(clock) > At.CLOCK_ALONE)
    return told


def shared_powers(log: ChipLog, levels: list[Bools]) -> list[float]:
    """Return, for each level, the power in W that it shares with a neighbour of another clock; else NaN.

    A power that is the same in all samples was noted by somebody, and shows no limit.
    """
    limits = [float("nan")] * len(levels)
    if log.power is None or log.clock is None or np.ptp(log.power[log.loaded]) == 0:
        return limits
    watts, clocks = (
        [float(np.nanmedian(series[level])) for level in levels]
        for series in (log.power, log.clock)
    )
    for k in range(len(levels) - 1):
        same = abs(np.log(watts[k + 1] / watts[k])) < At.SAME_POWER
        if same and abs(np.log(clocks[k + 1] / clocks[k])) > At.CLOCK_ALONE:
            limits[k] = limits[k + 1] = watts[k]
    return limits


def _change(series: Floats, times: Floats, *, relative: bool) -> Floats:
    """Return by how much a series changes within some seconds around each sample."""
    smooth = running_median(series, times, At.SMOOTH_S)
    if relative:
        smooth = np.log(smooth.clip(min=1e-9))
    far = max(round(At.FAR_S / usual_gap_s(times)), 1)
    padded = np.pad(smooth, far, mode="edge")
    return np.asarray(np.nan_to_num(padded[2 * far :] - padded[: -2 * far]))
