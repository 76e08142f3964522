"""When a load began and ended, read from power or from the temperature itself."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import median_filter, uniform_filter1d

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.recording.thresholds import AbruptRise
from gelassen.core.recording.thresholds import LoadSpan as At
from gelassen.core.signal.noise import noise_std


@dataclass(frozen=True, slots=True)
class LoadSpan:
    """Start and end of the load in seconds; `found_start` is False where it began before the log."""

    start_s: float
    end_s: float
    found_start: bool
    found_end: bool


def span_from_level(time_s: Floats, level: Floats) -> LoadSpan | None:
    """Find the longest stretch in which power (or load in percent) is high, with its lower steps.

    None if the channel does not tell: constant, or without readings.
    """
    present = np.isfinite(level)
    if present.sum() < At.FEWEST:
        return None
    times, level = time_s[present], level[present]
    low, high = np.percentile(level, At.LEVELS_PCT)
    if high <= 0:
        return None
    smooth = _smooth(times, level)
    low = min(float(low), float(smooth.min()))  # rest is short compared with the load
    if low > At.ALWAYS * high:  # loaded from the first sample to the last
        return LoadSpan(float(time_s[0]), float(time_s[-1]), found_start=False, found_end=False)
    loaded = level > (low + high) / 2
    spans = _joined(times, _runs_of(loaded), _above_rest(smooth, float(high), At.PAUSE_SHARE))
    longest = max(spans, key=lambda span: times[span[1]] - times[span[0]])
    varies = len(spans) < len(_runs_of(loaded))
    first, last = _with_steps(times, smooth, float(high), longest, 0.0 if varies else At.STEP_S)
    first, last = _with_quiet_scenes(times, level, smooth, float(high), (first, last))
    return LoadSpan(
        float(times[first]), float(times[last]), bool(first > 0), bool(last < times.size - 1)
    )


def _smooth(times: Floats, level: Floats) -> Floats:
    """Return a running median over some twenty seconds."""
    pitch_s = float(times[-1] - times[0]) / (times.size - 1)
    width = int(np.clip(At.SMOOTH_S / max(pitch_s, 1e-9), 1, max(times.size // 8, 1))) | 1
    return np.asarray(median_filter(level, width, mode="nearest"))


def _above_rest(smooth: Floats, high: float, share: float) -> Bools:
    """Return where a smoothed level lies clearly above rest."""
    rest = float(smooth.min())
    return np.asarray(smooth > rest + share * (high - rest))


def _with_steps(
    times: Floats, smooth: Floats, high: float, span: tuple[int, int], least_s: float
) -> tuple[int, int]:
    """Add stretches beside the load that lie far above rest and last: the lower steps of a staircase."""
    first, last = span
    share = At.STEP_SHARE if least_s else At.PAUSE_SHARE
    begin, end = _around(first, last, _above_rest(smooth, high, share))
    if times[first] - times[begin] >= least_s:
        first = begin
    if times[end] - times[last] >= least_s:
        last = end
    return first, last


def _with_quiet_scenes(
    times: Floats, level: Floats, smooth: Floats, high: float, span: tuple[int, int]
) -> tuple[int, int]:
    """Return a load with its quiet scenes, if it varies: games begin, pause and end in menus."""
    first, last = span
    begin, end = _around(first, last, _above_rest(smooth, high, At.SCENE_SHARE))
    varies = in_bursts(times[first : last + 1], level[first : last + 1])
    if varies and in_bursts(times[begin : end + 1], level[begin : end + 1]):
        return begin, end
    return span


def _around(first: int, last: int, above_rest: Bools) -> tuple[int, int]:
    """Return the stretch around a load in which nothing is at rest."""
    quiet = np.flatnonzero(~above_rest)
    before, after = quiet[quiet < first], quiet[quiet > last]
    return (
        int(before[-1]) + 1 if before.size else 0,
        int(after[0]) - 1 if after.size else above_rest.size - 1,
    )


def _joined(
    times: Floats, spans: list[tuple[int, int]], above_rest: Bools
) -> list[tuple[int, int]]:
    """Join stretches that a very short gap separates, or that are the bursts of one load.

    A load whose pauses stay above rest is one load that varies.
    """
    hiccup_s = max(At.HICCUP_S, At.HICCUP_SHARE * (times[-1] - times[0]))
    lengths = np.array([times[end] - times[start] for start, end in spans])
    pauses = np.array([times[b[0]] - times[a[1]] for a, b in pairwise(spans)])
    if len(spans) >= At.FEWEST_BURSTS and max(np.median(lengths), np.median(pauses)) <= At.BURST_S:
        hiccup_s = max(hiccup_s, At.BURST_S)
    joined = [spans[0]]
    for start, end in spans[1:]:
        pause_s = times[start] - times[joined[-1][1]]
        varies = pause_s <= At.BURST_S and above_rest[joined[-1][1] : start + 1].mean() > At.MOSTLY
        if pause_s <= hiccup_s or varies:
            joined[-1] = (joined[-1][0], end)
        else:
            joined.append((start, end))
    return joined


def span_from_temperature(time_s: Floats, temperature: Floats) -> LoadSpan:
    """Find the load by the abrupt rise of a temperature, and its abrupt fall if there is one.

    A part that is loaded warms fastest in the first seconds, and cools fastest right after the end.
    Where no such moment stands out, the whole log counts as load.
    """
    whole = LoadSpan(float(time_s[0]), float(time_s[-1]), found_start=False, found_end=False)
    present = np.isfinite(temperature)
    times, values = time_s[present], temperature[present]
    if values.size < AbruptRise.FEWEST:
        return whole
    width = int(np.clip(values.size // AbruptRise.WINDOWS, *AbruptRise.READINGS))
    spread = float(np.ptp(values))
    noise = noise_std(values)
    means = np.convolve(values, np.ones(width) / width, mode="valid")
    change = means[width:] - means[:-width]  # next window minus the one before
    least = max(AbruptRise.SIGMAS * noise * np.sqrt(2 / width), AbruptRise.SHARE * spread, 1e-9)
    leaves = max(AbruptRise.LEAVES_SIGMAS * noise, AbruptRise.LEAVES_SHARE * spread)
    start, found_start = 0, False
    rising = np.flatnonzero(change >= max(least, AbruptRise.STEEPEST * float(change.max())))
    if rising.size and rising[0] > 0:
        # The border between the two windows: before it the part rested, or cooled after an earlier
        # load; a part that climbed already was loaded from before the log.
        border = int(rising[0]) + width
        head = change[: max(int(rising[0]) - width, 1)]
        climbed = float(np.median(head)) > AbruptRise.CLIMBED * float(change.max())
        after = values[min(border + width, values.size - 1) :]
        if not climbed and values[:border].mean() < after.mean():
            start, found_start = _leaves(values, border, width, leaves), True
    end, found_end = values.size - 1, False
    top = start + int(np.argmax(_rolling_mean(values[start:], width)))
    late = change[max(top - width, 0) :]
    steepest = AbruptRise.STEEPEST_FALL * float(-late.min(initial=0.0))
    falling = np.flatnonzero(late <= -max(least, steepest))
    left = values[start] + AbruptRise.FALLEN * (values[top] - values[start])
    falling = falling + max(top - width, 0) + width
    falling = _last_falls(times, _rolling_mean(values, width), start, falling)
    if falling.size:
        last = max(_leaves(-values, int(falling[0]), width, leaves), start + 1)
        undone = found_start and _undone(times, values, start, last)
        if values[-1] < left or undone:
            end, found_end = last, True
    return LoadSpan(float(times[start]), float(times[end]), found_start, found_end)


def _undone(times: Floats, values: Floats, start: int, end: int) -> bool:
    """Return whether the first minute after the end takes back what the first minute of the load brought.

    Heavy coolers are warm for an hour after. The chip itself cools at once.
    """

    def move(at: int) -> float:
        later = int(np.searchsorted(times, times[at] + AbruptRise.MINUTE_S))
        return float(values[min(later, values.size - 1)] - values[at])

    return -move(end) >= AbruptRise.TAKEN_BACK * move(start)


def _last_falls(
    times: Floats, smooth: Floats, start: int, falls: NDArray[np.int64]
) -> NDArray[np.int64]:
    """Return the abrupt falls after which the load does not go on.

    It goes on where the temperature rises again soon. A load that comes and goes may rest for a short time.
    A scene of it that draws little may last longer, but stays above rest.
    """
    range_k = float(np.ptp(smooth))
    rest = smooth[start] + AbruptRise.RESTS * range_k
    while falls.size:
        lowest = np.minimum.accumulate(smooth[falls[0] :])
        rises = np.flatnonzero(smooth[falls[0] :] > lowest + AbruptRise.AGAIN * range_k)
        if not rises.size:
            break
        again = falls[0] + rises[0]
        longest_s = At.BURST_S if lowest[rises[0]] < rest else AbruptRise.SCENE_S
        if times[again] - times[falls[0]] > longest_s:
            break
        falls = falls[falls > again]
    return falls


def _leaves(values: Floats, border: int, width: int, least: float) -> int:
    """Return the last sample before the values leave the level they had ahead of this border."""
    first = max(border - width, 0)
    level = float(np.median(values[max(first - width, 0) : max(first, 1)]))
    still = np.flatnonzero(values[first : border + width] <= level + least)
    return first + int(still[-1]) if still.size else first


def _rolling_mean(values: Floats, width: int) -> Floats:
    return np.asarray(uniform_filter1d(values, width, mode="nearest"))


def load_stretches(time_s: Floats, level: Floats) -> list[tuple[float, float]]:
    """Return start and end of every stretch of load, in s, where power or load shows more than one.

    Stretches that only a hiccup separates are one; those under a minute are left out.
    """
    present = np.isfinite(level)
    if present.sum() < At.FEWEST:
        return []
    times, level = time_s[present], level[present]
    low, high = np.percentile(level, At.LEVELS_PCT)
    if high <= 0 or low > At.ALWAYS * high:
        return []
    loaded = level > (low + high) / 2
    above = _smooth(times, level) > low + At.STEP_SHARE * (high - low)
    for first, last in _runs_of(above):  # lower steps, each a load of its own
        if times[last] - times[first] >= At.STEP_S:
            loaded[first : last + 1] = True
    spans = _runs_of(loaded)
    if not spans:
        return []
    smooth = _smooth(times, level)
    joined = _joined(times, spans, _above_rest(smooth, float(high), At.PAUSE_SHARE))
    longest = max(joined, key=lambda span: times[span[1]] - times[span[0]])
    begin, end = _with_quiet_scenes(times, level, smooth, float(high), longest)
    joined = [one for one in joined if one[1] < begin or one[0] > end]
    joined = sorted([*joined, (begin, end)])
    return [
        (float(times[a]), float(times[b]))
        for a, b in joined
        if times[b] - times[a] >= At.SHORTEST_S
    ]


def _turns(times: Floats, level: Floats) -> int:
    """Return how often a level goes up after it went down, or down after up, by a good part of itself."""
    number = ((times - times[0]) / At.SMOOTH_S).astype(int)
    count = np.bincount(number)
    means = np.bincount(number, level)[count > 0] / count[count > 0]
    moves = np.diff(means)
    ways = np.sign(moves[np.abs(moves) > At.MOVES * max(float(np.median(means)), 0.0)])
    return int(np.count_nonzero(np.diff(ways)))


def alone_span(time_s: Floats, level: Floats, load_s: tuple[float, float]) -> tuple[float, float]:
    """Return from when until when no other load was on: the end of one before, the start of one after."""
    others = load_stretches(time_s, level)
    before = [end for _, end in others if end <= load_s[0] - At.REST_S]
    after = [start for start, _ in others if start >= load_s[1] + At.REST_S]
    return max(before, default=float(time_s[0])), min(after, default=float(time_s[-1]))


def _runs_of(flags: Bools) -> list[tuple[int, int]]:
    """Return first and last sample of each stretch that is flagged."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], flags.astype(int), [0]])))
    return [(int(a), int(b) - 1) for a, b in zip(edges[0::2], edges[1::2], strict=True)]


def in_bursts(times: Floats, level: Floats) -> bool:
    """Return whether a load comes and goes in bursts, by its power or its busy time."""
    read = np.isfinite(level)
    present = level[read]
    if present.size < At.FEWEST_IN_BURSTS:
        return False
    length_s = float(np.ptp(times[read]))
    turns = _turns(times[read], present)
    if turns >= At.FEWEST_BURSTS and length_s <= turns * At.BURST_S:
        return True
    low, high = np.percentile(present, At.BURSTS_PCT)
    if high <= 0 or low > At.PAUSE * high:
        return False
    up = present > low + At.UP * (high - low)
    down = present < low + At.DOWN * (high - low)
    told = np.where(up, 1, np.where(down, -1, 0))
    changes = np.count_nonzero(np.diff(told[told != 0]))
    return bool(changes >= At.FEWEST_BURSTS and length_s <= changes * At.BURST_S)
