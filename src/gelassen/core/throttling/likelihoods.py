"""What each state predicts for clock, power and temperature."""

from collections.abc import Callable

import numpy as np
from scipy.special import ndtr

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.throttling.readings import Readings
from gelassen.core.throttling.states import Courses, State
from gelassen.core.throttling.thresholds import Model, Reading


def likelihoods(log: Readings, courses: Courses) -> tuple[Floats, Bools]:
    """Return the likelihood of each sample in each state, shape (n, 5), and which are on the free course.

    Power given the clock is the same in all states, as the load decides it. So a state costs likelihood
    where it predicts clock or power, and the samples are elsewhere.
    """
    warm, speed = log.temperature, log.speed
    noise, y = speed.noise, speed.value
    as_usual = _goes_on(log)
    free = courses.free.over(warm)
    wrong = Model.OUTLIER / (Model.RANGE * log.steepness)
    close = _about(y - free, noise, log.steepness) > Model.ON_COURSE * wrong
    on_course = _on_course(log, free)
    cold = log.cold & (y > free)
    made = np.empty((y.size, len(State)))
    made[:, State.BOOST] = on_course * as_usual
    made[:, State.FREE] = on_course * _free_power(log, courses, cold, as_usual)
    lower = _lower(log, _best(log, courses, free))
    # A clock that was cut lets the chip cool.
    held = np.where(log.warms, Model.WARMS, 1.0)
    once = np.maximum.accumulate(log.reached)  # a limit that was never reached held nothing
    held = np.where(once & (warm >= log.limit_c - Model.BACK_K), held, Model.IMPOSSIBLE)
    for own_word in (log.counted, log.heat):
        held = held if own_word is None else np.where(own_word, 1.0, held)
    made[:, State.HEAT] = lower(Model.LEAST_BY_HEAT) * as_usual * held
    made[:, State.OTHER] = lower(Model.LEAST_BY_OTHER) * as_usual
    _add_limit(made, log, courses, free, lower)
    made[~speed.read] = 1.0
    _add_own_word(made, log)
    made[~log.shows] = 1.0
    # Readings closer together than a second repeat each other.
    made = made ** min(log.gap_s, 1.0)
    return made.clip(made.max(axis=1, keepdims=True) * Model.RATIO), close


def _on_course(log: Readings, course: Floats) -> Floats:
    """Return the likelihood of a speed on a course; a cold chip may be faster."""
    away, usual = log.speed.value - course, Model.COLD_SHARE * log.steepness
    fits = _about(away, log.speed.noise, log.steepness)
    faster = Model.COLD * np.exp(-away.clip(min=0) / usual) / usual
    return np.where(log.cold & (away > 0), np.maximum(fits, faster), fits)


def _best(log: Readings, courses: Courses, free: Floats) -> Floats:
    """Return the speed without heat: that of the free chip, or of a power limit that is in force."""
    own = log.drawn
    if courses.limited is None or courses.limit is None or own is None:
        return free
    in_force = own.value < courses.limit + Model.OVER + Model.LIMIT_SIGMAS[1] * own.noise
    return np.where(in_force, np.minimum(free, courses.limited.over(log.temperature)), free)


def _goes_on(log: Readings) -> Floats:
    """Return the likelihood of a power that no state predicts: it goes on, or follows the clock."""
    power, around = log.power, log.power_around
    if power is None or around is None:
        return np.ones(log.times.size)
    away = power.value - around
    jump = log.speed.value - log.speed_around
    jump = np.where(np.abs(jump) > Model.FITS_SIGMAS * log.speed.noise, jump, 0.0)
    away = away - Reading.STEEPNESS * jump
    noise = np.hypot(power.noise, Model.STEEPNESS_SD * np.abs(jump))
    least = np.exp(-Model.POWER_MISFIT) / (power.noise * np.sqrt(2 * np.pi))
    fits = np.maximum(_normal(away, noise) * np.exp(-Model.SELF), least)
    return np.where(power.read, fits, 1.0)


def _about(away: Floats, noise: float, scale: float = 1.0) -> Floats:
    """Return the density of readings about a course, with some that are wrong."""
    odd = Model.OUTLIER / (Model.RANGE * scale)
    return np.asarray(np.maximum(_normal(away, noise), odd))


