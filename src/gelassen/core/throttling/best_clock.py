"""The best clock a run held for a while. Losses of a chip that is held back are measured from it."""

import numpy as np

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.flags import running_median, usual_gap_s
from gelassen.core.signal.noise import MAD_TO_STD, noise_std, step_size
from gelassen.core.throttling.thresholds import BestClock, Smooth


def best_clock(
    times: Floats, level: Floats, loaded: Bools, near: Bools, power: Floats | None = None
) -> float:
    """Return the best level held for a while under load; NaN without load.

    The first seconds count only if the temperature limit ended them, or a power limit that allows a boost
    of some seconds. Otherwise they are the boost of a cold chip.

    Parameters
    ----------
    times, level : ndarray, shape (n,)
        Sample times in s, and the clock in MHz (or power, where no clock was logged).
    loaded, near : ndarray of bool, shape (n,)
        Under load; close to the temperature limit.
    power : ndarray, shape (n,), optional
        Package power in W: shows a short boost.
    """
    if not loaded.any():
        return float("nan")
    start = float(times[loaded][0])
    length = float(times[loaded][-1]) - start
    cold = loaded & (times <= start + min(BestClock.COLD_S, BestClock.COLD_SHARE * length))
    later = loaded & ~cold
    best = _held_highest(
        times, running_median(level, times, Smooth.USUAL_S)[later if later.any() else loaded]
    )
    early = cold & (times > start + BestClock.RISING_S)
    if not early.any() or not later.any():
        return best
    smooth = running_median(level, times, Smooth.GLANCE_S)
    cold_best = float(np.nanmax(smooth[early]))
    if not cold_best > best:
        return best
    hot = later & (times <= start + 2 * BestClock.COLD_S)
    if hot.any() and near[hot].mean() > 0.5:
        return cold_best
    if power is not None and _ends_a_boost(times, smooth, power, early, cold_best):
        return cold_best
    return best


def below_best(times: Floats, clock: Floats, best: float) -> tuple[Bools, Bools]:
    """Return where a clock is below its best by more than boost loss: by a short median, and by a long one.

    Steps of the clock of a few per cent, together with scatter, can look like a loss. The second answer
    uses a longer median and a larger threshold.
    """
    smooth = running_median(clock, times, BestClock.GLANCE_S)
    glance = smooth < (1 - BestClock.SAG_SHARE) * best
    scatter = _scatter(clock)
    if not best > scatter:
        return glance, glance
    scatter /= best
    look_s = BestClock.GLANCE_S * (scatter / BestClock.QUIET_SHARE) ** 2
    if not look_s > BestClock.GLANCE_S:
        return glance, glance
    longer = running_median(clock, times, min(look_s, BestClock.LOOK_S))
    return glance, longer < (1 - BestClock.SAG_SHARE - scatter) * best


def single_losses(clock: Floats, best: Floats | float) -> Bools:
    """Return which single readings lie below the best by more than boost loss and scatter."""
    usual = clock[np.isfinite(clock) & (clock >= (1 - BestClock.SAG_SHARE) * best)]
    apart = np.abs(np.diff(usual))
    scatter = MAD_TO_STD * float(np.median(apart)) / np.sqrt(2) if apart.size else 0.0
    return np.asarray(
        np.isfinite(clock)
        & (clock < (1 - BestClock.SAG_SHARE) * best - BestClock.SURE_SIGMAS * scatter)
    )


def _scatter(clock: Floats) -> float:
    bends = np.abs(np.diff(clock[np.isfinite(clock)], 2))
    return MAD_TO_STD * float(np.median(bends)) / np.sqrt(6) if bends.size else 0.0


def _held_highest(times: Floats, values: Floats) -> float:
    """Return the highest level held for some seconds, so that scatter does not set it."""
    most = int(
        np.clip(
            round(BestClock.BEST_HELD_S / usual_gap_s(times)),
            min(BestClock.FEWEST_HELD, values.size),
            values.size,
        )
    )
    return float(np.sort(values)[-most])


def _ends_a_boost(times: Floats, clock: Floats, power: Floats, early: Bools, boost: float) -> bool:
    """Return whether the early clock ended at once, onto a level of power that is kept."""
    slowest, fastest = BestClock.FAST
    one_step_down = boost - BestClock.STEPS * step_size(clock)
    fast = clock >= float(np.clip(one_step_down, slowest * boost, fastest * boost))
    last = int(np.flatnonzero(early & fast)[-1])
    slower = np.flatnonzero(~fast[last:])  # it may last longer than the early seconds
    if not slower.size:
        return False
    end = float(times[last + slower[0] - 1])
    gap_s = usual_gap_s(times)
    begin_s, fewest = end - max(5.0, 2.5 * gap_s), 2 if gap_s < BestClock.SELDOM_S else 1
    begin_s = max(begin_s, float(times[early][0]) - 0.5 * gap_s)
    before = power[(times > begin_s) & (times <= (end - 1 if gap_s < 1.5 else end))]
    level_s = max(BestClock.LEVEL_S, 12 * gap_s)
    after = power[(times > end + BestClock.FALL_S) & (times <= end + BestClock.FALL_S + level_s)]
    before, after = before[np.isfinite(before)], after[np.isfinite(after)]
    if before.size < fewest or after.size < BestClock.FEWEST_LEVEL:
        return False
    at_once = float(np.median(after[: max(after.size // 10, 2)]))
    if at_once > (1 - BestClock.BOOST_POWER_SHARE) * float(np.median(before)):
        return False
    thirds = [float(np.median(part)) for part in np.array_split(after, 3)]
    by_chance = 3 * noise_std(after) / np.sqrt(after.size / 3)
    return bool(np.ptp(thirds) <= BestClock.LEVEL_SHARE * float(np.median(after)) + by_chance)
