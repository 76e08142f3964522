"""Capacity from one run whose power climbs in steps. The steps need not have settled.

The steps of one run share their time constants: what an early step shows of them says where a later one
is going. The rise is taken for linear lags of the power (die, spreader, case air), and one slow body
whose heat leaves the better the warmer it is (free convection, radiation, fans on a curve)::

    rise(t) = rest + sum_i R_i * lag(P(t), tau_i) + A * x(t)
    tau * dx/dt = P / P_ref - x^(1 + b)

so that the steady rise grows with power to 1 / (1 + b) as far as the slow body goes. For given lags and
bend this is a linear least-squares problem; all sets from a list are tried, and each counts by its
evidence, as in `core/thermal/relaxation_fit.py`.
"""

from dataclasses import dataclass
from functools import cache
from itertools import combinations, pairwise

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solve_triangular

from gelassen.core.capacity.priors import Climb
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats, SeriesLike, as_confidence, as_series, as_time
from gelassen.core.foundation.result import Result
from gelassen.core.signal.noise import noise_density, quantisation_error
from gelassen.core.signal.recursion import recursion
from gelassen.core.thermal.priors import Bends, Slowest

Indices = NDArray[np.int_]

_LAGS_S = np.geomspace(4.0, 400.0, 12)
_SLOW_S = np.geomspace(40.0, 6000.0, 60)  # at the highest power
_BENDS = np.array([0.0, 0.12, 0.25, 0.4, 0.55, 0.7, 0.85])


@dataclass(frozen=True, slots=True, kw_only=True)
class ClimbCapacity(Result):
    """The power that a setup sustains, from one climb.

    Attributes
    ----------
    power_w, low_w, high_w
        The capacity and its interval, in W; infinite ends mean "cannot tell".
    highest_w
        The highest power that was held for a while.
    extrapolated
        Whether the capacity lies beyond that.
    resistance_k_per_w
        Thermal resistance there.
    slowest_s
        The slowest time constant, in s.
    within
        Half the width of the interval as a share of the capacity.
    """

    power_w: float
    low_w: float
    high_w: float
    highest_w: float
    extrapolated: bool
    resistance_k_per_w: float
    slowest_s: float
    limit_c: float
    ambient_c: float
    confidence: float
    draws: "Draws | None" = None

    @property
    def within(self) -> float:
        """Half the width of the interval as a share of the capacity."""
        return (self.high_w - self.low_w) / (2 * self.power_w)

    def rise_at(self, power_w: float, share: float) -> float:
        """Return the steady rise at a power, in K, whose chance of being passed is 1 - `share`."""
        if self.draws is None:
            return float("inf")
        return self.draws.quantile(self.draws.rise_at(power_w, self.highest_w), share)

    def rise_after(self, power_w: float, ahead_s: float, share: float) -> float:
        """Return the rise after this time at another power, in K, passed with chance 1 - `share`."""
        if self.draws is None:
            return float("inf")
        return self.draws.quantile(self.draws.rise_after(power_w, ahead_s, self.highest_w), share)

    def points(self) -> tuple[tuple[float, float, float], ...]:
        """Return powers, steady rises there and their standard errors: the course as points on it.

        There are two: the highest power that was held, and a power a fifth below. `sustainable_power`
        takes them.
        """
        if self.draws is None:
            return ()
        found = []
        for power_w in (0.8 * self.highest_w, self.highest_w):
            rise = self.draws.rise_at(power_w, self.highest_w)
            middle, low, high = (self.draws.quantile(rise, q) for q in (0.5, 0.159, 0.841))
            found.append((power_w, middle, (high - low) / 2))
        return tuple(found)

    def __str__(self) -> str:
        where = f"at {self.ambient_c:.1f} °C room and a limit of {self.limit_c:g} °C"
        if not np.isfinite(self.low_w):
            return f"cannot tell the capacity {where} yet"
        if not np.isfinite(self.high_w):
            return f"good for {self.low_w:.0f} W at least {where}"
        beyond = "; beyond what was measured" if self.extrapolated else ""
        return f"good for {self.power_w:.0f} W ({self.low_w:.0f} to {self.high_w:.0f} W) {where}{beyond}"


