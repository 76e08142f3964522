"""When a load began and ended, read from power or from the temperature itself."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.inputs import Floats


@dataclass(frozen=True, slots=True)
class LoadSpan:
    """Start and end of the load in seconds; `found_start` is False where it began before the log."""

    start_s: float
    end_s: float
    found_start: bool
    found_end: bool


def span_from_level(time_s: Floats, level: Floats) -> LoadSpan | None:
    """Find the longest stretch in which power (or load in percent) is high.

    None if the channel does not tell: constant, or without readings.
    """
    present = np.isfinite(level)
    if present.sum() < 5:
        return None
    low, high = np.percentile(level[present], [2, 90])
    if high <= 0:
        return None
    if low > 0.6 * high:  # loaded from the first sample to the last
        return LoadSpan(float(time_s[0]), float(time_s[-1]), found_start=False, found_end=False)
    times, loaded = time_s[present], level[present] > (low + high) / 2
    edges = np.flatnonzero(np.diff(loaded.astype(int)))
    starts = [0, *(edges + 1)] if loaded[0] else list(edges[~loaded[edges]] + 1)
    if loaded[0]:
        starts = [0, *(edges[~loaded[edges]] + 1)]
    ends = [*edges[loaded[edges]], times.size - 1] if loaded[-1] else list(edges[loaded[edges]])
    spans = _joined(times, list(zip(starts, ends, strict=True)))
    first, last = max(spans, key=lambda span: times[span[1]] - times[span[0]])
    return LoadSpan(
        float(times[first]), float(times[last]), bool(first > 0), bool(last < times.size - 1)
    )


def _joined(times: Floats, spans: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Join stretches that only a hiccup separates: under 5 s, or a fiftieth of the log."""
    hiccup_s = max(5.0, (times[-1] - times[0]) / 50)
    joined = [spans[0]]
    for start, end in spans[1:]:
        if times[start] - times[joined[-1][1]] <= hiccup_s:
            joined[-1] = (joined[-1][0], end)
        else:
            joined.append((start, end))
    return joined


def span_from_temperature(time_s: Floats, temperature: Floats) -> LoadSpan:
    """Find the load by what it does to a temperature: an abrupt rise, perhaps an abrupt fall.

    A part that is loaded warms fastest in the first seconds, and cools fastest right after the end.
    Where no such moment stands out, the whole log counts as load.
    """
    whole = LoadSpan(float(time_s[0]), float(time_s[-1]), found_start=False, found_end=False)
    present = np.isfinite(temperature)
    times, values = time_s[present], temperature[present]
    if values.size < 20:
        return whole
    width = max(min(values.size // 40, 10), 2)
    change = values[width:] - values[:-width]
    spread = float(np.ptp(values))
    noise = 1.5 * float(np.median(np.abs(np.diff(values, 2)))) + 1e-9
    least = max(0.12 * spread, 5 * noise)
    start, found_start = 0, False
    rising = np.flatnonzero(change >= max(least, 0.5 * float(change.max())))
    if rising.size and rising[0] > 2:
        first = int(rising[0])
        # Before the rise the part rested, or cooled after an earlier load; it did not climb.
        before = values[: first + 1]
        climbed = before[-1] - before.min() > 0.35 * spread
        if not climbed and before.mean() < values[first + width :].mean():
            low = values[first] + least / 3
            below = np.flatnonzero(values[first : first + width + 1] <= low)
            start, found_start = first + int(below[-1]), True
    end, found_end = values.size - 1, False
    top = start + int(np.argmax(_rolling_mean(values[start:], width)))
    falling = np.flatnonzero(change[top:] <= -least) if top < change.size else np.array([], int)
    if falling.size and values[-1] < values[start] + 0.6 * (values[top] - values[start]):
        first = top + int(falling[0])
        dropped = np.flatnonzero(values[first:] < values[first] - least / 3)
        end, found_end = max(first + int(dropped[0]) - 1, start + 1), True
    return LoadSpan(float(times[start]), float(times[end]), found_start, found_end)


def _rolling_mean(values: Floats, width: int) -> Floats:
    return np.convolve(values, np.ones(width) / width, mode="same")
