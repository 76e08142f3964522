"""Moments at which the conditions changed during a run: a panel removed, a fan stopped."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.grid import make_grid
from gelassen.core.inputs import (
    Floats,
    SeriesLike,
    as_confidence,
    as_series,
    as_time,
    need_readings,
)
from gelassen.core.loadspan import span_from_temperature
from gelassen.core.noise import noise_density, quantisation_error
from gelassen.core.result import Result

# How fast the channel may follow a change: at once (fan speed, power) or through heat capacities.
_FOLLOWS_S = (0.0, 15.0, 45.0, 120.0, 300.0, 700.0)
# What may go on anyway: the approach after the start of the load.
_APPROACH_S = (8.0, 30.0, 90.0, 240.0, 600.0, 1500.0)
_START_S = 60.0
# Changes below this share of the whole course are left to the noise.
_SMALLEST = 0.03
_MOST_STEPS = 8
_MOMENTS = 160


@dataclass(frozen=True, slots=True, kw_only=True)
class Step(Result):
    """One change of conditions.

    Attributes
    ----------
    at_s, low_s, high_s
        When it happened, with its interval, in s.
    before, after
        Where the channel was settling before and after it, in the channel's unit.
    """

    at_s: float
    low_s: float
    high_s: float
    before: float
    after: float

    def __str__(self) -> str:
        way = "up" if self.after > self.before else "down"
        return (
            f"changed at {self.at_s:.0f} s ({self.low_s:.0f} to {self.high_s:.0f} s): "
            f"{way} by {abs(self.after - self.before):.1f}"
        )


def find_steps(
    time_s: SeriesLike, values: SeriesLike, *, confidence: float = 0.95
) -> tuple[Step, ...]:
    """Find the moments at which the conditions changed; the load's own start and end are none.

    Parameters
    ----------
    time_s, values : array_like, shape (n,)
        Sample times in s and one channel: best a rise over the room, but also power or fan speed.
    confidence : float
        How sure a step must be to be told, and the share of intervals that cover its moment.

    Raises
    ------
    InputError
        Arrays of different lengths, times that run backwards, no reading at all.

    Notes
    -----
    The course is modelled as an approach (exponentials with fixed time constants) plus a few changes,
    each of which the channel follows at once or with a time constant of up to 12 minutes. They are
    added one by one, the one that explains most first; those that explain no more than noise with
    the memory of the residual would are thrown out again. Not yet done: changes within the first
    minute of the load; a power that wanders, and a room that drifts, look like slow changes.
    """
    times = as_time(time_s)
    series = as_series("values", values, like=times)
    need_readings("values", series)
    confidence = as_confidence(confidence)
    span = span_from_temperature(times, series)
    # A boost at the start of the load, and the chip's own quick answer, are not a change.
    # Without a start, what falls is no load that ends but a fan that stops, or the like.
    begin_s = span.start_s + _START_S if span.found_start else float(times[0])
    end_s = span.end_s if span.found_start else float(times[-1])
    used = (times >= begin_s) & (times <= end_s) & np.isfinite(series)
    if used.sum() < 60:
        return ()
    grid = make_grid(times[used], float(times[used][-1]))
    width = max(grid.size // 600, 1)  # 3 s bins for half an hour: fine enough for a moment
    curve = grid.averaged(times[used], series[used])
    moments, course = _coarse(grid.times_s, curve, width)
    floor = quantisation_error(series[used])
    return _search(moments, course, confidence, floor)


def _coarse(times: Floats, curve: Floats, width: int) -> tuple[Floats, Floats]:
    count = times.size // width
    blocks = curve[: count * width].reshape(count, width)
    present = np.isfinite(blocks)
    total = np.where(present, blocks, 0.0).sum(axis=1)
    weight = present.sum(axis=1)
    keep = weight > 0
    middle = times[: count * width].reshape(count, width).mean(axis=1)
    return middle[keep], total[keep] / weight[keep]


def _search(times: Floats, course: Floats, confidence: float, floor: float) -> tuple[Step, ...]:
    """Add the change that explains most, again and again, until none explains enough."""
    elapsed = times - times[0]
    length = float(elapsed[-1])
    step_s = float(np.median(np.diff(times)))
    base = np.column_stack(
        [np.ones_like(elapsed)]
        + [np.exp(-elapsed / tau) for tau in _APPROACH_S if tau < 1.5 * length]
    )
    margin = max(60.0, 0.03 * length)
    moments = np.linspace(margin, length - max(20.0, 0.01 * length), _MOMENTS)
    candidates = [(moment, follow) for follow in _FOLLOWS_S for moment in moments]
    columns = np.column_stack([_changes(elapsed, moments, follow) for follow in _FOLLOWS_S])
    # The best of many candidates is large by chance too: the bar rises with their number.
    needed = 2 * np.log(len(candidates) / (1 - confidence)) + 25
    pitch = float(moments[1] - moments[0])
    found: list[tuple[float, float]] = []
    kept = found
    while len(found) < _MOST_STEPS:
        # An enclosure put on and taken off again: neither change stands out before both are known,
        # so a change that does not pay for itself is given a second one to stand beside it.
        trial = found
        for _ in range(2):
            best = _best_change(elapsed, course, base, trial, candidates, columns)
            if best is None:
                break
            trial = [*trial, _refined(elapsed, course, base, trial, best, pitch, (best[1],))]
            kept = _kept(elapsed, course, base, trial, needed, floor, step_s)
            if len(kept) > len(found):
                break
        if len(kept) <= len(found):
            break
        found = kept
        for k in range(len(found)):
            others = found[:k] + found[k + 1 :]
            found[k] = _refined(elapsed, course, base, others, found[k], pitch, _FOLLOWS_S)
    found = _kept(elapsed, course, base, found, needed, floor, step_s)
    return _as_steps(times, elapsed, course, base, found, step_s)


def _kept(
    elapsed: Floats,
    course: Floats,
    base: Floats,
    found: list[tuple[float, float]],
    needed: float,
    floor: float,
    step_s: float,
) -> list[tuple[float, float]]:
    """Throw out the change that explains least, again and again, until all explain enough."""
    kept = sorted(found)
    length = float(elapsed[-1])
    while kept:
        solution, left = _solve(_design(elapsed, base, kept), course)
        density = max(noise_density(left, step_s), 1e-9)
        noise = 4 * np.sqrt(density / max(0.05 * length, 30.0))
        least = max(noise, 1.5 * floor, _SMALLEST * float(np.ptp(course)), 1e-6)
        worth = []
        for k in range(len(kept)):
            _, without = _solve(_design(elapsed, base, kept[:k] + kept[k + 1 :]), course)
            gain = float(without @ without - left @ left) * step_s / density
            worth.append(gain if abs(solution[base.shape[1] + k]) >= least else 0.0)
        weakest = int(np.argmin(worth))
        if worth[weakest] >= needed:
            break
        del kept[weakest]
    return kept


def _changes(elapsed: Floats, moments: Floats, follow: float) -> Floats:
    """Return one column a moment: how a channel follows a change of size 1 then."""
    after = elapsed[:, None] - moments
    if follow == 0:
        return np.where(after >= 0, 1.0, 0.0)
    return -np.expm1(-np.maximum(after, 0) / follow)


def _design(elapsed: Floats, base: Floats, changes: list[tuple[float, float]]) -> Floats:
    columns = [_changes(elapsed, np.array([moment]), follow) for moment, follow in changes]
    return np.column_stack([base, *columns])


def _solve(design: Floats, course: Floats) -> tuple[Floats, Floats]:
    # A slight ridge: approaches of similar length would otherwise cancel each other's huge amplitudes.
    scale = float(np.ptp(course)) or 1.0
    ridge = np.sqrt(1e-4) * np.eye(design.shape[1])
    ridge[0, 0] = 0
    level = float(course.mean())
    matrix = np.vstack([design, ridge])
    target = np.concatenate([(course - level) / scale, np.zeros(design.shape[1])])
    solution = np.linalg.lstsq(matrix, target, rcond=None)[0]
    solution = solution * scale
    solution[0] += level
    return solution, course - design @ solution


def _best_change(
    elapsed: Floats,
    course: Floats,
    base: Floats,
    found: list[tuple[float, float]],
    candidates: list[tuple[float, float]],
    columns: Floats,
) -> tuple[float, float] | None:
    """Return the candidate that, freed of what is already modelled, fits the rest best."""
    q, _ = np.linalg.qr(_design(elapsed, base, found))
    left = course - q @ (q.T @ course)
    free = columns - q @ (q.T @ columns)
    norm = (free**2).sum(axis=0)
    usable = norm > 1e-6 * elapsed.size
    score = np.where(usable, (left @ free) ** 2 / np.maximum(norm, 1e-12), 0.0)
    at = np.array([moment for moment, _ in candidates])
    for moment, _ in found:  # one change explains one moment
        score[np.abs(at - moment) < max(30.0, 0.02 * elapsed[-1])] = 0
    place = int(np.argmax(score))
    return candidates[place] if score[place] > 0 else None


def _refined(
    elapsed: Floats,
    course: Floats,
    base: Floats,
    others: list[tuple[float, float]],
    change: tuple[float, float],
    pitch: float,
    follows: tuple[float, ...],
) -> tuple[float, float]:
    """Shift the moment between the coarse ones to where it fits best."""
    best, answer = np.inf, change
    for follow in follows:
        for moment in change[0] + np.linspace(-2 * pitch, 2 * pitch, 17):
            _, left = _solve(_design(elapsed, base, [*others, (float(moment), follow)]), course)
            misfit = float(left @ left)
            if misfit < best:
                best, answer = misfit, (float(moment), follow)
    return answer


def _as_steps(
    times: Floats,
    elapsed: Floats,
    course: Floats,
    base: Floats,
    found: list[tuple[float, float]],
    step_s: float,
) -> tuple[Step, ...]:
    if not found:
        return ()
    found = sorted(found)
    solution, left = _solve(_design(elapsed, base, found), course)
    density = max(noise_density(left, step_s), 1e-9)
    level = float(solution[0])
    steps = []
    for k, (moment, _) in enumerate(found):
        size = float(solution[base.shape[1] + k])
        low, high = _moment_interval(elapsed, course, base, found, k, density, step_s)
        steps.append(
            Step(
                at_s=float(times[0] + moment),
                low_s=float(times[0] + min(low, moment)),
                high_s=float(times[0] + max(high, moment)),
                before=level,
                after=level + size,
            )
        )
        level += size
    return tuple(steps)


def _moment_interval(
    elapsed: Floats,
    course: Floats,
    base: Floats,
    found: list[tuple[float, float]],
    which: int,
    density: float,
    step_s: float,
) -> tuple[float, float]:
    """Return the moments that explain the course nearly as well (profile likelihood)."""
    moment, follow = found[which]
    reach = max(4 * step_s, 0.15 * follow, 0.01 * float(elapsed[-1]))
    trials = moment + np.linspace(-reach, reach, 41)
    misfits = []
    for trial in trials:
        changes = [*found[:which], (float(trial), follow), *found[which + 1 :]]
        _, left = _solve(_design(elapsed, base, changes), course)
        misfits.append(float(left @ left) * step_s / density)
    near = trials[np.array(misfits) <= min(misfits) + 4.0]
    return float(near.min() - step_s / 2), float(near.max() + step_s / 2)
