"""Evidence that a power limit holds a chip back, whether the limit was given or not."""

import numpy as np
from scipy.ndimage import label, mean

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.flags import (
    forward,
    running_median,
    spans_of,
    tidied,
    usual_gap_s,
    within,
)
from gelassen.core.signal.noise import noise_std, step_size
from gelassen.core.throttling.thresholds import PowerLimit, Smooth


def on_limit(power: Floats, allowed: Floats) -> Bools:
    """Return where the power sits on the limit that was told; above it, the chip boosts.

    A governor with steps swings about its limit. So stretches of a wider band count if they lie in the
    narrow band for most of the time.
    """
    share = np.nan_to_num(power / allowed)
    sits = (share >= PowerLimit.LIMIT_SHARES[0]) & (share <= PowerLimit.LIMIT_SHARES[1])
    stretch, count = label(
        (share >= PowerLimit.SWINGS_SHARES[0]) & (share <= PowerLimit.SWINGS_SHARES[1])
    )
    mostly = np.concatenate([[False], mean(sits, stretch, np.arange(1, count + 1)) > 0.5])
    return np.asarray(sits | mostly[stretch])


def pinned(
    times: Floats, power: Floats, allowed: Floats | None, where: Bools, near: Bools
) -> Bools:
    """Return where the power sits on a level: the one told, or the one it keeps by itself.

    `where` is where only a power limit can hold the chip back: there the level is read off.
    """
    smooth = running_median(power, times, Smooth.SHORT_S)
    if allowed is not None:
        return on_limit(smooth, allowed)
    if where.sum() < PowerLimit.FEWEST:
        return np.zeros(times.size, dtype=bool)
    level = float(np.median(smooth[where]))
    scatter = PowerLimit.SIGMAS[0] * noise_std(power[where]) / np.sqrt(Smooth.SHORT_S)
    spread = max(PowerLimit.PINNED_SHARE * level, scatter)
    # Most samples must lie on the level. A power that drifts through it is not a plateau.
    if np.mean(np.abs(smooth - level)[where] <= spread) < PowerLimit.MOSTLY:
        return np.zeros(times.size, dtype=bool)
    narrow = max(PowerLimit.NARROW * PowerLimit.PINNED_SHARE * level, scatter)
    return np.asarray(np.abs(smooth - level) <= np.where(near, narrow, PowerLimit.WIDE * spread))


def gives_way(
    times: Floats, temperature: Floats, clock: Floats, power: Floats, where: Bools
) -> Bools:
    """Return where power stays constant while the clock falls as the chip warms.

    This shows a power limit that holds from the first second. A free chip draws more power as it leaks
    more, or loses clock and power together.
    """
    nothing = np.zeros(times.size, dtype=bool)
    start = times[where][0] if where.any() else 0.0
    use = where & (times > start + PowerLimit.SETTLES_S) & np.isfinite(temperature + clock + power)
    if use.sum() < PowerLimit.FEWEST_WARMING or _range(temperature[use]) < PowerLimit.WARMING_K:
        return nothing
    smooth = running_median(power, times, Smooth.USUAL_S)
    level = float(np.median(smooth[use]))
    if not level > 0:
        return nothing
    # Governors with steps make the power scatter as well.
    readings = max(Smooth.USUAL_S / usual_gap_s(times), 1.0)
    by_chance = PowerLimit.SIGMAS[1] * noise_std(power[use]) / np.sqrt(readings)
    narrow = max(PowerLimit.NARROW * PowerLimit.PINNED_SHARE * level, by_chance)
    keeps = use & (np.abs(smooth - level) <= narrow)
    if keeps.sum() < PowerLimit.KEEPS * use.sum():
        return nothing
    if not _level_at_each(temperature[use], power[use], level):
        return nothing
    about = use & (np.abs(smooth - level) <= PowerLimit.PINNED_SHARE * level)
    warm = temperature[about] - temperature[about].mean()
    if warm @ warm < about.sum() * (PowerLimit.WARMING_K / 5) ** 2:
        return nothing
    reads = running_median(clock, times, Smooth.USUAL_S)[
        about
    ]  # single low readings do not make a slope
    clock_per_k = float(warm @ np.log(reads.clip(1))) / float(warm @ warm)
    power_per_k = float(warm @ np.log(power[about].clip(1e-3))) / float(warm @ warm)
    scatter = noise_std(power[about]) / level / float(np.sqrt(warm @ warm))
    # One step of a coarse clock is not yet a slope. Scatter smooths the steps.
    hidden = max(step_size(clock[about]) - 2 * noise_std(clock[about]), 0.0)
    one_step = hidden / float(np.median(reads))
    least = PowerLimit.GIVES_WAY_PER_K + one_step / _range(temperature[about])
    if clock_per_k > -least or not _level(power_per_k, scatter):
        return nothing
    return where & (np.abs(smooth - level) <= PowerLimit.PINNED_SHARE * level)


