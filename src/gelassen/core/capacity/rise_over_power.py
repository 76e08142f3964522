"""How the rise may grow with power: the courses that fit a few measured levels.

Two families, averaged by their evidence. Without fans that follow heat, rise is ``a * power^m + b``: m is
near 1 where a fan turns steadily, and about 0.8 where a heatsink convects freely and radiates [1]_; b
is what other sources warm the air by. With fans on a curve, part of the resistance falls as they
speed up: rise is ``power * (a + b * speed^-n)``, and the speed follows the temperature from a least to
full speed [2]_. What real courses depart from both is a Gaussian process over powers (kriging).

References
----------
.. [1] F. P. Incropera and D. P. DeWitt, Fundamentals of Heat and Mass Transfer, ch. 9: laminar
   free convection, Nusselt number proportional to the rise to the power 1/4.
.. [2] ibid., ch. 7: forced convection, Nusselt number proportional to the speed to the power 0.5
   (laminar) to 0.8 (turbulent).
"""

from dataclasses import dataclass
from itertools import product

import numpy as np
from numpy.typing import NDArray

from gelassen.core.capacity.priors import Courses
from gelassen.core.foundation.inputs import Floats
from gelassen.core.thermal.fanless import fanless_chance

# Exponents of the first family with their prior: steady fans, and heatsinks without fans.
_EXPONENTS = np.linspace(0.68, 1.08, 41)


@dataclass(frozen=True, slots=True)
class _Fans:
    """Ways in which fans may follow the temperature: speed to the power -n, one row for each way."""

    temperature_c: Floats  # (points,)
    slowness: Floats  # (ways, points)

    def at(self, temperature_c: Floats) -> Floats:
        """Return the slowness at these temperatures, shape (ways, temperatures)."""
        rows = [np.interp(temperature_c, self.temperature_c, row) for row in self.slowness]
        return np.array(rows).reshape(len(self.slowness), temperature_c.size)


@dataclass(frozen=True, slots=True)
class PowerCourses:
    """Weighted draws of the course, one row a draw."""

    weights: Floats
    _theta: Floats  # (draws, 2)
    _picked: NDArray[np.int64]  # which course: exponents come first, then the ways of fans
    _fans: _Fans
    _scale_w: float
    _room_c: float

    def power_at(self, rise_k: Floats, room_c: Floats | None = None) -> Floats:
        """Return the power at each rise, shape (draws, rises); NaN where a draw has none.

        `room_c` gives each one's room where it is not the room asked about. Fans follow temperatures, so
        it matters.
        """
        rooms = self._room_c if room_c is None else room_c
        a, b = (column[:, None] for column in self._theta.T)
        way = self._picked - _EXPONENTS.size
        exponent = _EXPONENTS[np.minimum(self._picked, _EXPONENTS.size - 1)][:, None]
        slow = self._fans.at(rise_k + rooms)[np.maximum(way, 0)] if way.max() >= 0 else 1.0
        with np.errstate(invalid="ignore", divide="ignore"):
            share = (rise_k - b) / np.where(a > 0, a, np.nan)
            share = np.where(share > 0, share, np.nan) ** (1 / exponent)
            fanned = rise_k / (a + b * slow)
        fanned = np.where(fanned > 0, fanned, np.nan)
        return np.asarray(self._scale_w * np.where(way[:, None] >= 0, fanned, share))

    def middle_power_at(self, rise_k: Floats, weights: Floats) -> Floats:
        """Return the mean power at each rise over the draws, each counting by its weight; ascending."""
        power = self.power_at(rise_k)
        total = (weights[:, None] * np.isfinite(power)).sum(axis=0)
        mean = np.nansum(power * weights[:, None], axis=0) / np.maximum(total, 1e-12)
        return np.asarray(np.maximum.accumulate(mean))


