"""The curve of one load, fitted pass by pass: each knows noise, room and power better."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import CubicSpline

from gelassen.core.fanless import fanless_chance
from gelassen.core.grid import Grid, lagged
from gelassen.core.inputs import Bools, Floats
from gelassen.core.loadspan import LoadSpan
from gelassen.core.noise import noise_covariance, noise_density, quantisation_error
from gelassen.core.powereffect import power_effect
from gelassen.core.relaxation import (
    USUAL_SLOWEST,
    Account,
    Relaxation,
    fit_relaxation,
    time_constant_list,
)
from gelassen.core.slowtail import ANY, HARDLY_ANY, SOME, SlowTails

_BINS = 80
# A boost of the clock lasts up to about a minute and is not the steady state.
_BOOST_S = 60.0
# How late a change of the room arrives, before the first fit tells better: a typical heatsink.
USUAL_LAG_S = 120.0
# Exponentials allowed in each pass; each pass knows noise, room and power better. Bends: the last.
_PASSES = (2, 3, 3)
# Conductances and heat capacities are lumps: early in the load the curve is trusted to 1 %.
_ROUGH = 0.01
# How a change of the reference arrives is inferred, and the rise itself depends on it a little: fans
# on curves turn faster, leakage grows. Shares of the delay's effect and of the change itself.
_DELAY_IN_DOUBT, _GAIN_IN_DOUBT = 0.25, 0.2
# What power that wandered did to the temperature is inferred too.
_WANDER_IN_DOUBT = 0.35
# Power that is not logged wanders all the same: by this share, for about so long.
_UNLOGGED_WANDER, _WANDER_S = 0.004, 300.0
# So does a room that is not logged.
_UNLOGGED_ROOM_K, _ROOM_S = 0.4, 2400.0
# Share of the settled rise at rest, where no reference tells it.
_USUAL_START = 0.12
# Suppositions that count less than this are left out of the drawn course.
_NO_PART, _PART_DRAWS = 0.01, 100


@dataclass(frozen=True, slots=True)
class HeatingFit:
    """A fitted curve, and what its readings cannot show."""

    relaxation: Relaxation
    begin_s: float  # from when on it was fitted: what came before is boost
    hidden_k: float  # by the steps of the sensors
    seen_k: float  # how far the readings rose
    fanless: float  # how likely it is that no fan is at work, 0 to 1
    _parts: tuple["_Part", ...]

    def course(self, elapsed_s: Floats) -> Floats:
        """Return the mean course over the time since the load began, without what slow bodies miss."""
        return np.asarray(sum(part.weight * part.course(elapsed_s) for part in self._parts))

    def tails_missing(self, elapsed_s: Floats) -> tuple[Floats, float]:
        """Return what slow bodies still miss at these times, and its doubt at the last of them."""
        told = [
            part.tails.missing_at(elapsed_s, part.left, part.covariance) for part in self._parts
        ]
        weights = np.array([part.weight for part in self._parts])
        means = np.array([mean for mean, _ in told])
        mean = weights @ means
        apart = np.array([doubt for _, doubt in told]) ** 2 + (means[:, -1] - mean[-1]) ** 2
        return mean, float(np.sqrt(weights @ apart))


@dataclass(frozen=True, slots=True)
class _Part:
    """What was found under one supposition of slow bodies, and how much it counts."""

    weight: float
    course: CubicSpline
    tails: SlowTails
    left: Floats  # what the course leaves of each bin, and its covariance
    covariance: Floats


def fit_heating(
    grid: Grid,
    curve: Floats,
    room: Floats | None,
    watts: Floats | None,
    span: LoadSpan,
    slowest: tuple[float, float] = USUAL_SLOWEST,
) -> HeatingFit:
    """Fit the curve of one load.

    Parameters
    ----------
    grid : Grid
        Even steps of time, up to the end of the load.
    curve, room, watts : array, one value a step
        Temperature (NaN where not read), reference and power (filled; None if not logged).
    span : LoadSpan
        When the load ran.
    slowest : tuple of float
        What is known of the slowest time constant before: see `fit_relaxation`.
    """
    times = grid.times_s
    begin_s = span.start_s + _boost_length(grid, watts, span)
    used = (times >= begin_s) & (times <= span.end_s)
    elapsed = times[used] - span.start_s
    constants = time_constant_list(grid.step_s)
    bins = _bins(elapsed, grid.step_s)
    seconds = np.bincount(bins, weights=np.isfinite(curve[used]) * grid.step_s)
    kept = seconds > 0
    duration: Floats = np.asarray(seconds[kept], dtype=np.float64)
    middle = np.asarray(np.bincount(bins, weights=elapsed)[kept] / np.bincount(bins)[kept])
    latter = curve[used][elapsed.size // 2 :]
    hidden_k = float(
        np.hypot(
            quantisation_error(latter), 0.0 if room is None else quantisation_error(room[used])
        )
    )
    rise = curve if room is None else curve - lagged(room, grid.step_s, USUAL_LAG_S)
    density = max(noise_density(np.diff(curve[used], 2) / np.sqrt(6), grid.step_s), 1e-4)
    scatter_k = max(float(np.sqrt(density / grid.step_s)), 1e-3)
    apart_s = np.abs(middle[:, None] - middle)
    length_s = span.end_s - span.start_s
    doubts: list[Floats] = []
    start_share, among, fanless = None, None, 0.0
    for number, most in enumerate(_PASSES, start=1):
        last = number == len(_PASSES)
        series = _bin_means(rise[used], bins, kept)
        rough_k = _ROUGH * float(np.ptp(series)) * np.exp(-middle / (0.1 * elapsed[-1]))
        covariance = noise_covariance(middle, duration, density, scatter_k**2)
        covariance += np.diag(hidden_k**2 + rough_k**2)
        if watts is None:
            unlogged_k = _UNLOGGED_WANDER * float(np.ptp(series))
            covariance += unlogged_k**2 * np.exp(-apart_s / _WANDER_S)
        if room is None:
            covariance += _UNLOGGED_ROOM_K**2 * np.exp(-apart_s / _ROOM_S)
        for doubt in doubts:
            column = _bin_means(doubt[used], bins, kept)
            covariance += np.outer(column, column)
        change = _change(series)
        tails = [
            SlowTails(middle, change, size) for size in ((SOME, HARDLY_ANY) if last else (ANY,))
        ]
        accounts = [
            Account(series + one.usual, covariance + one.covariance, one.size.chance)
            for one in tails
        ]
        relaxation = fit_relaxation(
            middle, accounts, constants, most=most, among=among if last else None,
            start_share=start_share if last else None, slowest=slowest, fanless=fanless, draft=not last,
            draws=4000 if last else 250,
        )  # fmt: skip
        if last:
            break
        course = relaxation.mean_course(length_s)
        among = relaxation.sets
        start_share = _start_share(relaxation, rise, room is not None, times < span.start_s)
        if watts is not None and room is not None:
            settled, mean_w = (
                relaxation.quantile(relaxation.settled, 0.5),
                float(watts[used].mean()),
            )
            fanless = fanless_chance(settled / mean_w) if mean_w > 0 else 0.0
        approach = course((times - span.start_s).clip(min=0))
        density = max(noise_density((rise - approach)[used], grid.step_s), 1e-4)
        scatter_k = max(float(np.nanstd((rise - approach)[used])), 1e-3)
        rise, doubts = curve.copy(), []
        if room is not None:
            felt = _as_felt(room, relaxation, grid.step_s)
            rise -= felt
            doubts += [_GAIN_IN_DOUBT * (felt - felt[used].mean()), _DELAY_IN_DOUBT * (room - felt)]
        if watts is not None:
            effect = power_effect(watts, approach, rise, relaxation, used, span, grid)
            if effect is not None:
                rise -= effect.wander_k
                doubts += [_WANDER_IN_DOUBT * effect.wander_k, effect.leakage_doubt_k]
    rise = rise[used]
    tenth = max(rise.size // 10, 1)
    seen_k = abs(_mean(rise[-tenth:]) - _mean(rise[:tenth]))
    parts = []
    for number, (account, one) in enumerate(zip(accounts, tails, strict=True)):
        weight = float(relaxation.weights[relaxation.supposed == number].sum())
        if weight > _NO_PART:
            course = relaxation.under(number).mean_course(length_s, _PART_DRAWS)
            left = account.series - course(middle)
            parts.append(_Part(weight, course, one, left, account.covariance))
    return HeatingFit(relaxation, begin_s, hidden_k, seen_k, fanless, tuple(parts))


def _boost_length(grid: Grid, watts: Floats | None, span: LoadSpan) -> float:
    """Return how many seconds at the start of the load are left out."""
    length = span.end_s - span.start_s
    usual = min(_BOOST_S, 0.05 * length)
    if watts is None:
        return usual
    under_load = watts[(grid.times_s >= span.start_s) & (grid.times_s <= span.end_s)]
    typical = float(np.median(under_load[under_load.size // 2 :]))
    # The first reading may still be ramping up; a boost is what lies above the usual from then on.
    ended = np.flatnonzero(under_load[2:] <= 1.05 * typical)
    boost = (float(ended[0]) + 4) * grid.step_s if ended.size else 0.0
    return max(min(boost, length / 3), usual)


def _start_share(relaxation: Relaxation, rise: Floats, over: bool, before: Bools) -> float:
    """Return which share of the settled rise was there when the load began."""
    settled = relaxation.quantile(relaxation.settled, 0.5)
    if not over or settled <= 1:
        return _USUAL_START
    rest = rise[before & np.isfinite(rise)]
    start = (
        float(np.median(rest))
        if rest.size
        else settled - float(relaxation.quantile(relaxation.missing_at(0.0), 0.5))
    )
    return float(np.clip(start / settled, 0.02, 0.9))


def _change(series: Floats) -> float:
    """Return how far the series went, with its sign."""
    tenth = max(series.size // 10, 1)
    way = np.sign(series[-tenth:].mean() - series[:tenth].mean()) or 1.0
    return float(way * np.ptp(series))


def _mean(values: Floats) -> float:
    present = values[np.isfinite(values)]
    return float(present.mean()) if present.size else 0.0


def _as_felt(room: Floats, relaxation: Relaxation, step_s: float) -> Floats:
    """Return the reference as the part feels it: late, through the same heat capacities."""
    parts = [weight * lagged(room, step_s, constant) for constant, weight in relaxation.passages()]
    return np.asarray(np.sum(parts, axis=0))


def _bins(elapsed_s: Floats, step_s: float) -> NDArray[np.int64]:
    """Return the bin of each moment: short where the curve is steep, at most a share of the load long."""
    length = elapsed_s[-1] - elapsed_s[0]
    edges = [float(elapsed_s[0])]
    while edges[-1] < elapsed_s[-1]:
        width = np.clip(0.08 * (edges[-1] + step_s), step_s, max(length / _BINS, step_s))
        edges.append(edges[-1] + float(width))
    return np.clip(np.searchsorted(edges, elapsed_s, side="right") - 1, 0, len(edges) - 1)


def _bin_means(series: Floats, bins: NDArray[np.int64], kept: Bools) -> Floats:
    present = np.isfinite(series)
    count = np.bincount(bins[present], minlength=kept.size)
    total = np.bincount(bins[present], weights=series[present], minlength=kept.size)
    return np.asarray(total[kept] / count[kept])
