"""Moments at which the conditions changed during a run: a panel removed, a fan stopped."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from gelassen.core.grid import make_grid
from gelassen.core.inputs import (
    Bools,
    Floats,
    SeriesLike,
    as_confidence,
    as_series,
    as_time,
    need_readings,
)
from gelassen.core.loadspan import LoadSpan, span_from_temperature
from gelassen.core.noise import quantisation_error, step_size
from gelassen.core.result import Result
from gelassen.core.stepmodel import WAYS, Background, Change, Fit, StepModel
from gelassen.core.steptiming import EVERY_COURSE, FEW_COURSES, WITHOUT_POWER, Courses
from gelassen.core.whitening import Whitener

_START_S, _EARLIEST_S = 60.0, 90.0
# Changes below this share of the whole course, or so many steps of the sensor, are left to the noise;
# so are those small against what the approach still had to go: no approach is quite as modelled.
_SMALLEST, _COARSE_STEPS, _SHARE_OF_APPROACH = 0.03, 1.2, 0.4
_MOST_STEPS = 8
# Where an approach alone comes this near everywhere, against the smallest change that is told, none is.
_TRACE = 0.05
_WORTH_TRYING = 0.45
# The courses a change may take are few and rough: evidence about its moment counts for less.
_TRUST = 0.3
# A moment that was noted: how far off the note may be, and how much a change there must explain.
_NOTED_S, _NEEDED_IF_TOLD = 30.0, 14.0
_ENDED_SHARE = 0.4
_BINS, _MOMENTS = 400, 48
_READ_SHARE = 0.2  # of a bin that counts as measured
# Models are never quite right: what explains must explain this much more than chance would.
_MARGIN = 13.0
# So must what no smooth course explains, where a change counts by this much of its least size.
_NEEDED_FREE, _FREE_SIZE, _WORTH_REFINING = 25.0, 0.9, 0.8


@dataclass(frozen=True, slots=True, kw_only=True)
class Step(Result):
    """One change of conditions.

    Attributes
    ----------
    at_s, low_s, high_s
        When it happened, with its interval, in s.
    before, after
        Where the channel was settling before and after it, in the channel's unit.
    noted
        What the tester noted about that moment, if anything.
    """

    at_s: float
    low_s: float
    high_s: float
    before: float
    after: float
    noted: str = ""

    def __str__(self) -> str:
        way = "up" if self.after > self.before else "down"
        return (
            f"changed at {self.at_s:.0f} s ({self.low_s:.0f} to {self.high_s:.0f} s): "
            f"{way} by {abs(self.after - self.before):.1f}"
            + (f" (noted: {self.noted})" if self.noted else "")
        )


def find_steps(
    time_s: SeriesLike,
    values: SeriesLike,
    *,
    confidence: float = 0.95,
    load_s: tuple[float, float] | None = None,
    told_s: Sequence[float] = (),
    smallest: float = 0.0,
    power_known: bool = False,
) -> tuple[Step, ...]:
    """Find the moments at which the conditions changed; the load's own start and end are none.

    Parameters
    ----------
    time_s, values : array_like, shape (n,)
        Sample times in s and one channel: best a rise over the room, but also power or fan speed.
    confidence : float
        How sure a step must be to be told, and the share of intervals that cover its moment.
    load_s : tuple of float, optional
        Start and end of the load, in s; found from the values if not given.
    told_s : sequence of float
        Moments at which the tester changed something, in s. A change there is not searched for: it
        needs less to be believed, but still has to show.
    smallest : float
        Changes smaller than this, in the channel's unit, are not worth telling.

    power_known : bool
        Changes of power are among the moments told: any other change is felt through heat capacities.

    Raises
    ------
    InputError
        Arrays of different lengths, times that run backwards, no reading at all.

    Notes
    -----
    The course is modelled as an approach, a few changes that the channel follows at once, through
    heat capacities or through case air first (`core/stepmodel.py`), and noise with a memory, whose
    size and length the readings themselves tell (`core/whitening.py`). Changes are added one by one
    while the likelihood, with the noise described anew each time, rises by far more than chance
    would let it. Not yet done: changes within the first minutes of the load.
    """
    times = as_time(time_s)
    series = as_series("values", values, like=times)
    need_readings("values", series)
    confidence = as_confidence(confidence)
    start_s, begin_s, end_s = _limits(times, series) if load_s is None else _within(*load_s)
    used = (times >= begin_s) & (times <= end_s) & np.isfinite(series)
    used &= _longest_part(times, used)
    if used.sum() < 60:
        return ()
    grid = make_grid(times[used], float(times[used][-1]))
    filled = grid.filled(times[used], series[used])
    if not np.ptp(filled) > 0:
        return ()
    width = max(grid.size // _BINS, 1)
    count = grid.size // width
    read = np.isfinite(grid.averaged(times[used], series[used])).astype(float)
    course, middle, read = (
        each[: count * width].reshape(count, width).mean(axis=1)
        for each in (filled, grid.times_s, read)
    )
    hidden = quantisation_error(series[used])
    model = StepModel(middle - start_s, course, read >= _READ_SHARE, hidden)
    least = max(
        _SMALLEST * float(np.ptp(course)), _COARSE_STEPS * step_size(series[used]), smallest
    )
    told = tuple(float(moment) - start_s for moment in told_s)
    courses = WITHOUT_POWER if power_known else EVERY_COURSE
    return _Search(model, course, confidence, least, told, courses).steps(start_s)


def _longest_part(times: Floats, used: Bools) -> Bools:
    """Return where to look if a gap is longer than all that was read: the longest part beside it."""
    at = times[used]
    gaps = np.diff(at)
    if not gaps.size or gaps.max() <= 0.5 * (at[-1] - at[0]):
        return used
    wide = int(np.argmax(gaps))
    first = np.asarray(times <= at[wide])
    return first if wide + 1 >= at.size - wide - 1 else ~first


def _limits(times: Floats, series: Floats) -> tuple[float, float, float]:
    """Return when the load began, and from when until when to look for changes."""
    span = span_from_temperature(times, series)
    if not span.found_start:
        # What falls then is no load that ends but a fan that stops, or the like. The log may begin
        # with the load itself.
        begin_s = float(times[0])
        skipped = _START_S if times[-1] - begin_s > 5 * _START_S else 0.0
        return begin_s, begin_s + skipped, float(times[-1])
    end_s = span.end_s if _went_back(times, series, span) else float(times[-1])
    return _within(span.start_s, end_s)


def _within(start_s: float, end_s: float) -> tuple[float, float, float]:
    # A boost at the start of the load, and the chip's own quick answer, are not a change.
    return start_s, start_s + _START_S, end_s


def _went_back(times: Floats, series: Floats, span: LoadSpan) -> bool:
    """Say whether the load ended: what falls by less than most of its rise is a change."""
    if not span.found_end:
        return False
    present = np.isfinite(series)
    at_s, values = times[present], series[present]
    after = values[at_s > span.end_s][-10:]
    if not after.size:
        return False
    level = float(np.median(values[at_s <= span.start_s]))
    top = float(values[(at_s > span.start_s) & (at_s <= span.end_s)].max())
    last = float(np.median(after))
    return last < level + _ENDED_SHARE * (top - level)


@dataclass(frozen=True, slots=True)
class _Search:
    """Adds the change that explains most, again and again, until none explains enough."""

    model: StepModel
    course: Floats
    confidence: float
    least: float  # changes smaller than this are left to the noise
    told: tuple[float, ...]  # moments that need no search
    courses: Courses  # that a change can take

    @property
    def needed(self) -> float:
        """The best of many candidates is large by chance too: the bar rises with their number."""
        return 2 * float(np.log(2 * WAYS * _MOMENTS / (1 - self.confidence))) + _MARGIN

    def steps(self, start_s: float) -> tuple[Step, ...]:
        found = self.model.fit((), Background(Whitener(0.0, 0.0, 1.0)))
        if self.model.furthest_off(found) < _TRACE * self.least:
            return ()  # an approach alone tells nearly all of it
        for moment in self._worth_trying(found):
            found = self._with_told(found, moment)
        while len(found.changes) < _MOST_STEPS:
            # An enclosure put on and taken off again: neither change stands out before both are known.
            kept = found
            for number in (1, 2):
                more = self._with_more(found, number)
                if more is not None and 2 * (more.likelihood - found.likelihood) >= self.needed:
                    kept = self._kept(self._again(more))
                if len(kept.changes) > len(found.changes):
                    break
            if len(kept.changes) <= len(found.changes):
                break
            found = kept
        return tuple(self._as_steps(found, start_s))

    def _worth_trying(self, found: Fit) -> list[float]:
        """Return the noted moments at which anything shows: there may be hundreds of notes."""
        elapsed = self.model.elapsed_s
        inside = (elapsed[0] + _EARLIEST_S, elapsed[-1] - 20)
        moments = np.array([m for m in self.told if inside[0] < m < inside[1]])
        if moments.size == 0:
            return []
        both = self.model.likelihoods((), moments, (1.0, -1.0), found.background).max(axis=1)
        gains = 2 * (both - self.model.level((), found.background))
        order = np.argsort(gains)[::-1][:_MOST_STEPS]
        return [float(moments[k]) for k in order if gains[k] >= _WORTH_TRYING * _NEEDED_IF_TOLD]

    def _with_told(self, found: Fit, moment_s: float) -> Fit:
        """Add a change that the tester noted, if it shows at all."""
        trials = [
            self._refined(found.changes, Change(moment_s, sign), _NOTED_S, found.background)
            for sign in (1.0, -1.0)
        ]
        best = max(trials, key=lambda fit: fit.likelihood)
        return self._kept(best)

    def _needed_at(self, moment_s: float) -> float:
        noted = any(abs(moment_s - told) <= 2 * _NOTED_S for told in self.told)
        return _NEEDED_IF_TOLD if noted else self.needed

    def _with_more(self, found: Fit, number: int) -> Fit | None:
        """Return the best fit with one or two more changes."""
        elapsed = self.model.elapsed_s
        length = float(elapsed[-1] - elapsed[0])
        last_s = float(elapsed[-1]) - max(20.0, 0.01 * length)
        moments = np.linspace(float(elapsed[0]) + _EARLIEST_S, last_s, _MOMENTS)
        pitch = float(moments[1] - moments[0])
        taken = np.array([change.moment_s for change in found.changes])
        apart = np.abs(moments[:, None] - taken).min(axis=1, initial=np.inf)
        moments = moments[apart >= max(30.0, 0.02 * length)]
        if moments.size < number:
            return None
        best: Fit | None = None
        for noise in self._noises(found):
            course = self.model.free_course(found.changes, noise)
            if number == 1:
                gains, sizes = course.gains(moments, FEW_COURSES)
                which, place = np.unravel_index(int(np.argmax(gains)), gains.shape)
                gain, places = gains[which, place], [(int(place), float(sizes[which, place]))]
            else:
                gain, places = course.best_pair(moments, FEW_COURSES)
            if gain < number * _WORTH_REFINING * _NEEDED_FREE:
                continue
            more = [Change(float(moments[k]), float(np.sign(size))) for k, size in places]
            background = replace(found.background, noise=noise)
            for change in more:
                others = tuple(c for c in more if c is not change)
                fit = self._refined((*found.changes, *others), change, pitch, background)
                more = [*others, fit.changes[-1]]
                background = fit.background
            if best is None or fit.likelihood > best.likelihood:
                best = fit
        return best

    def _noises(self, found: Fit) -> tuple[Whitener, ...]:
        """Return what the noise may be: a change that is not known yet passes for a long memory of it."""
        noise = self.model.free_noise(found.changes, found.background.noise)
        short = replace(noise, fade=min(noise.fade, 0.9))
        shorter = replace(noise, fade=min(noise.fade, 0.6), moving=0.0)
        return tuple(dict.fromkeys((noise, short, shorter)))

    def _refined(
        self, others: tuple[Change, ...], change: Change, reach_s: float, background: Background
    ) -> Fit:
        """Shift the moment to where it explains most, and describe the noise anew."""
        for reach in (reach_s, reach_s / 4, reach_s / 16):
            moments = change.moment_s + np.linspace(-reach, reach, 9)
            moments = moments[moments >= self.model.elapsed_s[0] + _EARLIEST_S]
            scores = self.model.likelihoods(others, moments, (change.sign,), background)
            change = Change(float(moments[int(np.argmax(scores))]), change.sign)
            fit = self.model.fit((*others, change), background)
            background = fit.background
        return fit

    def _again(self, fit: Fit) -> Fit:
        """Shift each change again, now that there are others beside it."""
        if len(fit.changes) < 2:
            return fit
        pitch = float(np.ptp(self.model.elapsed_s)) / _MOMENTS
        for _ in fit.changes:  # each goes to the end of the list in its turn
            first, *others = fit.changes
            fit = self._refined(tuple(others), first, pitch, fit.background)
        return fit

    def _kept(self, fit: Fit) -> Fit:
        """Throw out the change that explains least, again and again, until all explain enough."""
        while fit.changes:
            worth = []
            for k, size in enumerate(fit.seen):
                needed = self._needed_at(fit.changes[k].moment_s)
                least = max(self.least, _SHARE_OF_APPROACH * fit.going[k])
                least *= 0.5 if needed < self.needed else 1.0
                without = self.model.fit(fit.changes[:k] + fit.changes[k + 1 :], fit.background)
                gain = 2 * (fit.likelihood - without.likelihood)
                most = 1.2 * float(np.ptp(self.course))
                free, free_size = self._gain_when_free(fit, k)
                enough = least <= abs(size) <= most and abs(free_size) >= _FREE_SIZE * least
                worth.append(
                    min(gain, free * self.needed / _NEEDED_FREE) / needed if enough else 0.0
                )
            weakest = int(np.argmin(worth))
            if worth[weakest] >= 1:
                break
            changes = fit.changes[:weakest] + fit.changes[weakest + 1 :]
            fit = self.model.fit(changes, fit.background)
        return fit

    def _gain_when_free(self, fit: Fit, k: int) -> tuple[float, float]:
        """Return what this change explains of what no smooth course does, and its size there."""
        others, change = fit.changes[:k] + fit.changes[k + 1 :], fit.changes[k]
        elapsed = self.model.elapsed_s
        step_s = float(elapsed[1] - elapsed[0])
        moments = change.moment_s + step_s * np.array([-8, -4, -2, -1, 0, 1, 2, 4, 8])
        inside = (moments >= elapsed[0] + _EARLIEST_S / 2) & (moments <= elapsed[-1] - step_s)
        if not inside.any():
            return 0.0, 0.0
        course = self.model.free_course(others, fit.background.noise)
        gains, sizes = course.gains(moments[inside], FEW_COURSES)
        gains = np.where(sizes * change.sign > 0, gains, 0.0)
        best = int(np.argmax(gains))
        return float(gains.ravel()[best]), float(sizes.ravel()[best])

    def _as_steps(self, fit: Fit, start_s: float) -> list[Step]:
        level, steps = fit.settled, []
        order = np.argsort([change.moment_s for change in fit.changes])
        for k in order:
            change, size = fit.changes[k], fit.sizes[k]
            others = fit.changes[:k] + fit.changes[k + 1 :]
            at, low, high = self._placed(others, change, fit.background)
            steps.append(
                Step(
                    at_s=start_s + at,
                    low_s=start_s + low,
                    high_s=start_s + high,
                    before=level,
                    after=level + size,
                )
            )
            level += size
        return steps

    def _placed(
        self, others: tuple[Change, ...], change: Change, background: Background
    ) -> tuple[float, float, float]:
        """Return the moment and its interval, over all courses that a change can take."""
        elapsed = self.model.elapsed_s
        course = self.model.free_course(others, background.noise)
        step_s = float(elapsed[1] - elapsed[0])
        reach = 6 * step_s
        while True:
            moments = np.linspace(
                max(change.moment_s - reach, elapsed[0] + _EARLIEST_S / 2),
                min(change.moment_s + reach, elapsed[-1] - 2 * step_s),
                25,
            )
            logs = course.evidence(moments, change.sign, self.courses)
            share = np.exp(_TRUST * (logs - logs.max()))
            share /= share.sum()
            if max(share[:2].sum(), share[-2:].sum()) < 0.01 or reach > 0.1 * elapsed[-1]:
                break
            reach *= 2
        half = float(moments[1] - moments[0]) / 2
        # Each moment stands for what is around it.
        edges = np.append(moments - half, moments[-1] + half)
        below = np.append(0.0, np.cumsum(share))
        tail = (1 - self.confidence) / 2
        low, high = np.interp([tail, 1 - tail], below, edges)
        sharp = np.exp(logs - logs.max())
        at = np.interp(0.5, np.append(0.0, np.cumsum(sharp / sharp.sum())), edges)
        return float(at), float(min(low, at) - step_s / 2), float(max(high, at) + step_s / 2)