@dataclass(frozen=True, slots=True)
class Draws:
    """Weighted draws of the course of the rise. One row a draw; lags two deep, zero where unused."""

    rest_k: Floats
    resistances: Floats  # (draws, 2) of the linear lags
    lags_s: Floats  # (draws, 2)
    states_w: Floats  # (draws, 2) the present output of each lag, in W
    slow_k: Floats  # rise of the slow body at the reference power
    slow_s: Floats  # its time constant there
    bends: Floats
    slow_state: Floats
    reference_w: float
    doubt: Floats  # standard normal, one a draw: of the model as a whole
    bend: Floats  # the same, of the course beyond what was measured
    weights: Floats

    def rise_at(self, power_w: float | Floats, highest_w: float) -> Floats:
        """Return the steady rise for each draw, at one power or at one for each."""
        rise = self.rest_k + self.resistances.sum(axis=1) * power_w
        slow = (power_w / self.reference_w) ** (1 / (1 + self.bends))
        return np.asarray((rise + self.slow_k * slow) * self._doubted(power_w, highest_w))

    def rise_after(self, power_w: float, ahead_s: float, highest_w: float) -> Floats:
        """Return the rise for each draw after so long at this power from now on."""
        there = power_w + (self.states_w - power_w) * np.exp(-ahead_s / self.lags_s)
        slow = self.slow_state
        for _ in range(max(round(ahead_s / Climb.BIN_S), 1)):
            slow = _moved(slow, power_w / self.reference_w, self.slow_s, self.bends)
        rise = self.rest_k + (self.resistances * there).sum(axis=1) + self.slow_k * slow
        return np.asarray(rise * self._doubted(power_w, highest_w))

    def _doubted(self, power_w: float | Floats, highest_w: float) -> Floats:
        beyond = np.log(np.maximum(power_w / highest_w, 1.0))
        return np.asarray(1 + Climb.IN_DOUBT * self.doubt + Climb.BEYOND * beyond * self.bend)

    def quantile(self, values: Floats, share: float) -> float:
        """Return a weighted quantile."""
        order = np.argsort(values)
        cumulated = np.cumsum(self.weights[order])
        at = int(np.searchsorted(cumulated, share * cumulated[-1]))
        return float(values[order][min(at, values.size - 1)])


def capacity_from_climb(
    time_s: SeriesLike,
    power_w: SeriesLike,
    rise_k: SeriesLike,
    *,
    limit_c: float,
    ambient_c: float = 25.0,
    confidence: float = 0.95,
) -> ClimbCapacity:
    """Find the power that a setup sustains from a run in which the power was raised in steps.

    Parameters
    ----------
    time_s : array_like, shape (n,)
        Times in s; the first samples at rest.
    power_w, rise_k : array_like, shape (n,)
        Power in W, and rise over the room in K of what must stay below the limit. Parts of the run in
        which heat held the chip back do no harm: it is the power that was drawn that counts.
    limit_c, ambient_c : float
        Limit temperature, and the room to answer for, in °C.
    confidence : float
        Share of such intervals that should cover the truth.

    Raises
    ------
    InputError
        Arrays of different lengths, a limit at or below the room, or a power that never rose.
    """
    times = as_time(time_s)
    power = as_series("power_w", power_w, like=times)
    rise = as_series("rise_k", rise_k, like=times)
    confidence = as_confidence(confidence)
    if limit_c <= ambient_c:
        raise InputError(f"the limit, {limit_c:g} °C, is not above the room, {ambient_c:g} °C")
    known = np.isfinite(power)
    if known.sum() < 2 or not np.ptp(power[known]) > Climb.REST_W:
        raise InputError("power_w never rises: a climb needs at least one step of power")
    middle, watts, course, variance, highest = _binned(times, power, rise)
    unknown = ClimbCapacity(
        power_w=float("nan"), low_w=-np.inf, high_w=np.inf, highest_w=highest, extrapolated=True,
        resistance_k_per_w=float("nan"), slowest_s=float("nan"), limit_c=limit_c,
        ambient_c=ambient_c, confidence=confidence,
    )  # fmt: skip
    if course.size < Climb.FEWEST_BINS:
        return unknown
    drawn = _draws(middle, watts, course, variance)
    if drawn is None:
        return unknown
    draws, slowest = drawn
    target = limit_c - ambient_c
    capacity = _solved(draws, target, highest)
    tail = (1 - confidence) / 2
    value = draws.quantile(capacity, 0.5)
    high_w = draws.quantile(capacity, 1 - tail)
    return ClimbCapacity(
        power_w=value,
        low_w=draws.quantile(capacity, tail),
        high_w=high_w if high_w < Climb.OPEN * Climb.MOST_W else np.inf,
        highest_w=highest,
        extrapolated=value > Climb.BEYOND_SHARE * highest,
        resistance_k_per_w=target / value,
        slowest_s=slowest,
        limit_c=limit_c,
        ambient_c=ambient_c,
        confidence=confidence,
        draws=draws,
    )


