"""Flags over time: spans, pauses between them, and running medians."""

from itertools import pairwise

import numpy as np
from scipy.ndimage import median_filter

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.thresholds import Flags


def usual_gap_s(times: Floats) -> float:
    """Return the time between two samples, as it usually is; a second where there is none."""
    gaps = np.diff(times)
    gaps = gaps[gaps > 0]
    return float(np.median(gaps)) if gaps.size else 1.0


def running_median(values: Floats, times: Floats, width_s: float) -> Floats:
    """Return the running median over some seconds, so that single readings do not decide."""
    width = 2 * round(width_s / usual_gap_s(times) / 2) + 1
    filled = forward(values)
    if width < 3 or values.size < width:
        return filled
    return np.asarray(median_filter(filled, size=width, mode="nearest"))


def forward(values: Floats) -> Floats:
    """Hold the last reading over gaps."""
    present = np.isfinite(values)
    if present.all():
        return values
    last = np.maximum.accumulate(np.where(present, np.arange(values.size), -1))
    first = int(np.argmax(present))
    return np.asarray(values[np.maximum(last, first)])


def spans_of(times: Floats, flags: Bools) -> list[tuple[float, float]]:
    """Return first and last time in s of each stretch that is flagged."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], flags, [False]]).astype(int)))
    return [
        (float(times[a]), float(times[b - 1])) for a, b in zip(edges[::2], edges[1::2], strict=True)
    ]


def joined_spans(times: Floats, flags: Bools, pause_s: float) -> list[tuple[float, float]]:
    """Return the flagged stretches, those as one that lie no farther apart than a pause."""
    joined: list[tuple[float, float]] = []
    for start, end in spans_of(times, flags):
        if joined and start - joined[-1][1] <= pause_s:
            joined[-1] = (joined[-1][0], end)
        else:
            joined.append((start, end))
    return joined


def within(times: Floats, start_s: float, end_s: float) -> slice:
    """Return which samples lie between two times, both included; samples are in order."""
    return slice(
        int(np.searchsorted(times, start_s)), int(np.searchsorted(times, end_s, side="right"))
    )


def tidied(times: Floats, flags: Bools) -> Bools:
    """Join spans that a short pause separates, then drop spans that are too short."""
    joined = flags.copy()
    spans = spans_of(times, flags)
    for (_, end), (start, _) in pairwise(spans):
        if start - end <= Flags.PAUSE_S:
            joined[within(times, end, start)] = True
    tidy = np.zeros_like(joined)
    for start, end in spans_of(times, joined):
        if end - start >= Flags.SHORTEST_S:
            tidy[within(times, start, end)] = True
    return tidy