def draw_courses(
    power: Floats,
    rise: Floats,
    covariance: Floats,
    freedom: float,
    allowed_k: float,
    room_c: float,
    measured_room_c: Floats,
    *,
    speeds: tuple[Floats, Floats] | None = None,
    full_speed: float = np.inf,
) -> tuple[PowerCourses, Floats]:
    """Draw courses through measured levels.

    Parameters
    ----------
    power, rise : array, shape (levels,)
        Held power in W, steady rise in K.
    covariance : array, shape (levels, levels)
        Of the rises, in K².
    freedom : float
        Degrees of freedom of that covariance.
    allowed_k : float
        The rise that is asked about: departures are a share of it.
    room_c : float
        The room that is asked about, in °C: fans follow temperatures, not rises.
    measured_room_c : array, shape (levels,)
        The rooms in which the levels were measured.
    speeds : tuple of array, optional
        Temperatures, of these levels and of others at which the chip was held back, and the speed of the
        fans there; zeros where there are none.
    full_speed : float
        The speed they cannot pass.

    Returns
    -------
    courses : PowerCourses
    inverse : array, shape (levels, levels)
        Inverse covariance of the levels about a course.
    """
    scale = float(power.max())
    bend = departures_alike(power, power) * (Courses.DEPARTURE * allowed_k) ** 2
    inverse = np.asarray(np.linalg.inv(covariance + bend), dtype=float)
    coldest_c = min(room_c, float(measured_room_c.min()))
    hottest_c = max(room_c, float(measured_room_c.max())) + 1.1 * max(allowed_k, rise.max()) + 5
    grid_c = np.linspace(coldest_c, hottest_c, Courses.GRID)
    resistance = float(np.median(rise / power))
    fans, curves, free = _fans(resistance, grid_c, speeds, full_speed)
    designs, log_priors, ridges = _families(
        power, rise, scale, fans.at(rise + measured_room_c), curves, free
    )
    hessian = np.einsum("gij,ik,gkl->gjl", designs, inverse, designs)
    spread = ridges[:, 1]
    hessian[:, 1, 1] += spread**-2
    target = np.einsum("gij,ik,k->gj", designs, inverse, rise)
    target[:, 1] += ridges[:, 0] / spread**2
    estimate = np.linalg.solve(hessian, target[:, :, None])[:, :, 0]
    misfit = float(rise @ inverse @ rise) + (ridges[:, 0] / spread) ** 2
    misfit = np.maximum(misfit - (estimate * target).sum(axis=1), 0.0)
    # Student's t instead of a normal distribution, where the scatter itself is an estimate.
    fit = -(freedom + power.size) / 2 * np.log1p(misfit / freedom)
    log_weights = fit - 0.5 * np.linalg.slogdet(hessian)[1] - np.log(spread) + log_priors
    weight = np.exp(log_weights - log_weights.max())
    marks = (np.arange(Courses.DRAWS) + 0.5) / Courses.DRAWS
    picked = np.searchsorted(np.cumsum(weight / weight.sum()), marks).clip(max=weight.size - 1)
    rng = np.random.default_rng(3)
    noise = rng.standard_normal((Courses.DRAWS, 2))
    noise *= np.sqrt(freedom / rng.chisquare(freedom, Courses.DRAWS))[:, None]
    lower = np.linalg.cholesky(np.linalg.inv(hessian))
    theta = estimate[picked] + np.einsum("nij,nj->ni", lower[picked], noise)
    # Resistances are positive, so draws below zero are left out.
    exists = (theta[:, 0] > 0) & ((picked < _EXPONENTS.size) | (theta[:, 1] > 0))
    weights = exists / max(int(exists.sum()), 1)
    return PowerCourses(weights, theta, picked, fans, scale, room_c), inverse


def _fans(
    resistance: float,
    grid_c: Floats,
    speeds: tuple[Floats, Floats] | None,
    full_speed: float,
) -> tuple["_Fans", float, float]:
    """Return the possible fan curves, how likely each is, and how likely free convection is."""
    if speeds is None:
        fanless = fanless_chance(resistance)
        curves = max((1 - fanless) * Courses.ON_CURVE, Courses.NO_FANS)
        free = Courses.FREE_SHARE + fanless * (1 - Courses.OTHERWISE - Courses.FREE_SHARE)
        return _unknown_fans(grid_c), curves, free
    seen_c, speed = speeds
    if not speed.any():
        return _unknown_fans(grid_c), Courses.NO_FANS, 1 - Courses.OTHERWISE
    if float(np.ptp(speed)) <= Courses.STEADY_SPEED * float(speed.mean()):
        return _unknown_fans(grid_c), Courses.ON_CURVE_IF_STEADY, Courses.OTHERWISE
    known = _known_fans(grid_c, seen_c, speed, full_speed)
    return known, Courses.ON_CURVE_IF_NOT, Courses.OTHERWISE