def _range(values: Floats) -> float:
    """Return how far values reach, without the outermost."""
    return float(np.ptp(np.percentile(values, PowerLimit.OUTER_PCT)))


def keeps_level_over(temperature: Floats, power: Floats, level: float) -> bool:
    """Return whether power keeps its level, without slope or bend, while the chip warms by some kelvins."""
    read = np.isfinite(temperature) & np.isfinite(power)
    temperature, power = temperature[read], power[read]
    if not level > 0 or read.sum() < PowerLimit.FEWEST_WARMING:
        return False
    if _range(temperature) < PowerLimit.WARMING_K:
        return False
    slope_per_k, error = _slope(temperature, power, level)
    return _level(slope_per_k, error) and _level_at_each(temperature, power, level)


def no_slope(temperature: Floats, power: Floats, level: float) -> bool:
    """Return whether the slope of power over temperature is more likely that of a level than chance.

    Less is asked than where the clock has hardly given way.
    """
    read = np.isfinite(temperature) & np.isfinite(power)
    if not level > 0 or read.sum() < 3 or np.ptp(temperature[read]) == 0:
        return False
    return _level(*_slope(temperature[read], power[read], level), PowerLimit.LIKELIER_SLOW)


def _slope(temperature: Floats, power: Floats, level: float) -> tuple[float, float]:
    """Return the slope of power as a share a kelvin, and its standard error."""
    warm = temperature - temperature.mean()
    return (
        float(warm @ power) / float(warm @ warm) / level,
        noise_std(power) / level / float(np.sqrt(warm @ warm)),
    )


def _level(slope_per_k: float, error: float, likelier: float = PowerLimit.LIKELIER) -> bool:
    """Return whether a slope (share of power per kelvin) fits a held level far better than chance."""
    spread = float(np.hypot(error, PowerLimit.KEEPS_PER_K))
    likelihood = np.exp(-0.5 * (slope_per_k / spread) ** 2) / (spread * np.sqrt(2 * np.pi))
    return bool(likelihood * PowerLimit.FREE_PER_K > likelier)


def _level_at_each(temperature: Floats, power: Floats, level: float) -> bool:
    """Return whether power keeps its level at every temperature passed.

    Leakage and boost loss can cancel on the whole, but not at every temperature.
    """
    scatter = noise_std(power)
    place = np.floor((temperature - temperature.min()) / PowerLimit.STRETCH_K)
    for number in np.unique(place):
        there = power[place == number]
        by_chance = PowerLimit.SIGMAS[2] * scatter / np.sqrt(there.size)
        allowed = PowerLimit.FLAT * PowerLimit.PINNED_SHARE * level + by_chance
        if there.size >= 3 and abs(float(np.median(there)) - level) > allowed:
            return False
    return True


def switched(times: Floats, power: Floats, slow: Bools) -> Bools:
    """Return where a board holds the chip back in coarse steps. Such stretches begin with a drop of power.

    Below the chip's own limit; regulators and current limits do so. A boost that is lost gradually
    has no such beginning. Where power was not logged, the clock drops in its place.
    """
    found = np.zeros(times.size, dtype=bool)
    filled = forward(power)
    near_s, far_s = PowerLimit.STEP_S
    for start, end in spans_of(times, tidied(times, slow)):
        before = filled[within(times, start - far_s, start - near_s)]
        after = filled[within(times, start + near_s, start + far_s)]
        if not (before.size and after.size):
            continue
        if np.median(after) < (1 - PowerLimit.SUDDEN_SHARE) * np.median(before):
            found[within(times, start, end)] = True
    return found