def _normal(away: Floats, noise: Floats | float) -> Floats:
    return np.asarray(np.exp(-0.5 * (away / noise) ** 2) / (noise * np.sqrt(2 * np.pi)))


def _free_power(log: Readings, courses: Courses, cold: Bools, as_usual: Floats) -> Floats:
    """Return the likelihood of the power of a free chip."""
    if log.power is None or courses.free_power is None:
        return as_usual
    away = log.power.value - courses.free_power.over(log.temperature)
    least = np.exp(-Model.POWER_MISFIT) * as_usual
    fits = np.maximum(_normal(away, max(log.power.noise, courses.power_scatter)), least)
    faster = Model.COLD * np.exp(-away.clip(min=0) / (Model.COLD_SHARE * Reading.STEEPNESS))
    fits = np.where(cold, np.maximum(fits, as_usual * faster), fits)
    return np.where(log.power.read, fits, as_usual)


def _lower(log: Readings, best: Floats) -> Callable[[float], Floats]:
    """Return the likelihood of a speed that lies below its best: it goes on as it was, or jumps."""
    noise, y, scale = log.speed.noise, log.speed.value, log.steepness
    goes_on = np.maximum(
        _normal(y - log.speed_around, noise) * np.exp(-Model.SELF),
        Model.STEP * _normal(np.diff(y, prepend=y[0]), noise),
    )
    loss = best - y
    usual = Model.LOSS * scale
    jumps = Model.JUMP * np.exp(-loss.clip(min=0) / usual) / usual

    def of(least: float) -> Floats:
        return np.asarray(
            (goes_on + jumps) * ndtr((loss - least * scale) / noise) + Model.IMPOSSIBLE
        )

    return of


def _add_limit(
    made: Floats, log: Readings, courses: Courses, free: Floats, lower: Callable[[float], Floats]
) -> None:
    """Set the likelihood at a power limit, and what a limit forbids in the other states."""
    own = log.drawn
    if courses.limit is None or own is None or log.smooth_power is None:
        made[:, [State.POWER, State.BOOST]] = Model.IMPOSSIBLE
        return
    away = own.value - courses.limit
    if log.stated is not None:  # a governor with steps swings about its limit
        away = log.smooth_power.value - courses.limit
        away = away - away.clip(*Model.STATED_BAND)
    kept = np.where(own.read, _about(away, own.noise, Reading.STEEPNESS), 1.0)
    if log.power is None:
        made[:, State.POWER] = kept
    else:
        at = courses.limited
        speed = lower(0.0) if at is None else _on_course(log, at.over(log.temperature))
        made[:, State.POWER] = kept * speed
        if at is not None and log.stated is None and courses.free.samples:
            # A limit takes clock. A lighter load takes power alone.
            slower = at.over(log.temperature) < free - Model.LEAST_BY_HEAT
            made[:, State.POWER] *= np.where(slower, 1.0, Model.SELDOM)
    close, over = (sigmas * own.noise for sigmas in Model.LIMIT_SIGMAS)
    band = Model.BAND + close if log.stated is None else 0.0
    made[:, State.FREE] *= np.where(own.read & (np.abs(away) <= band), Model.SELDOM, 1.0)
    below = own.value < courses.limit + Model.BAND + close
    made[:, State.BOOST] *= np.where(own.read & below, Model.SELDOM, 1.0)
    above = own.value > courses.limit + Model.OVER + over
    made[:, [State.FREE, State.POWER]] *= np.where(above & own.read, Model.NEVER, 1.0)[:, None]


def _add_own_word(made: Floats, log: Readings) -> None:
    """Let the chip's own word on what holds it count for more than all else."""
    limits = (State.POWER, State.OTHER)
    # A count may miss events. A flag tells both that a cause holds the chip, and that it does not.
    for word, states, is_flag in (
        (log.counted, (State.HEAT,), False),
        (log.heat, (State.HEAT,), True),
        (log.limited, limits, True),
    ):
        if word is None:
            continue
        for state in State:
            if state in states:
                made[:, state] *= np.where(word, 1.0, Model.CONTRARY) if is_flag else 1.0
            elif state is not State.HEAT:  # heat and a limit may hold a chip at once
                made[:, state] *= np.where(word, Model.CONTRARY, 1.0)