def departures_alike(first: Floats, second: Floats) -> Floats:
    """Return the correlation between departures from a smooth course at two powers."""
    apart = np.log(first[:, None] / second) / Courses.DEPARTURE_LENGTH
    return np.asarray(np.exp(-0.5 * apart**2), dtype=float)


def departure_size(allowed_k: float) -> float:
    """Return the standard deviation of these departures, in K."""
    return Courses.DEPARTURE * allowed_k


def _families(
    power: Floats, rise: Floats, scale: float, slow: Floats, curves: float, free: float
) -> tuple[Floats, Floats, Floats]:
    """Return for each course: columns, log prior, and mean and spread of the second amplitude."""
    share = power / scale
    plain = share ** _EXPONENTS[:, None]
    steady = np.stack([plain, np.ones_like(plain)], axis=2)
    fanned = np.stack([np.broadcast_to(share, slow.shape), share * slow], axis=2)
    usual = free * _bell(*Courses.FREE) + (1 - free) * _bell(*Courses.STEADY)
    log_priors = [
        np.log((1 - curves) * usual),
        np.full(len(slow), np.log(curves / len(slow))),
    ]
    offset_k = max(Courses.OFFSET_SHARE * float(np.abs(rise).max()), 0.1)
    # The part that fans act on is known midway as a share of the whole.
    middle_slow = slow[:, int(np.argsort(rise)[rise.size // 2])]
    whole = max(float((share @ rise) / (share @ share)), 0.1)
    ridges = [
        np.tile([0.0, offset_k], (_EXPONENTS.size, 1)),
        np.column_stack(
            [
                Courses.SHARE * whole / middle_slow,
                Courses.SHARE_SPREAD * whole / middle_slow,
            ]
        ),
    ]
    return np.concatenate([steady, fanned]), np.concatenate(log_priors), np.concatenate(ridges)


def _bell(middle: float, spread: float) -> Floats:
    weight = np.exp(-0.5 * ((_EXPONENTS - middle) / spread) ** 2)
    return np.asarray(weight / weight.sum())


def _unknown_fans(grid_c: Floats) -> _Fans:
    """Return usual fan curves: from a lowest to full speed, over some kelvins."""
    ways = []
    for from_c, over_k, least, falls in product(
        Courses.FROM_C, Courses.OVER_K, Courses.LEAST, Courses.FALLS
    ):
        speed = least + (1 - least) * np.clip((grid_c - from_c) / over_k, 0.0, 1.0)
        ways.append(speed**-falls)
    return _Fans(grid_c, np.array(ways))


def _known_fans(
    grid_c: Floats, temperature_c: Floats, speed_rpm: Floats, full_speed: float
) -> _Fans:
    """Return how fans went from level to level, and how they may go on."""
    order = np.argsort(temperature_c)
    known_c, speed = temperature_c[order], speed_rpm[order] / speed_rpm.max()
    last_k = max(float(known_c[-1] - known_c[0]) / max(known_c.size - 1, 1), 1.0)
    before = float(np.interp(known_c[-1] - last_k, known_c, speed))
    slope = max(float(speed[-1]) - before, 0.0) / last_k
    ways = []
    # A curve that has not reached full speed yet is likely to reach it.
    goes_on = (*Courses.GO_ON, 1.0) if np.isfinite(full_speed) else Courses.GO_ON
    for go_on, falls in product(goes_on, Courses.FALLS):
        beyond = go_on * slope * np.maximum(grid_c - known_c[-1], 0.0)
        follows = np.interp(grid_c, known_c, speed) + beyond
        most = max(full_speed / float(speed_rpm.max()), 1.0)
        ways.append(np.clip(follows, 0.05, most) ** -falls)
    return _Fans(grid_c, np.array(ways))