def _binned(
    times: Floats, power: Floats, rise: Floats
) -> tuple[Floats, Floats, Floats, Floats, float]:
    """Return bins: their middle, power, rise, variance of the rise; and the highest power held."""
    number = np.floor((times - times[0]) / Climb.BIN_S).astype(int)
    there = np.isfinite(rise)
    filled = np.interp(times, times[np.isfinite(power)], power[np.isfinite(power)])
    count = np.bincount(number, weights=there.astype(float))
    every = np.bincount(number)
    total = np.bincount(number, weights=np.where(there, rise, 0.0))
    mean_w = np.divide(np.bincount(number, weights=filled), every, where=every > 0,
                       out=np.full(every.size, np.nan))  # fmt: skip
    middle: Floats = (np.arange(every.size, dtype=float) + 0.5) * Climb.BIN_S
    mean_w = np.interp(middle, middle[every > 0], mean_w[every > 0])
    use = count > 0
    course: Floats = np.full(every.size, np.nan)
    course[use] = total[use] / count[use]
    step_s = float(np.median(np.diff(times))) if times.size > 1 else 1.0
    whole = rise[there]
    density = max(noise_density(np.diff(whole, 2) / np.sqrt(6), max(step_s, 0.05)), Climb.NOISE_K2S)
    variance = density / Climb.BIN_S + quantisation_error(whole) ** 2 + Climb.LEAST_K**2
    # Roughness follows the changes of power.
    change = np.abs(np.diff(mean_w, prepend=mean_w[0]))
    keep = np.exp(-Climb.BIN_S / Climb.ROUGH_S)
    recent = recursion(change, float(keep))
    span = float(np.nanmax(course) - np.nanmin(course))
    rough = Climb.ROUGH_SHARE * span * recent / max(float(np.ptp(mean_w)), 1e-9)
    held = np.sort(mean_w)
    highest = float(held[max(-Climb.HELD_BINS, -held.size)])  # held for a minute
    return (
        middle,
        np.asarray(mean_w, float),
        np.asarray(course, float),
        np.asarray(variance + rough**2, float),
        highest,
    )


