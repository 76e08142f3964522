"""Moments at which the conditions changed during a run: a panel removed, a fan stopped."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from gelassen.core.changes.step_model import StepModel
from gelassen.core.changes.step_search import StepSearch
from gelassen.core.changes.thresholds import Steps
from gelassen.core.foundation.inputs import (
    Bools,
    Floats,
    SeriesLike,
    as_confidence,
    as_series,
    as_time,
    need_readings,
)
from gelassen.core.foundation.result import Result
from gelassen.core.recording.load_span import LoadSpan, span_from_temperature
from gelassen.core.signal.grid import make_grid
from gelassen.core.signal.noise import left_by_noise, quantisation_error, stair_size, step_size


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
    what, logged
        What was logged and changed then, "fan", "flow", "load" or "pause", and the same in words.
    moved_low, moved_high
        The interval of `after` less `before`; NaN where it was not asked for.
    """

    at_s: float
    low_s: float
    high_s: float
    before: float
    after: float
    noted: str = ""
    what: str = ""
    logged: str = ""
    moved_low: float = float("nan")
    moved_high: float = float("nan")

    def __str__(self) -> str:
        way = "up" if self.after > self.before else "down"
        return (
            f"changed at {self.at_s:.0f} s ({self.low_s:.0f} to {self.high_s:.0f} s): "
            f"{way} by {abs(self.after - self.before):.1f}"
            + (f" (noted: {self.noted})" if self.noted else "")
            + (f"; {self.logged}" if self.logged else "")
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
    reads_in: float | None = None,
) -> tuple[Step, ...]:
    """Find the moments at which the conditions changed. The start and end of the load do not count.

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
    reads_in : float, optional
        The step in which the sensor reads, in the channel's unit; found from the values if not given. A
        rise over a room that is read more finely hides it.

    Raises
    ------
    InputError
        Arrays of different lengths, times that run backwards, no reading at all.

    Notes
    -----
    The course is modelled as an approach, a few changes that the channel follows at once, through
    heat capacities or through case air first (`core/changes/step_model.py`), and noise with a memory, whose
    size and length the readings themselves tell (`core/signal/whitening.py`). Changes are added one by one,
    or in pairs, while the likelihood, with the noise described anew each time, rises by far more than
    chance would let it, and while they explain what no smooth course does
    (`core/changes/step_timing.py`), which also tells their moments. Where a gap is longer than all that
    was read, the longer part beside it is looked at. Not yet done: changes within the first minutes of
    the load.
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
    width = max(grid.size // Steps.BINS, 1)
    count = grid.size // width
    read = np.isfinite(grid.averaged(times[used], series[used])).astype(float)
    course, middle, read = (
        each[: count * width].reshape(count, width).mean(axis=1)
        for each in (filled, grid.times_s, read)
    )
    step = reads_in or max(step_size(series[used]), stair_size(series[used]))
    hidden = quantisation_error(series[used], step)
    model = StepModel(middle - start_s, course, read >= Steps.READ_SHARE, hidden)
    left = left_by_noise(series[used], step) if step else 0.0
    least = max(
        Steps.SMALLEST * float(np.ptp(course)),
        Steps.COARSE_STEPS * step * left,
        smallest,
    )
    told = tuple(float(moment) - start_s for moment in told_s)
    search = StepSearch(model, course, confidence, least, told, power_known)
    fit = search.changes()
    level, steps = fit.settled, []
    for k in np.argsort([change.moment_s for change in fit.changes]):
        at, low, high = (start_s + moment for moment in search.placed(fit, int(k)))
        after = level + fit.sizes[k]
        steps.append(Step(at_s=at, low_s=low, high_s=high, before=level, after=after))
        level = after
    return tuple(steps)


def _longest_part(times: Floats, used: Bools) -> Bools:
    """Return where to look if a gap is longer than all readings together: the longest part beside it."""
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
        # A fall then is not the end of the load, but for example a fan that starts. The log may begin
        # with the load itself.
        begin_s = float(times[0])
        long_enough = times[-1] - begin_s > Steps.STARTS * Steps.START_S
        skipped = Steps.START_S if long_enough else 0.0
        return begin_s, begin_s + skipped, float(times[-1])
    end_s = span.end_s if _went_back(times, series, span) else float(times[-1])
    return _within(span.start_s, end_s)


def _within(start_s: float, end_s: float) -> tuple[float, float, float]:
    # A boost at the start of the load, and the chip's own quick response, are not a change.
    return start_s, start_s + Steps.START_S, end_s


def _went_back(times: Floats, series: Floats, span: LoadSpan) -> bool:
    """Return whether the load ended. A fall by less than most of the rise is a change."""
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
    return last < level + Steps.ENDED_SHARE * (top - level)
