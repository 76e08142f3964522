"""The curve of one load, fitted pass by pass: each knows noise, room and power better."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.interpolate import CubicSpline

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.recording.load_span import LoadSpan
from gelassen.core.signal.grid import Grid, lagged
from gelassen.core.signal.noise import noise_density
from gelassen.core.signal.restless import block_means, restless_std
from gelassen.core.signal.smooth_steps import unstepped
from gelassen.core.thermal.driven import Driven, driven_by
from gelassen.core.thermal.fanless import fanless_chance
from gelassen.core.thermal.load_bins import LoadBins
from gelassen.core.thermal.power_effect import power_effect, settled_power
from gelassen.core.thermal.priors import Boost, Doubt, Fit, Start
from gelassen.core.thermal.reference_place import BESIDE, ROOM, Place, places
from gelassen.core.thermal.relaxation import Relaxation
from gelassen.core.thermal.relaxation_fit import (
    Account,
    fit_relaxation,
    time_constant_list,
)
from gelassen.core.thermal.slow_bodies import SUPPOSED, SlowTails, TailsTold


@dataclass(frozen=True, slots=True)
class HeatingFit:
    """A fitted curve, and the doubts that its readings cannot settle."""

    relaxation: Relaxation
    begin_s: float  # start of the fitted part; before it lies the boost
    hidden_k: float  # error hidden by the steps of the sensors, in K
    seen_k: float  # how far the readings rose
    fanless: float  # how likely it is that no fan is at work, 0 to 1
    settled_w: float  # the power that belongs to the settled rise; NaN where none was logged
    conditions_c: (
        Floats  # effect of room and power wander on the temperature, one value a step of the grid
    )
    settled_conditions_c: float  # the same effect at the settled end
    varies: float  # variance of the load, in units of its mean squared; 0 where it did not vary
    _parts: tuple["_Part", ...]

    def course(self, elapsed_s: Floats) -> Floats:
        """Return the mean course over the time since load start, without what slow bodies still miss."""
        return _mean_course(self._parts, elapsed_s)

    def tails_missing(self, elapsed_s: Floats) -> tuple[Floats, float]:
        """Return what slow bodies still miss at these times, and its doubt at the last of them."""
        told = [part.tails.missing_at(elapsed_s) for part in self._parts]
        weights = np.array([part.weight for part in self._parts])
        means = np.array([mean for mean, _ in told])
        mean = weights @ means
        apart = np.array([doubt for _, doubt in told]) ** 2 + (means[:, -1] - mean[-1]) ** 2
        return mean, float(np.sqrt(weights @ apart))

    def tails_of_each(self, elapsed_s: Floats) -> Floats:
        """Return what slow bodies still miss at these times under each supposition, one row each."""
        mean, _ = self.tails_missing(elapsed_s)
        rows = np.tile(mean, (int(self.relaxation.supposed.max()) + 1, 1))
        for part in self._parts:
            rows[part.number] = part.tails.missing_at(elapsed_s)[0]
        return rows


@dataclass(frozen=True, slots=True)
class _Part:
    """The fit under one assumption about slow bodies, and its weight."""

    number: int  # of the assumption
    weight: float
    course: CubicSpline
    tails: TailsTold


@dataclass(frozen=True, slots=True)
class LoadOnGrid:
    """A log on even steps of time, up to the end of its load: one value a step.

    Attributes
    ----------
    temperature, room, watts
        Temperature (NaN where not read), reference and power (filled; None if not logged).
    hidden_k
        What the steps of the sensors hide, as a standard error in K: seen in readings before averaging.
    varies
        Whether the load comes and goes, so that the fit follows its power.
    """

    grid: Grid
    temperature: Floats
    room: Floats | None
    watts: Floats | None
    hidden_k: float
    varies: bool = False

    @property
    def rise(self) -> Floats:
        """Rise over the reference; the temperature where no reference was logged."""
        return self.temperature if self.room is None else self.temperature - self.room

    @property
    def is_restless(self) -> bool:
        """Whether the temperature goes up and down as under a load that varies."""
        moves_k = restless_std(self.temperature, self.grid.step_s)
        return moves_k > Doubt.RESTLESS * _range(self.rise)


def fit_heating(
    log: LoadOnGrid,
    span: LoadSpan,
    *,
    slowest: tuple[float, float] | None = None,
    coolant: bool | None = None,
    before: Sequence[tuple[float, float]] = (),
) -> HeatingFit:
    """Fit the curve of one load.

    Parameters
    ----------
    log : LoadOnGrid
        The readings.
    span : LoadSpan
        When the load ran.
    slowest : tuple of float, optional
        Prior of the slowest time constant, where another load told it: see `fit_relaxation`.
    coolant : bool, optional
        Whether the reference is coolant; found from how it moves if not told.
    before : sequence of tuples
        Changes of the rise before this load, in K, and how long before each was, in s.
    """
    grid, curve, room, watts, hidden_k = (
        log.grid, log.temperature, log.room, log.watts, log.hidden_k
    )  # fmt: skip
    drive = driven_by(watts, span, grid) if log.varies and watts is not None else None
    begin_s = span.start_s + boost_length(grid, None if log.varies else watts, span)
    used = (grid.times_s >= begin_s) & (grid.times_s <= span.end_s)
    before = before or _before_the_log(grid, curve, room, span)
    bins = LoadBins.of(
        grid, curve, used, span.start_s, hidden_k, watts is not None, room is not None, before
    )
    tried = places(curve[used], None if room is None else room[used], coolant)
    if room is not None and any(place is BESIDE for place, _ in tried):
        under_load = (grid.times_s >= span.start_s) & (grid.times_s <= span.end_s)
        room, rounded = unstepped(room, under_load)
        bins = bins.with_rounding(rounded)
    load = _Load(grid, curve, room, watts, span, used, bins, drive)
    looks = [load.first(place, slowest) for place, _ in tried]
    if len(looks) > 1:  # both are compared with the smaller noise
        noise = min(load.noise(one) for one in looks)
        looks = [load.first(place, slowest, noise) for place, _ in tried]
    chances = [
        np.log(chance) + one.relaxation.log_evidence
        for one, (_, chance) in zip(looks, tried, strict=True)
    ]
    look = load.last(load.second(looks[int(np.argmax(chances))]))

    relaxation = look.relaxation
    rise = look.rise[used]
    tenth = max(rise.size // 10, 1)
    seen_k = abs(_mean(rise[-tenth:]) - _mean(rise[:tenth]))
    parts = load.parts(look)
    settled_w = load.settled_power(look, parts)
    conditions = look.conditions_c
    if drive is not None:
        conditions = conditions + drive.course(relaxation)
    # A room stays near its mean. Coolant, which the load warms, stays at its last value.
    settled_c = float(conditions[-1] if look.place is BESIDE else conditions[used].mean())
    return HeatingFit(
        relaxation, begin_s, hidden_k, seen_k, look.fanless, settled_w, conditions, settled_c,
        0.0 if drive is None else drive.variance, tuple(parts),
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Look:
    """The result of one pass."""

    place: Place
    slowest: tuple[float, float] | None
    rise: Floats  # over the delayed reference, one value a step
    conditions_c: Floats  # what was subtracted for the reference and for power wander
    tails: list[SlowTails]
    accounts: list[Account]
    relaxation: Relaxation
    fanless: float = 0.0


@dataclass(frozen=True, slots=True)
class _Load:
    """One load, and the passes over it."""

    grid: Grid
    curve: Floats
    room: Floats | None
    watts: Floats | None
    span: LoadSpan
    used: Bools
    bins: LoadBins
    drive: Driven | None

    @property
    def length_s(self) -> float:
        """How long it ran."""
        return self.span.end_s - self.span.start_s

    def parts(self, look: _Look) -> list[_Part]:
        """Return the fit under each assumption about slow bodies that has some weight."""
        relaxation, parts = look.relaxation, []
        for number, (account, one) in enumerate(zip(look.accounts, look.tails, strict=True)):
            weight = float(relaxation.weights[relaxation.supposed == number].sum())
            if weight > Fit.NO_PART:
                course = relaxation.under(number).mean_course(self.length_s)
                left = account.series - course(self.bins.middle_s)
                parts.append(_Part(number, weight, course, one.told(left, account.covariance)))
        return parts

    def settled_power(self, look: _Look, parts: Sequence[_Part]) -> float:
        """Return the power that belongs to the settled rise, in W; NaN where none was logged."""
        if self.watts is None:
            return float("nan")
        if self.drive is not None:
            return float(self.watts[self.used].mean())
        elapsed = (self.grid.times_s - self.span.start_s).clip(min=0)
        settled_k = look.relaxation.quantile(look.relaxation.settled, 0.5)
        return settled_power(
            self.watts, _mean_course(parts, elapsed), settled_k, self.used, self.grid
        )

    def first(
        self,
        place: Place,
        slowest: tuple[float, float] | None,
        noise: tuple[float, float] | None = None,
    ) -> _Look:
        """Fit with the given noise (or that between neighbouring readings) and the usual delay."""
        step_s = self.grid.step_s
        felt = (
            np.zeros_like(self.curve)
            if self.room is None
            else lagged(self.room, step_s, place.lag_s)
        )
        rise = self.curve - felt
        neighbours = np.diff(self.curve[self.used], 2) / np.sqrt(6)
        density = max(noise_density(neighbours, step_s), 1e-4)
        noise = noise or (density, max(float(np.sqrt(density / step_s)), 1e-3))
        tails = self.bins.tails(rise)
        accounts = self.bins.accounts(tails, rise, [], noise)
        usual = slowest or place.slowest
        relaxation = fit_relaxation(
            self.bins.middle_s, accounts, time_constant_list(step_s), most=2, slowest=usual, draft=True,
            draws=Fit.FEW_DRAWS, driven=self._driven(),
        )  # fmt: skip
        return _Look(place, usual, rise, felt, tails, accounts, relaxation)

    def second(self, look: _Look) -> _Look:
        """Fit three exponentials, knowing noise, delay and wander of the power."""
        return self._again(look, last=False)

    def last(self, look: _Look) -> _Look:
        """Fit bends as well."""
        return self._again(look, last=True)

    def _again(self, look: _Look, *, last: bool) -> _Look:
        grid, span, used, relaxation = self.grid, self.span, self.used, look.relaxation
        before = grid.times_s < span.start_s
        start_share = _start_share(relaxation, look.rise, self.room is not None, before)
        fanless = self._fanless(relaxation)
        approach = self._approach(look)
        conditions, doubts = np.zeros_like(self.curve), []
        if self.room is not None:
            passages = relaxation.passages() if look.place is ROOM else [(look.place.lag_s, 1.0)]
            felt = _as_felt(self.room, passages, grid.step_s)
            conditions = conditions + felt
            gain = look.place.gain_in_doubt * (1 - Doubt.SURER_FANLESS * fanless)
            doubts.append(gain * (felt - felt[used].mean()))
            doubts.append(look.place.delay_in_doubt * (self.room - felt))
            if look.place is ROOM:
                passages = relaxation.passages(through_slow=True)
                later = _as_felt(self.room, passages, grid.step_s)
                doubts.append(Doubt.SLOW_IN_THE_WAY * (later - felt))
                doubts.append(Doubt.ROOM_HELD * (felt - lagged(felt, grid.step_s, Doubt.HELD_S)))
        if self.drive is not None:
            doubts.append(Doubt.FOLLOWED * self.drive.course(relaxation))
        elif self.watts is not None and look.place is ROOM:
            rise = self.curve - conditions
            effect = power_effect(self.watts, approach, rise, relaxation, used, span, grid)
            if effect is not None:
                conditions = conditions + effect.wander_k
                doubts += [Doubt.WANDER * effect.wander_k, effect.leakage_doubt_k]
        rise = self.curve - conditions
        tails = self.bins.tails(rise, *(SUPPOSED if last else ()))
        noise = self._noise(look.rise - approach)
        accounts = self.bins.accounts(tails, rise, doubts, noise)
        found = fit_relaxation(
            self.bins.middle_s, accounts, time_constant_list(grid.step_s), slowest=look.slowest,
            fanless=fanless, among=relaxation.sets if last else None,
            start_share=start_share if last else None, draft=not last,
            draws=Fit.DRAWS if last else Fit.FEW_DRAWS,
            freedom=self._freedom(*noise), driven=self._driven(),
        )  # fmt: skip
        return replace(
            look, rise=rise, conditions_c=conditions, tails=tails, accounts=accounts,
            relaxation=found, fanless=fanless,
        )  # fmt: skip

    def noise(self, look: _Look) -> tuple[float, float]:
        """Return density and standard deviation of the residuals of a pass."""
        return self._noise(look.rise - self._approach(look))

    def _noise(self, left: Floats) -> tuple[float, float]:
        density = max(noise_density(left[self.used], self.grid.step_s), 1e-4)
        scatter_k = max(float(np.nanstd(left[self.used])), 1e-3)
        if self.watts is None:
            scenes_k = float(block_means(left[self.used], self.grid.step_s).std())
            if scenes_k > Doubt.SCENES * _range(self.curve[self.used]):
                density = max(density, 2 * Doubt.SCENE_S * scenes_k**2)
        return density, scatter_k

    def _freedom(self, density: float, std: float) -> float:
        """Return the number of independent stretches in which the noise was seen."""
        return float(np.clip(self.length_s * std**2 / density, *Doubt.FREEDOM))

    def _driven(self) -> Floats | None:
        """Return how each time constant of the list follows a load that varies."""
        if self.drive is None:
            return None
        return self.bins.driven(self.drive, time_constant_list(self.grid.step_s))

    def _approach(self, look: _Look) -> Floats:
        course = look.relaxation.mean_course(self.length_s)
        approach = np.asarray(course((self.grid.times_s - self.span.start_s).clip(min=0)))
        return approach if self.drive is None else approach + self.drive.course(look.relaxation)

    def _fanless(self, relaxation: Relaxation) -> float:
        """Return how likely it is that no fan is at work."""
        if self.watts is None or self.room is None:
            return 0.0
        mean_w = float(self.watts[self.used].mean())
        settled = relaxation.quantile(relaxation.settled, 0.5)
        return fanless_chance(settled / mean_w) if mean_w > 0 else 0.0


def _before_the_log(
    grid: Grid, curve: Floats, room: Floats | None, span: LoadSpan
) -> Sequence[tuple[float, float]]:
    """Return the rise that a load had reached when its log began. Slow bodies still follow it.

    The first readings also hold the rise at rest and the quickest parts. These make up about half of the
    rise seen if the log begins with the load, and little if it begins long after it.
    """
    first = grid.times_s <= grid.times_s[0] + Start.FIRST_S
    if room is None or span.start_s > grid.times_s[0] + Start.FIRST_S:
        return ()
    rise = curve - room
    start_k, end_k = (
        _mean(rise[first]),
        _mean(rise[grid.times_s >= span.end_s - Start.FIRST_S]),
    )
    done_k = start_k - 0.5 * abs(end_k - start_k)
    return ((done_k, Start.UNSEEN_S),) if done_k > 0 else ()


def boost_length(grid: Grid, watts: Floats | None, span: LoadSpan) -> float:
    """Return how many seconds at the start of a load are left out: the boost, at least a minute."""
    length = span.end_s - span.start_s
    usual = min(Boost.USUAL_S, Boost.USUAL_SHARE * length)
    if watts is None:
        return usual
    under_load = watts[(grid.times_s >= span.start_s) & (grid.times_s <= span.end_s)]
    typical = float(np.median(under_load[under_load.size // 2 :]))
    # The first reading may still be on its way up. A boost lies above the usual power after it.
    ended = np.flatnonzero(under_load[2:] <= Boost.ABOVE * typical)
    boost = (float(ended[0]) + 4) * grid.step_s if ended.size else 0.0
    return max(min(boost, Boost.MOST_OF_LOAD * length), usual)


def _start_share(relaxation: Relaxation, rise: Floats, over: bool, before: Bools) -> float:
    """Return which share of the settled rise was there when the load began."""
    settled = relaxation.quantile(relaxation.settled, 0.5)
    if not over or settled <= 1:
        return Start.USUAL_SHARE
    rest = rise[before & np.isfinite(rise)]
    start = (
        float(np.median(rest))
        if rest.size
        else settled - float(relaxation.quantile(relaxation.missing_at(0.0), 0.5))
    )
    return float(np.clip(start / settled, *Start.SHARES))


def _mean_course(parts: Sequence[_Part], elapsed_s: Floats) -> Floats:
    return np.asarray(sum(part.weight * part.course(elapsed_s) for part in parts))


def _range(values: Floats) -> float:
    return float(np.nanmax(values) - np.nanmin(values))


def _mean(values: Floats) -> float:
    present = values[np.isfinite(values)]
    return float(present.mean()) if present.size else 0.0


def _as_felt(room: Floats, passages: list[tuple[float, float]], step_s: float) -> Floats:
    """Return the reference delayed by the heat capacities between it and the part."""
    parts = [weight * lagged(room, step_s, constant) for constant, weight in passages]
    return np.asarray(np.sum(parts, axis=0))