def _draws(
    middle: Floats, watts: Floats, course: Floats, variance: Floats
) -> tuple[Draws, float] | None:
    """Fit all lags and bends; return draws of the course, and the slowest time constant."""
    use = np.isfinite(course)
    weight = 1 / np.sqrt(variance[use])
    y = course[use] * weight
    reference = float(watts.max())
    lagged = np.column_stack([_lag(watts, tau) for tau in _LAGS_S])
    slow_s, bends = (grid.ravel() for grid in np.meshgrid(_SLOW_S, _BENDS, indexing="ij"))
    slow = _slow_course(watts / reference, slow_s, bends)
    columns = np.column_stack([np.ones(course.size), lagged, slow])[use] * weight[:, None]
    normal, right = columns.T @ columns, columns.T @ y
    normal[0, 0] += 1 / Climb.REST_SPREAD_K**2
    right[0] += Climb.USUAL_REST_K / Climb.REST_SPREAD_K**2
    usual_s, spread = Slowest.USUAL
    typical = -0.5 * (np.log(slow_s / usual_s) / spread) ** 2 - bends / Bends.MEAN
    fits = [
        found for size in (0, 1, 2) if (found := _solve(normal, right, *_sets(size))) is not None
    ]
    if not fits:
        return None
    misfits = np.concatenate([float(y @ y) - fit.explained for fit in fits])
    # Scatter beyond what was expected is an error of the model. It widens every interval.
    factor = max(float(misfits.min()) / max(y.size - 5, 1), 1.0) * Climb.ALIKE
    size = np.concatenate([np.full(fit.body.size, fit.quick.shape[1]) for fit in fits])
    prior = np.concatenate([typical[fit.body] - fit.log_det for fit in fits])
    scales = 0.5 * np.log(np.diag(normal))
    # The prior volume of the amplitudes over their posterior volume: it penalises larger sets of lags.
    prior += np.concatenate([scales[1 + fit.quick].sum(axis=1) for fit in fits])
    logs = prior - 0.5 * misfits / factor + 0.5 * size * np.log(factor)
    share = np.exp(logs - logs.max())
    share /= share.sum()
    return _drawn(fits, share, factor, lagged, slow, _Grid(slow_s, bends, reference))


@dataclass(frozen=True, slots=True)
class _Grid:
    """The slow bodies that were tried, one entry each, and the power they are scaled by."""

    slow_s: Floats
    bends: Floats
    reference_w: float


def _drawn(
    fits: "list[_Fits]",
    share: Floats,
    factor: float,
    lagged: Floats,
    slow: Floats,
    grid: _Grid,
) -> tuple[Draws, float] | None:
    """Draw courses from the fitted sets, each in proportion to its evidence."""
    rng = np.random.default_rng(4)
    stretch = np.sqrt(factor * Climb.FREEDOM / rng.chisquare(Climb.FREEDOM, Climb.DRAWS))
    picked = np.sort(rng.choice(share.size, Climb.DRAWS, p=share))
    shape = (Climb.DRAWS, 2)
    resistances, lags, states = np.zeros(shape), np.ones(shape), np.zeros(shape)
    rest, slow_k = np.empty(Climb.DRAWS), np.empty(Climb.DRAWS)
    weights = np.ones(Climb.DRAWS)
    chosen = np.concatenate([fit.body for fit in fits])[picked]
    firsts = np.cumsum([0, *(fit.body.size for fit in fits)])
    for row, k in enumerate(picked):
        part = int(np.searchsorted(firsts, k, side="right")) - 1
        fit, at = fits[part], k - firsts[part]
        lower, best, quick = fit.lower[at], fit.best[at], fit.quick[at]
        noise = solve_triangular(
            lower, rng.standard_normal(best.size), lower=True, trans=1, check_finite=False
        )
        drawn = best + noise * stretch[row]
        weights[row] = float(np.all(drawn[1:] > 0))
        rest[row], slow_k[row] = drawn[0], drawn[-1]
        resistances[row, : quick.size], lags[row, : quick.size] = drawn[1:-1], _LAGS_S[quick]
        states[row, : quick.size] = lagged[-1][quick]
    if weights.sum() < Climb.FEWEST_DRAWS:
        return None
    draws = Draws(
        rest_k=rest, resistances=resistances, lags_s=lags, states_w=states, slow_k=slow_k,
        slow_s=grid.slow_s[chosen], bends=grid.bends[chosen], slow_state=slow[-1][chosen],
        reference_w=grid.reference_w, doubt=rng.standard_normal(Climb.DRAWS),
        bend=rng.standard_normal(Climb.DRAWS), weights=weights,
    )  # fmt: skip
    return draws, float(np.exp(np.log(grid.slow_s[chosen]).mean()))


