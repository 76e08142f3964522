"""The power a setup sustains without passing the limit temperature in a given room."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.special import log_ndtr

from gelassen.core.capacity.beyond import beyond_measured
from gelassen.core.capacity.level_readings import (
    BelowLimit,
    Bounds,
    PowerLevels,
    read_power_levels,
)
from gelassen.core.capacity.priors import Beyond, Levels
from gelassen.core.capacity.rise_over_power import (
    PowerCourses,
    departure_size,
    departures_alike,
    draw_courses,
)
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.distributions import (
    chi_square_quantile,
    normal_below,
    normal_quantile,
)
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import (
    Floats,
    SeriesLike,
    as_confidence,
    as_positive,
)
from gelassen.core.foundation.result import Result

_EXPONENTS = np.linspace(0.6, 1.08, 49)


@dataclass(frozen=True, slots=True, kw_only=True)
class Capacity(Result):
    """The power at which the rise meets the limit.

    Attributes
    ----------
    power_w, low_w, high_w
        The capacity in W and its interval; infinite ends mean "cannot tell".
    model
        In words, how rise was found to grow with power.
    extrapolated
        True if the capacity lies outside the powers that were measured.
    resistance_k_per_w
        Thermal resistance at the capacity, K/W.
    exponent
        Rise grows with power to this towards the capacity, on average over what fits; 1 where it was not
        fitted.
    course_power_w, course_rise_k
        The fitted course from the lowest level to beyond the capacity; empty where nothing was fitted.
    """

    power_w: float
    low_w: float
    high_w: float
    model: str
    extrapolated: bool
    resistance_k_per_w: float
    limit_c: float
    ambient_c: float
    confidence: float
    cautions: tuple[Caution, ...] = ()
    exponent: float = 1.0
    course_power_w: tuple[float, ...] = ()
    course_rise_k: tuple[float, ...] = ()

    def resistance_at(self, power_w: float) -> float:
        """Return the thermal resistance at another power, K/W, as the fitted course has it."""
        if self.course_power_w and self.course_power_w[0] <= power_w <= self.course_power_w[-1]:
            return float(np.interp(power_w, self.course_power_w, self.course_rise_k) / power_w)
        return float(self.resistance_k_per_w * (power_w / self.power_w) ** (self.exponent - 1))

    def passes(self, power_w: float) -> str:
        """Return whether a power is sustained: "yes", "no" or "cannot tell"."""
        if power_w <= self.low_w:
            return "yes"
        return "no" if power_w > self.high_w else "cannot tell"

    def __str__(self) -> str:
        where = f"at {self.ambient_c:g} °C room and a limit of {self.limit_c:g} °C"
        if np.isfinite(self.low_w) and np.isfinite(self.high_w):
            answer = (
                f"good for {self.power_w:.0f} W ({self.low_w:.0f} to {self.high_w:.0f} W) {where}"
            )
        else:
            answer = f"cannot tell the capacity {where}; about {self.power_w:.0f} W at a guess"
        answer += f"; {self.model}"
        if self.extrapolated:
            answer += "; beyond what was measured"
        return "\n".join([answer, *(f"  caution: {text}" for text in self.cautions)])


def sustainable_power(
    power_w: SeriesLike,
    rise_k: SeriesLike,
    *,
    rise_se_k: SeriesLike | None = None,
    throttled: SeriesLike | None = None,
    wanted_w: SeriesLike | None = None,
    fan_rpm: SeriesLike | None = None,
    full_speed_rpm: float | None = None,
    measured_room_c: SeriesLike | None = None,
    mount: Sequence[str | None] | None = None,
    mounting_spread: float = 0.0,
    mounting_freedom: float = np.inf,
    limit_c: float,
    ambient_c: float = 25.0,
    confidence: float = 0.95,
) -> Capacity:
    """Find how much power a setup sustains before its temperature meets the limit.

    Parameters
    ----------
    power_w, rise_k : array_like, shape (n,)
        Held power in W and steady rise over room in K of whatever must stay below the limit; one
        entry a power level.
    rise_se_k : array_like, shape (n,), optional
        Standard errors of the rises, in K. Without them, at least four levels are needed.
    throttled : array_like of bool, shape (n,), optional
        Where the chip was held back by heat: its power is what it could hold at that rise, and so a
        bound: the same rise is not met at less power. Such entries are not points of the curve.
    wanted_w : array_like, shape (n,), optional
        The power that a run would have drawn had it not been held back, such as its power limit, in W:
        a bound from above. NaN where it is not known.
    fan_rpm : array_like, shape (n,), optional
        Speed of the fans at each level, in rpm (any measure in proportion to it will do). It tells
        fans on curves from steady ones and from none (zeros), which rises alone hardly do. Left out
        unless known for all.
    full_speed_rpm : float, optional
        The speed that these fans cannot pass, in the same measure: a course bends back from there on.
    measured_room_c : array_like, shape (n,), optional
        The room in which each level was measured, in °C: fans on curves turn faster in a warmer one. It
        is taken to be `ambient_c` where it is not known.
    mount : sequence of str or None, length n, optional
        The mounting of each level: the same word, not remounted between. One that names none has its
        own.
    mounting_spread : float
        Share of the rise by which another mounting would move it (standard deviation): it moves all levels
        of a mounting alike.
    mounting_freedom : float
        Degrees of freedom it was found with.
    limit_c, ambient_c : float
        Limit temperature and the room to answer for, in °C.
    confidence : float
        Share of such intervals that should cover the truth.

    Raises
    ------
    InputError
        No level, negative powers, lengths that differ, a limit at or below the room.

    Notes
    -----
    Courses of rise over power are drawn from two families, averaged by their evidence: powers of the
    power, and fans that speed up with the temperature (`core/capacity/rise_over_power.py`). Where
    errors are not given, or the points scatter beyond chance, the scatter about the curve takes their
    place. Curves that put more rise on the power a held-back run held than it showed are weighed down.
    """
    confidence = as_confidence(confidence)
    if not ambient_c < limit_c < 250:
        raise InputError(
            f"the limit is {limit_c:g} °C and the room {ambient_c:g} °C: the limit must lie above the room "
            "and below 250 °C"
        )
    levels = read_power_levels(
        power_w, rise_k, rise_se_k=rise_se_k, throttled=throttled, wanted_w=wanted_w, fan_rpm=fan_rpm,
        measured_room_c=measured_room_c, mount=mount, mounting_spread=mounting_spread,
        mounting_freedom=mounting_freedom, ambient_c=ambient_c,
    )  # fmt: skip
    asked = _Asked(float(limit_c), float(ambient_c), confidence)
    if levels.held.all():
        return _only_bounds(levels.bounds, asked)
    below = levels.below_limit
    measured = np.concatenate([below.power, levels.bounds.power])
    reason, variance, freedom = _unusable(below, measured, mounting_freedom)
    if variance is None or reason:
        return _guess(below, levels.bounds, variance, reason, asked)
    full = np.inf
    if full_speed_rpm is not None:
        full = as_positive("full_speed_rpm", full_speed_rpm, "rpm")
    courses, inverse = draw_courses(
        below.power, below.rise, np.diag(variance) + below.moved, freedom,
        asked.allowed_k, asked.ambient_c, below.rooms_c,
        speeds=levels.known_speeds, full_speed=full,
    )  # fmt: skip
    draws, exponents = _capacities(
        courses, below.power, below.rise, below.rooms_c, inverse, asked.allowed_k
    )
    weights = _with_bounds(courses, levels.bounds)
    return _answer(courses, weights, draws, exponents, levels, measured, asked)


@dataclass(frozen=True, slots=True)
class _Asked:
    """What is asked: the limit and the room, in °C, and the confidence."""

    limit_c: float
    ambient_c: float
    confidence: float

    @property
    def allowed_k(self) -> float:
        """The rise that the limit allows in this room."""
        return self.limit_c - self.ambient_c

    def capacity(
        self,
        value: float,
        low: float,
        high: float,
        model: str,
        measured_w: Floats,
        cautions: list[Caution],
        *,
        exponent: float = 1.0,
        course: tuple[Floats, Floats] = (np.empty(0), np.empty(0)),
    ) -> Capacity:
        """Return an answer to what is asked."""
        return Capacity(
            power_w=value,
            low_w=low,
            high_w=high,
            model=model,
            extrapolated=not measured_w.min() <= value <= measured_w.max(),
            resistance_k_per_w=self.allowed_k / value if value > 0 else float("nan"),
            limit_c=self.limit_c,
            ambient_c=self.ambient_c,
            confidence=self.confidence,
            cautions=tuple(cautions),
            exponent=exponent,
            course_power_w=tuple(map(float, course[0])),
            course_rise_k=tuple(map(float, course[1])),
        )


def _unusable(
    below: BelowLimit, measured_w: Floats, mounting_freedom: float
) -> tuple[str, Floats | None, float]:
    """Return why no course can be drawn (or ""), the variances of the rises, their degrees of freedom."""
    variance, freedom = _variance(
        below.power, below.rise, below.error, np.diag(below.moved), mounting_freedom
    )
    lowest_k = float(below.rise.min())
    if lowest_k <= 0:
        reason = f"a rise of {lowest_k:.1f} K is not above zero: was the right reference used?"
    elif np.ptp(measured_w) <= Levels.ONE_LEVEL * measured_w.max():
        reason = "all runs have the same power: measure a second level"
    elif variance is None:
        reason = "too few levels to see their scatter: give standard errors or a fourth level"
    else:
        reason = ""
    return reason, variance, freedom


def _guess(
    below: BelowLimit, bounds: Bounds, variance: Floats | None, reason: str, asked: _Asked
) -> Capacity:
    """Return the capacity in proportion to the rise, with an unbounded interval: it cannot be told."""
    resistance = float(np.mean(below.rise / below.power))
    guess = asked.allowed_k / resistance if resistance > 0 else float("nan")
    held_w = _held_below(below.power, below.rise, variance, asked.allowed_k, asked.confidence)
    held_w = min([held_w, *bounds.power])  # another run was held back at less
    return asked.capacity(
        guess, held_w, np.inf, "taken as proportional", below.power,
        [caution("capacity_unknown", why=reason)],
    )  # fmt: skip


def _answer(
    courses: PowerCourses,
    weights: Floats,
    draws: Floats,
    exponents: Floats,
    levels: PowerLevels,
    measured_w: Floats,
    asked: _Asked,
) -> Capacity:
    """Return the capacity that weighted draws of the course show."""
    below = levels.below_limit
    good = np.isfinite(draws)
    if weights[good].sum() < Levels.SOLVED or not good.any():
        guess = float(np.median(draws[good])) if good.any() else float("nan")
        said = caution("capacity_unknown", why="rise does not grow with power in these runs")
        return asked.capacity(guess, -np.inf, np.inf, "no model fits", below.power, [said])
    tail = (1 - asked.confidence) / 2
    value = _quantiles(draws[good], weights[good], (0.5,))[0]
    # The doubt leans downwards. It moves no value: nothing may be taken away as well.
    doubted = beyond_measured(draws[good], float(measured_w.max()))
    low, high = _quantiles(doubted, weights[good], (tail, 1 - tail))
    if value > Beyond.FAR * measured_w.max():
        high = np.inf
    told = good & np.isfinite(exponents)
    exponent = float(exponents[told] @ weights[told] / max(weights[told].sum(), 1e-12))
    model = "rise in proportion to power" if exponent > Levels.IN_PROPORTION else (
        f"rise grows less than power, as power^{exponent:.2f}"
    )  # fmt: skip
    return asked.capacity(
        value, low, high, model, measured_w,
        _doubts(levels.bounds, value, exponent, measured_w, asked.allowed_k),
        exponent=exponent, course=_course(courses, weights, below.rise, asked.allowed_k, value),
    )  # fmt: skip


def _doubts(
    bounds: Bounds, value_w: float, exponent: float, measured_w: Floats, allowed_k: float
) -> list[Caution]:
    """Say which runs do not fit the answer, and how far it lies from what was measured."""
    cautions: list[Caution] = []
    for held_w, held_k in zip(bounds.power.tolist(), bounds.rise.tolist(), strict=True):
        expected_k = allowed_k * (held_w / value_w) ** exponent
        if (
            abs(expected_k - held_k) > Levels.EARLY_K + Levels.EARLY_SHARE * held_k
            and expected_k < held_k
        ):
            cautions.append(
                caution("held_back_early", held_w=held_w, held_k=held_k, expected_k=expected_k)
            )
    if (
        value_w > Levels.FAR_ABOVE * measured_w.max()
        or value_w < Levels.FAR_BELOW * measured_w.min()
    ):
        low_w, high_w = float(measured_w.min()), float(measured_w.max())
        cautions.append(caution("far_from_measured", low_w=low_w, high_w=high_w))
    return cautions


def _held_below(
    power: Floats, rise: Floats, variance: Floats | None, allowed_k: float, confidence: float
) -> float:
    """Return the highest power that was surely held below the limit.

    No claim is made about higher powers.
    """
    if variance is None or (rise <= 0).any():
        return -np.inf
    surely = rise + normal_quantile((1 + confidence) / 2) * np.sqrt(variance) < allowed_k
    return float(power[surely].max(initial=-np.inf)) if surely.all() else -np.inf


def _variance(
    power: Floats, rise: Floats, error: Floats | None, moved: Floats, moved_freedom: float
) -> tuple[Floats | None, float]:
    """Return the variance of each rise and how many degrees of freedom it was estimated with.

    `moved` is what another mounting would add to it, `moved_freedom` how well that is known.
    """
    residual, freedom = _scatter(power, rise)
    if error is None:
        if freedom < 2:
            return None, 0.0
        # Readings may agree by chance. No spread is taken to be below a tenth of a kelvin.
        return np.full(power.size, max(residual, Levels.LEAST_SPREAD_K) ** 2), float(freedom)
    variance = error**2 + Levels.LEAST_ERROR_K**2
    if freedom >= 1:
        # If the scatter is larger than the errors explain by chance, the scatter is used instead.
        excess = residual**2 / float(np.mean(variance + moved))
        if excess * freedom > chi_square_quantile(Levels.BEYOND_CHANCE, freedom):
            variance = variance * max(1.0, excess)
    own, mounts = float(np.mean(variance)), float(np.mean(moved))
    # Degrees of freedom of a sum of two variances (Satterthwaite).
    known = (own + mounts) ** 2 / (own**2 / Levels.SURE_FREEDOM + mounts**2 / moved_freedom)
    return variance, known


def _scatter(power: Floats, rise: Floats) -> tuple[float, int]:
    """Return the scatter about the best curve, and how many points it rests on."""
    freedom = power.size - 2
    if freedom < 1 or np.unique(power).size < 2:
        return 0.0, 0
    best = np.inf
    for exponent in _EXPONENTS:
        column = power**exponent
        left = rise - column * float(column @ rise / (column @ column))
        best = min(best, float(left @ left))
    return float(np.sqrt(best / freedom)), freedom


def _capacities(
    courses: PowerCourses,
    power: Floats,
    rise: Floats,
    rooms_c: Floats,
    inverse: Floats,
    allowed_k: float,
) -> tuple[Floats, Floats]:
    """Return for each draw the capacity (NaN: it never meets the limit) and the exponent up to it."""
    below, capacity, above = courses.power_at(allowed_k + np.array([-0.5, 0.0, 0.5])).T
    slope = 1 / np.maximum(above - below, 1e-9)  # K/W
    middle_k = float(np.sqrt(allowed_k * np.clip(np.median(rise), 1.0, 0.9 * allowed_k)))
    there = courses.power_at(np.array([middle_k]))[:, 0]
    exponents = np.log(allowed_k / middle_k) / np.log(capacity / there)
    moved = _departed(courses, capacity, slope, power, rise, rooms_c, inverse, allowed_k)
    return moved, exponents


def _with_bounds(courses: PowerCourses, bounds: Bounds) -> Floats:
    """Return the weight of each draw, given the powers at which runs were held back.

    The power that a chip holds at its limit is a lower bound. The bound is tight unless the chip was
    cut by more than was needed.
    """
    tight, loose = np.zeros(courses.weights.size), np.zeros(courses.weights.size)
    below = np.ones(courses.weights.size)
    for held_w, held_k, wanted_w, error_k, held_room_c in zip(*bounds, strict=True):
        size_k = float(np.hypot(error_k, Levels.BOUND_K))
        # The rise at a nearby power is scaled from the course's rise.
        held_at = courses.power_at(np.array([held_k]), np.array([held_room_c]))[:, 0]
        spare = (held_k - held_k * held_w / held_at) / size_k
        spare = np.where(np.isfinite(held_at), spare, -np.inf)  # it never meets that rise
        tight -= spare**2 / 2
        loose += log_ndtr(spare)
        if np.isfinite(wanted_w) and wanted_w > held_w:
            below *= normal_below(np.nan_to_num((held_k * wanted_w / held_at - held_k) / size_k))
    held = np.logaddexp(tight + np.log(1 - Levels.CUT_TOO_FAR), loose + np.log(Levels.CUT_TOO_FAR))
    weights = np.nan_to_num(courses.weights * below * np.exp(held))
    total = weights.sum()
    return np.asarray(weights / total if total > 0 else courses.weights)


def _course(
    courses: PowerCourses, weights: Floats, seen_k: Floats, allowed_k: float, capacity_w: float
) -> tuple[Floats, Floats]:
    """Return powers and rises of the course over the measured range. It meets the limit at the capacity."""
    lowest = float(seen_k.min())
    if lowest > 0.95 * allowed_k:  # all levels lie above the limit asked about
        lowest = 0.5 * allowed_k
    highest = max(float(seen_k.max()), 1.05 * allowed_k)
    below = np.linspace(lowest, allowed_k, Levels.COURSE_POINTS)
    rises = np.append(below, np.linspace(allowed_k, highest, 6)[1:])
    power = courses.middle_power_at(rises, weights)
    # Departures moved the capacity a little. The course moves with it, most close to the capacity.
    near = np.clip((rises - lowest) / (allowed_k - lowest), 0.0, 1.0)
    return power * (capacity_w / power[below.size - 1]) ** near, rises


def _departed(
    courses: PowerCourses,
    capacity: Floats,
    slope: Floats,
    power: Floats,
    rise: Floats,
    rooms_c: Floats,
    inverse: Floats,
    allowed_k: float,
) -> Floats:
    """Move drawn capacities by how far the real course departs from a smooth one there.

    Kriging: the departure at the capacity, given those at the measured powers.
    """
    good = np.isfinite(capacity) & (capacity > 0) & np.isfinite(slope)
    at = capacity[good]
    size = departure_size(allowed_k) ** 2
    alike = size * departures_alike(at, power)
    # How far the levels depart, in power, turned into kelvin in proportion.
    expected = courses.power_at(rise, rooms_c)[good]
    told = np.isfinite(expected) & (expected > 0)
    resistance = np.divide(rise, expected, out=np.zeros_like(expected), where=told)
    left = np.where(told, rise - power * resistance, 0.0)
    mean = np.einsum("nk,kj,nj->n", alike, inverse, left)
    variance = np.maximum(size - np.einsum("nk,kj,nj->n", alike, inverse, alike), 0.0)
    rng = np.random.default_rng(5)
    departure = mean + np.sqrt(variance) * rng.standard_normal(at.size)
    moved = capacity.copy()
    moved[good] = np.maximum(at - departure / slope[good], 1e-3)
    return moved


def _only_bounds(bounds: Bounds, asked: _Asked) -> Capacity:
    """Answer from runs that were all held back by heat: the capacity is at least the power they held."""
    # In a cooler room than the run's, more power is held, and in a warmer one less, in proportion.
    held = bounds.power * np.minimum(asked.allowed_k / np.maximum(bounds.rise, 1e-9), 1.0)
    best = float(held.max())
    said = caution(
        "capacity_unknown",
        why="every run was held back by heat: this much was held, and more was not tried. Run a level "
        "below it",
    )
    return asked.capacity(
        best, best * Levels.ONLY_HELD, np.inf, "held at the limit", bounds.power, [said]
    )


def _quantiles(values: Floats, weights: Floats, shares: tuple[float, ...]) -> tuple[float, ...]:
    order = np.argsort(values)
    below = np.cumsum(weights[order]) / weights.sum() - weights[order] / (2 * weights.sum())
    return tuple(float(np.interp(share, below, values[order])) for share in shares)
