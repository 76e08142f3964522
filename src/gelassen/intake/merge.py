"""Merges several logs of one run into one recording: clocks aligned, rates kept, nothing made up."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta

import numpy as np
import pandas as pd

from gelassen.core.changes.alignment import Alignment, align_changes
from gelassen.core.foundation.caution import Caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats
from gelassen.core.recording.recording import Origin, Recording
from gelassen.intake.meaning.columns import TIME

# Channels that show the load, the most sudden first, and how much later than power they may respond.
_DRIVERS = (
    (".power_w", 0.0), (".load_pct", 0.0), (".current_a", 0.0), (".clock_mhz", 0.0),
    (".temp_c", 4.0), (".speed_rpm", 8.0),
)  # fmt: skip
_STEPWISE = ("_flag", "_count")
_TRIED = 4
_GAP = 5.0


@dataclass(frozen=True, slots=True)
class Joined:
    """How one log was aligned with the first.

    Attributes
    ----------
    name
        The log.
    offset_s, low_s, high_s
        What was added to its times.
    how
        "told", "wall clock" or "matched changes".
    pair
        Channels whose changes were matched: of the first log, of this one.
    alignment
        The matching, where it could be done.
    """

    name: str
    offset_s: float
    low_s: float
    high_s: float
    how: str
    pair: tuple[str, str] | None = None
    alignment: Alignment | None = None


def merge_logs(
    recordings: Sequence[Recording],
    *,
    offsets: Mapping[str, float] | None = None,
    match: bool = False,
) -> tuple[Recording, list[Joined]]:
    """Merge logs of one run.

    Parameters
    ----------
    recordings : sequence of Recording
        The first one's clock is kept.
    offsets : mapping, optional
        Name of a log to the seconds that its elapsed times lie after the first log's.
    match : bool
        Match the moments of change even where both logs have a wall clock.

    Returns
    -------
    Recording
        At the times of the log that samples fastest, and beyond its ends at those of the others.
        Channels of other logs are interpolated between their own samples, never beyond them and
        never across a gap.
    list of Joined
        One for each log after the first.

    Raises
    ------
    InputError
        The logs do not overlap, or it cannot be told how they lie.
    """
    first = recordings[0]
    told = dict(offsets or {})
    unknown = [name for name in told if name not in {r.name for r in recordings[1:]}]
    if unknown:
        raise InputError(
            f'an offset is told for "{unknown[0]}", but the logs after the first are: '
            + ", ".join(r.name for r in recordings[1:])
        )
    joined: list[Joined] = []
    cautions = list(first.cautions)
    for other in recordings[1:]:
        entry, words = _lay(first, other, told.get(other.name), match=match)
        _must_overlap(first, other, entry)
        joined.append(entry)
        noticed = [Caution(text, code="clock_of_log") for text in words]
        cautions += [one.of(other.name) for one in (*noticed, *other.cautions)]
    later_s = [0.0, *(entry.offset_s for entry in joined)]
    frame, origins, notes = _table(recordings, later_s)
    earlier_s = max(-float(frame.index[0]), 0.0)
    frame.index = pd.Index(np.round(frame.index + earlier_s, 6), name=TIME)
    merged = replace(
        first,
        frame=frame,
        channels=origins,
        cautions=tuple(
            dict.fromkeys([*cautions, *(Caution(text, code="merged_channels") for text in notes)])
        ),
        phases=(),
        started=None if first.started is None else first.started - timedelta(seconds=earlier_s),
        events=tuple(
            replace(event, at_s=event.at_s + offset_s + earlier_s)
            for one, offset_s in zip(recordings, later_s, strict=True)
            for event in one.events
        ),
    )
    return merged, joined


def _lay(
    first: Recording, other: Recording, offset_s: float | None, *, match: bool
) -> tuple[Joined, list[str]]:
    if offset_s is not None:
        return Joined(other.name, offset_s, offset_s, offset_s, "told"), []
    pair, alignment = best_match(first, other)
    known = alignment is not None and math.isfinite(alignment.offset_s)
    if first.started is not None and other.started is not None and not match:
        offset = (other.started - first.started).total_seconds()
        words = []
        if (
            known
            and pair is not None
            and alignment is not None
            and not alignment.low_s - 2 <= offset <= alignment.high_s + 2
        ):
            words.append(
                f"its clock seems to differ from that of {first.name} by "
                f"{offset - alignment.offset_s:+.1f} s "
                f"(changes of {pair[0]} and {pair[1]}): --match lays the changes together"
            )
        return Joined(other.name, offset, offset, offset, "wall clock", pair, alignment), words
    if not known or alignment is None:
        why = alignment.cautions[0] if alignment is not None else "no channel changes in both"
        raise InputError(
            f"how {other.name} lies to {first.name} in time is not known: they have no wall "
            f"clock in common, and {why}. "
            f"Say it: --offset {other.name}=SECONDS"
        )
    return (
        Joined(
            other.name,
            alignment.offset_s,
            alignment.low_s,
            alignment.high_s,
            "matched changes",
            pair,
            alignment,
        ),
        [
            f"its times were moved by {alignment.offset_s:.1f} s ({alignment.low_s:.1f} to "
            f"{alignment.high_s:.1f} s), by matching changes"
        ],
    )


def best_match(
    first: Recording, other: Recording
) -> tuple[tuple[str, str] | None, Alignment | None]:
    """Return the two channels whose changes give the best offset, and that offset."""
    best: tuple[tuple[str, str], Alignment] | None = None
    poor: Alignment | None = None
    for name_a, lag_a in _drivers(first):
        for name_b, lag_b in _drivers(other):
            try:
                found = align_changes(
                    first.frame.index, first.frame[name_a], other.frame.index, other.frame[name_b],
                    later_s=lag_b - lag_a,
                )  # fmt: skip
            except InputError:
                continue
            if not math.isfinite(found.offset_s):
                poor = poor or found
            elif best is None or _rank(found) > _rank(best[1]):
                best = ((name_a, name_b), found)
    return (None, poor) if best is None else best


def _rank(found: Alignment) -> float:
    return found.correlation - 0.02 * (found.high_s - found.low_s)


def _drivers(recording: Recording) -> list[tuple[str, float]]:
    chosen: list[tuple[str, float]] = []
    frame = recording.frame
    for ending, lag in _DRIVERS:
        names = [n for n in frame.columns if n.endswith(ending) and frame[n].notna().sum() > 5]
        names = [n for n in names if not n.startswith("room.")]
        if names:
            spread = frame[names].max() - frame[names].min()
            widest = str(spread.idxmax())
            if spread.max() > 0:
                chosen.append((widest, lag))
    return chosen[:_TRIED]


def _must_overlap(first: Recording, other: Recording, entry: Joined) -> None:
    a, b = first.frame.index, other.frame.index
    start, end = float(b[0]) + entry.offset_s, float(b[-1]) + entry.offset_s
    if end >= a[0] and start <= a[-1]:
        return
    apart = start - float(a[-1]) if start > a[-1] else float(a[0]) - end
    side = "after" if start > a[-1] else "before"
    raise InputError(
        f"the two logs do not overlap: {other.name} lies {apart:.0f} s {side} {first.name} (by "
        f"{entry.how}). If its "
        f"clock was wrong, use --match or say --offset {other.name}=SECONDS; if these are two "
        f"runs, use --each"
    )


def _table(
    recordings: Sequence[Recording], offsets: Sequence[float]
) -> tuple[pd.DataFrame, dict[str, Origin], list[str]]:
    times = [
        r.frame.index.to_numpy(dtype=float) + offset
        for r, offset in zip(recordings, offsets, strict=True)
    ]
    usual = [_usual(t) for t in times]
    fastest = int(np.argmin(usual))
    base = times[fastest]
    outside = [t[(t < base[0]) | (t > base[-1])] for t in times]
    grid = np.unique(np.concatenate([base, *outside])) if any(o.size for o in outside) else base
    columns: dict[str, Floats] = {}
    origins: dict[str, Origin] = {}
    notes: list[str] = []
    for recording, own, step in zip(recordings, times, usual, strict=True):
        exact = own.size == grid.size and bool(np.allclose(own, grid))
        for name in recording.frame.columns:
            if name in columns:
                notes.append(f"{recording.name}: {name} is in another log too; that one is kept")
                continue
            values = recording.frame[name].to_numpy(dtype=float)
            columns[name] = (
                values
                if exact
                else between_own_samples(
                    grid, own, values, stepwise=name.endswith(_STEPWISE), longest_s=_GAP * step
                )
            )
            origin = recording.channels.get(name, Origin(name))
            origins[name] = replace(origin, header=f"{recording.name}: {origin.header}")
        if not exact and recording is not recordings[fastest]:
            notes.append(
                f"{recording.name}: sampled every {step:g} s; its channels are interpolated "
                f"between their own samples, "
                "never beyond them"
            )
    frame = pd.DataFrame(columns, index=pd.Index(grid, name=TIME))
    return frame, origins, notes


def _usual(times: Floats) -> float:
    steps = np.diff(times)
    return float(np.median(steps[steps > 0])) if (steps > 0).any() else math.inf


def between_own_samples(
    grid: Floats, times: Floats, values: Floats, *, stepwise: bool, longest_s: float
) -> Floats:
    """Return values at other times, from the readings on either side; NaN beyond them or in a gap."""
    present = np.isfinite(values)
    present[1:] &= np.diff(times) > 0
    t, x = times[present], values[present]
    if t.size == 0:
        return np.full(grid.size, np.nan)
    after = np.searchsorted(t, grid - 1e-9)
    hit = (after < t.size) & (np.abs(t[np.minimum(after, t.size - 1)] - grid) <= 1e-9)
    inside = (after > 0) & (after < t.size)
    result = np.full(grid.size, np.nan)
    right, left = np.minimum(after, t.size - 1), np.maximum(after - 1, 0)
    near = inside & (t[right] - t[left] <= max(longest_s, 1e-9))
    if stepwise:
        result[near] = x[left[near]]
    else:
        result[near] = np.interp(grid[near], t, x)
    result[hit] = x[right[hit]]
    return result