@dataclass(frozen=True, slots=True)
class _Fits:
    """Least squares for many sets of lags at once; one row a set."""

    body: Indices
    quick: Indices  # (sets, lags)
    best: Floats
    lower: Floats
    explained: Floats
    log_det: Floats


def _solve(normal: Floats, right: Floats, body: Indices, quick: Indices) -> _Fits | None:
    """Solve all sets of one size. A set with a negative amplitude is impossible, so it is left out."""
    ones = np.zeros((body.size, 1), dtype=int)
    rows = np.hstack([ones, 1 + quick, (1 + _LAGS_S.size + body)[:, None]])
    parts = normal[rows[:, :, None], rows[:, None, :]].copy()
    diagonal = np.arange(rows.shape[1])
    parts[:, diagonal, diagonal] *= 1 + 1e-7  # keeps the sums well-conditioned
    try:
        lower = np.linalg.cholesky(parts)
    except np.linalg.LinAlgError:
        return None
    sides = right[rows]
    best = np.linalg.solve(parts, sides[:, :, None])[:, :, 0]
    good = np.all(best[:, 1:] >= 0, axis=1)
    if not good.any():
        return None
    explained = np.einsum("ij,ij->i", best, sides)
    log_det = np.log(lower[:, diagonal, diagonal]).sum(axis=1)
    return _Fits(body[good], quick[good], best[good], lower[good], explained[good], log_det[good])


@cache
def _sets(size: int) -> tuple[Indices, Indices]:
    """Return slow bodies, by number, and the linear lags that go before each."""
    bodies, quicks = [], []
    for body in range(_SLOW_S.size * _BENDS.size):
        slow_s = _SLOW_S[body // _BENDS.size]
        for quick in combinations(range(_LAGS_S.size), size):
            ladder = (*_LAGS_S[list(quick)], slow_s)
            if all(b >= Climb.APART * a for a, b in pairwise(ladder)):
                bodies.append(body)
                quicks.append(quick)
    return np.array(bodies, dtype=int), np.array(quicks, dtype=int).reshape(len(bodies), size)


def _slow_course(power: Floats, slow_s: Floats, bends: Floats) -> Floats:
    """Return the slow body at the middle of each bin, for each time constant and bend: times down."""
    state = np.maximum(power[0], 1e-9) ** (1 / (1 + bends))
    course = np.empty((power.size, slow_s.size))
    for row, now in enumerate(power):
        half = _moved(state, now, slow_s, bends, 0.5 * Climb.BIN_S)
        course[row] = half
        state = _moved(half, now, slow_s, bends, 0.5 * Climb.BIN_S)
    return course


def _moved(
    state: Floats, power: float, slow_s: Floats, bends: Floats, seconds: float = Climb.BIN_S
) -> Floats:
    """Return the slow body after some seconds at this power: exact for its present conductance."""
    conductance = np.maximum(state, 1e-6) ** bends
    goal = power / conductance
    return np.asarray(goal + (state - goal) * np.exp(-seconds * conductance / slow_s))


def _lag(series: Floats, tau_s: float) -> Floats:
    """Return a series after a first-order lag, from rest at its first value."""
    keep = np.exp(-Climb.BIN_S / tau_s)
    # A bin's own power acts from its start, so half of its effect is there by its middle.
    inner = np.exp(-0.5 * Climb.BIN_S / tau_s)
    start = series[0]
    full = recursion((1 - keep) * (series - start), float(keep))
    before = np.concatenate([[0.0], full[:-1]])
    return np.asarray(start + inner * before + (1 - inner) * (series - start))


def _solved(draws: Draws, target_k: float, highest_w: float) -> Floats:
    """Return for each draw the power at which the rise meets the target."""
    low, high = np.full(draws.bends.size, 0.5), np.full(draws.bends.size, Climb.MOST_W)
    for _ in range(40):
        middle = np.sqrt(low * high)
        over = draws.rise_at(middle, highest_w) > target_k
        low, high = np.where(over, low, middle), np.where(over, middle, high)
    return np.asarray(np.sqrt(low * high))
