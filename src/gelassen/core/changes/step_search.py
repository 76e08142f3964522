"""The search for changes. Each change must explain far more than chance does, in two models.

A change is proposed from the residuals of a free course (`core/changes/step_timing.py`). It is kept if an
approach with physical signs (`core/changes/step_model.py`) needs it as well.
"""

from dataclasses import dataclass, replace

import numpy as np

from gelassen.core.changes.step_model import WAYS, Background, Change, Fit, StepModel
from gelassen.core.changes.step_timing import EVERY_COURSE, FEW_COURSES, WITHOUT_POWER, Seen
from gelassen.core.changes.thresholds import Search
from gelassen.core.foundation.inputs import Floats
from gelassen.core.signal.whitening import Whitener


@dataclass(frozen=True, slots=True)
class _Look:
    """How much changes at these moments would explain, under one assumption about the noise."""

    noise: Whitener
    moments: Floats
    pitch_s: float
    seen: Seen


@dataclass(frozen=True, slots=True)
class StepSearch:
    """Adds the change that explains most, and repeats until no change explains enough."""

    model: StepModel
    course: Floats
    confidence: float
    least: float  # changes smaller than this are left to the noise
    told: tuple[float, ...]  # moments that need no search
    power_known: bool  # else power may have changed, and part of the response is sudden

    @property
    def needed(self) -> float:
        """The best of many candidates is large by chance, so the threshold rises with their number."""
        return 2 * float(np.log(2 * WAYS * Search.MOMENTS / (1 - self.confidence))) + Search.MARGIN

    def changes(self) -> Fit:
        """Return the fit with every change that explains enough."""
        found = self.model.fit((), Background(Whitener(0.0, 0.0, 1.0)))
        if self.model.furthest_off(found) < Search.TRACE * self.least:
            return found  # an approach alone explains nearly all of it
        for moment in self._worth_trying(found):
            found = self._with_noted(found, moment)
        while len(found.changes) < Search.MOST_STEPS:
            # When an enclosure is put on and taken off again, neither change stands out by itself.
            kept, looks = found, self._looks(found)
            for number in (1, 2):
                more = self._with_more(found, looks, number)
                if more is not None and 2 * (more.likelihood - found.likelihood) >= self.needed:
                    kept = self._kept(self._again(more))
                if len(kept.changes) > len(found.changes):
                    break
            if len(kept.changes) <= len(found.changes):
                break
            found = kept
        return found

    def _worth_trying(self, found: Fit) -> list[float]:
        """Return the noted moments at which a change shows. There may be hundreds of notes."""
        elapsed = self.model.elapsed_s
        inside = (elapsed[0] + Search.EARLIEST_S, elapsed[-1] - Search.LATEST_S)
        moments = np.array([m for m in self.told if inside[0] < m < inside[1]])
        if moments.size == 0:
            return []
        both = self.model.likelihoods((), moments, (1.0, -1.0), found.background).max(axis=1)
        gains = 2 * (both - self.model.level((), found.background))
        order = np.argsort(gains)[::-1][: Search.MOST_STEPS]
        return [
            float(moments[k])
            for k in order
            if gains[k] >= Search.WORTH_TRYING * Search.NEEDED_IF_TOLD
        ]

    def _with_noted(self, found: Fit, moment_s: float) -> Fit:
        """Add a change that the tester noted, if it shows at all."""
        trials = [
            self._refined(found.changes, Change(moment_s, sign), Search.NOTED_S, found.background)
            for sign in (1.0, -1.0)
        ]
        best = max(trials, key=lambda fit: fit.likelihood)
        return self._kept(best)

    def _needed_at(self, moment_s: float) -> float:
        noted = any(abs(moment_s - told) <= 2 * Search.NOTED_S for told in self.told)
        return Search.NEEDED_IF_TOLD if noted else self.needed

    def _looks(self, found: Fit) -> list[_Look]:
        """Return how much changes at evenly spaced moments would explain, for each possible noise."""
        elapsed = self.model.elapsed_s
        length = float(elapsed[-1] - elapsed[0])
        last_s = float(elapsed[-1]) - max(Search.LATEST_S, Search.LATEST_SHARE * length)
        if last_s <= elapsed[0] + Search.EARLIEST_S:
            return []
        moments = np.linspace(float(elapsed[0]) + Search.EARLIEST_S, last_s, Search.MOMENTS)
        pitch = float(moments[1] - moments[0])
        taken = np.array([change.moment_s for change in found.changes])
        apart = np.abs(moments[:, None] - taken).min(axis=1, initial=np.inf)
        moments = moments[apart >= max(Search.APART_S, Search.APART_SHARE * length)]
        if not moments.size:
            return []
        looks = []
        for noise in self._noises(found):
            course = self.model.free_course(found.changes, noise)
            looks.append(_Look(noise, moments, pitch, course.seen(moments, FEW_COURSES)))
        return looks

    def _with_more(self, found: Fit, looks: list[_Look], number: int) -> Fit | None:
        """Return the best fit with one or two more changes."""
        best: Fit | None = None
        for look in looks:
            if number == 1:
                gains, sizes = look.seen.gains()
                which, place = np.unravel_index(int(np.argmax(gains)), gains.shape)
                gain, places = gains[which, place], [(int(place), float(sizes[which, place]))]
            else:
                gain, places = look.seen.best_pair()
            if gain < number * Search.WORTH_REFINING * Search.NEEDED_FREE:
                continue
            more = [Change(float(look.moments[k]), float(np.sign(size))) for k, size in places]
            background = replace(found.background, noise=look.noise)
            for change in more:
                others = tuple(c for c in more if c is not change)
                fit = self._refined((*found.changes, *others), change, look.pitch_s, background)
                more = [*others, fit.changes[-1]]
                background = fit.background
            if best is None or fit.likelihood > best.likelihood:
                best = fit
        return best

    def _noises(self, found: Fit) -> tuple[Whitener, ...]:
        """Return possible noises: a change that is not yet known looks like noise with a long memory."""
        noise = self.model.free_noise(found.changes, found.background.noise)
        if noise.fade <= Search.HARDLY_FADED:
            return (noise,)
        short = replace(noise, fade=min(noise.fade, Search.SHORT_MEMORY))
        shorter = replace(noise, fade=Search.SHORTER_MEMORY, moving=0.0)
        return tuple(dict.fromkeys((noise, short, shorter)))

    def _refined(
        self, others: tuple[Change, ...], change: Change, reach_s: float, background: Background
    ) -> Fit:
        """Move the change to the moment where it explains most, and fit the noise again."""
        for reach in (reach_s, reach_s / 4, reach_s / 16):
            moments = change.moment_s + np.linspace(-reach, reach, 9)
            moments = moments[moments >= self.model.elapsed_s[0] + Search.EARLIEST_S]
            scores = self.model.likelihoods(others, moments, (change.sign,), background)
            change = Change(float(moments[int(np.argmax(scores))]), change.sign)
            fit = self.model.fit((*others, change), background)
            background = fit.background
        return fit

    def _again(self, fit: Fit) -> Fit:
        """Move each change again, given the others."""
        if len(fit.changes) < 2:
            return fit
        pitch = float(np.ptp(self.model.elapsed_s)) / Search.MOMENTS
        for _ in fit.changes:  # each change goes to the end of the list in turn
            first, *others = fit.changes
            fit = self._refined(tuple(others), first, pitch, fit.background)
        return fit

    def _kept(self, fit: Fit) -> Fit:
        """Remove the change that explains least, and repeat until all changes explain enough."""
        while fit.changes:
            worth = []
            for k, size in enumerate(fit.seen):
                needed = self._needed_at(fit.changes[k].moment_s)
                share = Search.NOTED_SIZE if needed < self.needed else 1.0
                least = share * max(self.least, Search.SHARE_OF_APPROACH * fit.going[k])
                without = self.model.fit(fit.changes[:k] + fit.changes[k + 1 :], fit.background)
                gain = 2 * (fit.likelihood - without.likelihood)
                most = Search.LARGEST * float(np.ptp(self.course))
                free, free_size = self._gain_when_free(fit, k)
                enough = (
                    least <= abs(size) <= most
                    and abs(free_size) >= share * Search.FREE_SIZE * self.least
                )
                worth.append(
                    min(gain, free * self.needed / Search.NEEDED_FREE) / needed if enough else 0.0
                )
            weakest = int(np.argmin(worth))
            if worth[weakest] >= 1:
                break
            changes = fit.changes[:weakest] + fit.changes[weakest + 1 :]
            fit = self.model.fit(changes, fit.background)
        return fit

    def _gain_when_free(self, fit: Fit, k: int) -> tuple[float, float]:
        """Return how much of what no smooth course explains this change does, and its size there."""
        others, change = fit.changes[:k] + fit.changes[k + 1 :], fit.changes[k]
        elapsed = self.model.elapsed_s
        step_s = float(elapsed[1] - elapsed[0])
        moments = change.moment_s + step_s * np.array([-8, -4, -2, -1, 0, 1, 2, 4, 8])
        inside = (moments >= elapsed[0] + Search.EARLIEST_S / 2) & (moments <= elapsed[-1] - step_s)
        if not inside.any():
            return 0.0, 0.0
        course = self.model.free_course(others, fit.background.noise)
        gains, sizes = course.seen(moments[inside], FEW_COURSES).gains()
        gains = np.where(sizes * change.sign > 0, gains, 0.0)
        best = int(np.argmax(gains))
        return float(gains.ravel()[best]), float(sizes.ravel()[best])

    def placed(self, fit: Fit, which: int) -> tuple[float, float, float]:
        """Return the moment of a change and its interval, over all courses that it can take."""
        change, others = fit.changes[which], fit.changes[:which] + fit.changes[which + 1 :]
        elapsed = self.model.elapsed_s
        course = self.model.free_course(others, fit.background.noise)
        courses = WITHOUT_POWER if self.power_known else EVERY_COURSE
        trust = Search.TRUST_IF_POWER_KNOWN if self.power_known else Search.TRUST
        step_s = float(elapsed[1] - elapsed[0])
        reach = 6 * step_s
        # A few courses show how wide the search must be. All courses are used after that.
        for asked in (FEW_COURSES, courses):
            while True:
                moments = np.linspace(
                    max(change.moment_s - reach, elapsed[0] + Search.EARLIEST_S / 2),
                    min(change.moment_s + reach, elapsed[-1] - 2 * step_s),
                    25,
                )
                logs = course.seen(moments, asked).evidence(change.sign)
                share = np.exp(trust * (logs - logs.max()))
                share /= share.sum()
                if (
                    max(share[:2].sum(), share[-2:].sum()) < Search.OUTSIDE
                    or reach > Search.WIDEST * elapsed[-1]
                ):
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
