"""Which state a chip was in at each sample. Courses of its clock and unstated limits are found with it."""

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.flags import running_median
from gelassen.core.signal.noise import MAD_TO_STD
from gelassen.core.throttling.likelihoods import likelihoods
from gelassen.core.throttling.moves import moves
from gelassen.core.throttling.readings import Readings
from gelassen.core.throttling.smoother import smooth_states
from gelassen.core.throttling.states import Courses, Line, State, fitted_line
from gelassen.core.throttling.thresholds import Course, Model, Moves, Reading, Search


@dataclass(frozen=True, slots=True)
class Found:
    """Probability of each state at each sample, shape (n, 5), and how well all that explains the log.

    `limit_w` is the power limit of the best guess, stated or found; None if it has none, or if it changes.
    """

    probability: Floats
    evidence: float
    limit_w: float | None


@dataclass(frozen=True, slots=True)
class _Fit:
    courses: Courses
    probability: Floats
    evidence: float


def find_states(log: Readings) -> Found:
    """Return the states of a chip over time.

    Notes
    -----
    A hidden Markov model. Its courses are found by expectation and maximisation, from several first
    guesses: with no power limit, and with a limit at each level of power that the chip kept. Each counts
    by its evidence: the likelihood, times the share of its prior range that each fitted number occupies.
    Several guesses may lead to the same power limit. Then only the best of them counts.
    """
    few = log.thinned(max(round(log.times.size / Search.SAMPLES), 1))
    fits = _distinct([_fit(few, guess) for guess in _guesses(few)])
    evidence = np.array([fit.evidence for fit in fits])
    weights = np.exp(evidence - evidence.max())
    weights /= weights.sum()
    every = -(-log.times.size // Search.MOST)
    fine = log.thinned(every)
    probability = np.zeros((fine.times.size, len(State)))
    for fit, weight in zip(fits, weights, strict=True):
        if weight > Search.WEIGHT:
            probability += weight * _states(fine, _full(fine, fit.courses))[0]
    probability = np.repeat(probability, every, axis=0)[: log.times.size]
    probability /= probability.sum(axis=1, keepdims=True)
    probability[~log.loaded] = np.eye(len(State))[State.FREE]
    return Found(probability, float(evidence.max()), _limit_w(fits[0].courses))


def _limit_w(courses: Courses) -> float | None:
    """Return the power limit, in W; None if there is none, or if it changes."""
    if courses.limit is None or np.ptp(courses.limit) > 0:
        return None
    return float(np.exp(courses.limit[0]))


def _distinct(fits: list[_Fit]) -> list[_Fit]:
    """Return the best fit for each power limit, and the best without one; the best of all first."""
    kept: list[_Fit] = []
    for fit in sorted(fits, key=lambda one: -one.evidence):
        limits = [one.courses.limit for one in kept]
        mine = fit.courses.limit
        alike = (
            limit is mine
            or (limit is not None and mine is not None and abs(limit[0] - mine[0]) < Search.APART)
            for limit in limits
        )
        if not any(alike):
            kept.append(fit)
    return kept


def _full(log: Readings, courses: Courses) -> Courses:
    """Return the courses of thinned samples for all samples."""
    if courses.limit is None:
        return courses
    limit = np.full(log.times.size, courses.limit[0]) if log.stated is None else log.stated
    return replace(courses, limit=limit)


def _states(log: Readings, courses: Courses) -> tuple[Floats, float, Bools]:
    change, first = moves(log, courses)
    fits, close = likelihoods(log, courses)
    probability, evidence = smooth_states(first, change, fits)
    return probability, evidence, close


def _guesses(log: Readings) -> Iterator[tuple[Courses, Floats]]:
    """Yield first guesses: courses, and the weight of each state at each sample."""
    used = log.warm & log.speed.read
    if not used.any():
        used = log.loaded & log.speed.read
    smooth = running_median(log.speed.value, log.times, Reading.BEST_S)
    highest = np.sort(smooth[used])[-min(Search.HIGHEST, int(used.sum()))]
    away = used & ~log.near
    lines = [Line(float(highest)), _straight(log, away)]
    for limit in _limits(log, away):
        for line in lines:
            if line is None:
                continue
            weights = np.zeros((log.times.size, len(State)))
            off = np.abs(log.speed.value - line.over(log.temperature))
            weights[:, State.FREE] = log.shows & (off < Search.NEAR_BEST * log.steepness)
            if limit is not None and log.smooth_power is not None:
                held = log.shows & (np.abs(log.smooth_power.value - limit) < Model.BAND)
                weights[held, State.POWER], weights[held, State.FREE] = 1.0, 0.0
            yield Courses(line, limit=limit), weights


def _straight(log: Readings, away: Bools) -> Line | None:
    """Return the course that most samples away from the temperature limit keep; None if there are few."""
    if away.sum() <= Search.FEWEST:
        return None
    line, weight = None, away.astype(float)
    for _ in range(Search.STRAIGHTENED):
        line = _speed_line(log, weight, first=True) or line
        if line is not None:
            off = np.abs(log.speed.value - line.over(log.temperature))
            weight = away * (off < max(3 * log.speed.noise, Search.STRAIGHT))
    return None if line is None else replace(line, samples=0.0)


def _speed_line(log: Readings, weight: Floats, *, first: bool = False) -> Line | None:
    """Return the course of the speed that weighted samples show; None if there are too few."""
    low, high = (log.steepness * end for end in Course.CLOCK_PER_K)
    if not (log.has_clock or first):  # power may rise as a chip warms: it leaks
        high = Course.POWER_PER_K[1]
    sd = log.steepness * Course.CLOCK_SD * (2 if first else 1)
    return fitted_line(log.temperature, log.speed, weight, (low, high), sd)


def _limits(log: Readings, away: Bools) -> list[Floats | None]:
    """Return the power limits to try: the stated one, or levels of power that the chip kept; and none."""
    if log.stated is not None and log.smooth_power is not None:
        return [log.stated]
    found: list[Floats | None] = [None]
    if log.smooth_power is None:
        return found
    left = log.smooth_power.value[away & log.smooth_power.read]
    while left.size >= Search.FEWEST and len(found) <= Search.LEVELS:
        edges = np.arange(left.min() - Search.ALIKE, left.max() + 2 * Search.ALIKE, Search.ALIKE)
        counts, _ = np.histogram(left, edges)
        middle = float(edges[int(np.argmax(counts))]) + Search.ALIKE / 2
        level = float(np.median(left[np.abs(left - middle) < Search.ALIKE]))
        if counts.max() < Search.FULL * Search.FEWEST:
            break
        found.append(np.full(log.times.size, level))
        left = left[np.abs(left - level) > Search.APART]
    return found


def _fit(log: Readings, guess: tuple[Courses, Floats]) -> _Fit:
    courses, weights = guess
    evidence, close = 0.0, np.ones(log.times.size, dtype=bool)
    for round_ in range(Search.ROUNDS):
        courses = _better(log, courses, weights, close, first=round_ == 0)
        probability, evidence, close = _states(log, courses)
        probability[~log.shows] = 0.0
        moved = float(np.abs(probability - weights).max())
        weights = probability
        if round_ and moved < Search.SETTLED:
            break
    return _Fit(courses, weights, evidence - _occam(log, courses, weights))


def _better(
    log: Readings, courses: Courses, weights: Floats, close: Bools, *, first: bool
) -> Courses:
    """Return the courses that fit best to states of these weights."""
    free = weights[:, State.FREE] + weights[:, State.BOOST]
    warm = free * log.warm * close
    free = warm if warm.sum() > Model.FEWEST else free * log.shows  # only a boost was free
    if not first:
        to_heat, back = _governor_rates(log, weights)
        line = _speed_line(log, free) or courses.free
        courses = replace(courses, free=line, to_heat=to_heat, back=back)
    if log.power is not None:
        if courses.free_power is not None:
            off = np.abs(log.power.value - courses.free_power.over(log.temperature))
            free = free * (off < Model.FITS_SIGMAS * log.power.noise)
        power = fitted_line(log.temperature, log.power, free, Course.POWER_PER_K, Course.POWER_SD)
        courses = replace(courses, free_power=power or courses.free_power)
        if power is not None and (free > 0.5).any():
            off = np.abs(log.power.value - power.over(log.temperature))[free > 0.5]
            courses = replace(courses, power_scatter=MAD_TO_STD * float(np.median(off)))
    own = log.drawn
    if courses.limit is None or own is None:
        return courses
    held = weights[:, State.POWER]
    if log.power is not None:
        at = _speed_line(log, held)
        courses = replace(courses, limited=at or courses.limited)
    if log.stated is None and (held * own.read).sum() > Model.FEWEST:
        level = float(np.average(own.value, weights=held * own.read))
        courses = replace(courses, limit=np.full(log.times.size, level))
    return courses


def _governor_rates(log: Readings, weights: Floats) -> tuple[float, float]:
    """Return how often heat takes the clock, and gives it back."""
    by_heat = weights[:, State.HEAT]
    visits = float(np.diff(by_heat, prepend=0.0).clip(min=0).sum())
    held_s = float(by_heat.sum()) * log.gap_s
    waits_s = float((1 - by_heat) @ (log.reached & log.shows)) * log.gap_s
    to_heat = float(np.clip(visits / max(waits_s, 1.0), *Moves.TO_HEAT))
    return to_heat, float(np.clip(visits / max(held_s, 1.0), *Moves.BACK))


def _occam(log: Readings, courses: Courses, weights: Floats) -> float:
    """Return the log likelihood that fitted numbers cost: how narrow each is, of its prior range."""

    def cost(width: float, noise: float, weight: float) -> float:
        return float(np.log(max(width * np.sqrt(max(weight, 1e-9) / (2 * np.pi)) / noise, 1.0)))

    noise, total, scale = log.speed.noise, 0.0, log.steepness
    free, power, at = courses.free, courses.free_power, courses.limited
    seen = float((weights[:, State.FREE] + weights[:, State.BOOST]).sum())
    if seen > Model.FEWEST:
        total += cost(Course.LEVEL * scale, noise, seen) + np.log(2)
        if abs(free.per_k) * np.sqrt(free.spread_k2) > Course.FIXED * noise:
            total += cost(Course.CLOCK_WIDTH * scale, noise, free.spread_k2)
        if power is not None and log.power is not None:
            total += cost(Course.LEVEL, log.power.noise, power.samples)
            total += cost(Course.POWER_WIDTH, log.power.noise, power.spread_k2)
    held = float(weights[:, State.POWER].sum())
    if courses.limit is not None and held > Model.FEWEST:
        own = log.drawn
        if log.stated is None and own is not None:
            total += cost(Course.LEVEL, own.noise, held)
        if at is not None:
            width = Course.LEVEL_AT_LIMIT if seen > Model.FEWEST else Course.LEVEL
            steady = abs(at.per_k) * np.sqrt(at.spread_k2) <= Course.FIXED * noise
            if steady and not seen > Model.FEWEST:
                total += Course.GIVES_WAY
            total += cost(width, noise, held) + cost(Course.CLOCK_WIDTH, noise, at.spread_k2)
    return float(total)
