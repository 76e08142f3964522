"""What the model of states sees of a log: one speed, power, temperature and the chip's own word."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.ndimage import maximum_filter1d

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.recording.under_load import without_pauses
from gelassen.core.signal.flags import forward, running_median, usual_gap_s
from gelassen.core.signal.noise import step_size
from gelassen.core.throttling.chip_log import ChipLog
from gelassen.core.throttling.thresholds import Model, Reading


@dataclass(frozen=True, slots=True, kw_only=True)
class Channel:
    """A channel as natural logarithms, its usual scatter, and where it was read; 0 elsewhere."""

    value: Floats
    read: Bools
    noise: float


@dataclass(frozen=True, kw_only=True)
class Readings:
    """What the model sees, one entry a sample.

    Attributes
    ----------
    speed
        Clock, or power where no clock was logged.
    power
        Power beside the clock; None where only one of the two was logged.
    smooth_power
        The power, smoothed over some seconds; None without power.
    steepness
        Change of the speed for a change of the clock by one.
    limit_c, near_k
        The temperature limit, and how close to it counts as close.
    reached
        Where the limit was reached some seconds before or after.
    warms
        Where the chip warms, below its limit.
    cold
        Where a cold chip may run faster.
    shows
        Where a sample tells anything: loaded, and not beside a pause.
    stated
        Logarithm of the stated power limit; None if none was stated.
    heat, limited
        The chip's own word on heat and on other limits: true, false, or None without such a channel.
    counted
        Where the count of thermal events rose.
    """

    times: Floats
    gap_s: float
    temperature: Floats
    speed: Channel
    power: Channel | None
    smooth_power: Channel | None
    steepness: float
    limit_c: float
    near_k: float
    reached: Bools
    warms: Bools
    cold: Bools
    loaded: Bools
    shows: Bools
    stated: Floats | None
    heat: Bools | None
    limited: Bools | None
    counted: Bools | None

    @property
    def drawn(self) -> Channel | None:
        """The power as it was read; None if it was not logged."""
        return self.power or (None if self.smooth_power is None else self.speed)

    @cached_property
    def speed_around(self) -> Floats:
        """How the speed goes on, from the readings around each."""
        return self._around(self.speed.value)

    @cached_property
    def power_around(self) -> Floats | None:
        """How the power goes on, from the readings around each; None without power beside a clock."""
        power = self.power
        return None if power is None else self._around(np.where(power.read, power.value, np.nan))

    def _around(self, values: Floats) -> Floats:
        width_s = max(Model.AROUND_S, Model.AROUND * self.gap_s)
        return running_median(values, self.times, width_s)

    @property
    def has_clock(self) -> bool:
        """Whether the speed is a clock."""
        return self.steepness == 1.0

    @property
    def near(self) -> Bools:
        """Where the temperature is close to its limit."""
        return np.asarray(self.temperature >= self.limit_c - self.near_k)

    @property
    def warm(self) -> Bools:
        """Where a course is read: under load, after the cold seconds if there are any later ones."""
        later = self.shows & ~self.cold
        return later if later.sum() >= Reading.FEWEST_WARM else self.shows

    def thinned(self, every: int) -> "Readings":
        """Return every so many samples."""

        def part(entry: object) -> object:
            if isinstance(entry, Channel):
                return Channel(
                    value=entry.value[::every], read=entry.read[::every], noise=entry.noise
                )
            return entry[::every] if isinstance(entry, np.ndarray) else entry

        fields = {name: part(getattr(self, name)) for name in self.__dataclass_fields__}
        return Readings(**fields | {"gap_s": self.gap_s * every})  # type: ignore[arg-type]


def read_states(log: ChipLog, limit_c: float) -> Readings | None:
    """Return what the model sees of a log; None if neither clock nor power was read under load."""
    source = log.power if log.clock is None else log.clock
    if source is None or not (log.loaded & (np.nan_to_num(source) > 0)).any():
        return None
    times, gap_s = log.times, usual_gap_s(log.times)
    step_k = min(step_size(log.temperature), Reading.COARSEST_K)
    near_k = max(Reading.NEAR_K, Reading.STEPS * step_k)
    reach = 2 * max(round(Reading.REACH_S / gap_s), 1) + 1
    hottest = maximum_filter1d(forward(log.temperature), reach)
    unseen_k = min(Reading.FALLS_K_PER_S * max(gap_s - 1, 0), Reading.FALLS_K)
    smooth_c = running_median(log.temperature, times, Reading.SMOOTH_S)
    start_s = float(times[log.loaded][0])
    risen = None if log.count is None else np.diff(forward(log.count), prepend=np.nan) > 0
    reached = hottest >= limit_c - near_k - unseen_k
    if risen is not None:
        reached = reached | risen
    if log.heat_flag is not None:
        reached = reached | (forward(log.heat_flag) > 0)
    power = None
    if (
        log.clock is not None and log.power is not None
    ):  # between its readings, power may have followed a cut
        power = _channel(np.where(log.power_read, log.power, np.nan), log.loaded)
    smooth = None if log.power is None else running_median(log.power, times, Reading.SMOOTH_S)
    return Readings(
        times=times,
        gap_s=gap_s,
        temperature=smooth_c,
        speed=_channel(source, log.loaded),
        power=power,
        smooth_power=None if smooth is None else _channel(smooth, log.loaded),
        steepness=Reading.STEEPNESS if log.clock is None else 1.0,
        limit_c=limit_c,
        near_k=near_k,
        reached=reached,
        warms=_warms(smooth_c, gap_s, step_k) & (smooth_c < limit_c - near_k),
        cold=times <= start_s + Reading.COLD_S,
        loaded=log.loaded,
        shows=without_pauses(times, log.loaded, log.power),
        stated=None if log.allowed_w is None else np.log(log.allowed_w),
        heat=None if log.heat_flag is None else forward(log.heat_flag) > 0,
        limited=None if log.power_flag is None else forward(log.power_flag) > 0,
        counted=risen,
    )


def _warms(temperature: Floats, gap_s: float, step_k: float) -> Bools:
    """Return where the temperature rises over half a minute by more than its sensor's steps explain."""
    far = max(round(Reading.WARMS_S / gap_s), 1)
    padded = np.pad(temperature, far, mode="edge")
    return np.asarray(padded[2 * far :] - padded[: -2 * far] > max(Reading.WARMS_K, step_k))


def _channel(values: Floats, loaded: Bools) -> Channel:
    read = np.isfinite(values) & (values > 0)
    logs = np.log(np.where(read, values, 1.0))
    used = read & loaded
    if not used.any():
        return Channel(value=logs, read=read, noise=Reading.FLOOR)
    step = step_size(values[used]) / float(np.median(values[used]))
    rounded = step / np.sqrt(12) if step < Reading.COARSEST else 0.0
    noise = max(_quiet_noise(logs[used]), rounded)
    return Channel(value=logs, read=read, noise=float(np.hypot(noise, Reading.FLOOR)))


def _quiet_noise(values: Floats) -> float:
    """Return the noise of readings that often jump: from the closest among neighbours."""
    if values.size < Reading.FEWEST_QUIET:
        return 0.0
    normal = Reading.QUIET_SIGMAS * np.sqrt(2)  # of the distance of two readings
    lags = (np.abs(values[lag:] - values[:-lag]) for lag in (1, 2, 3))
    return float(min(np.percentile(apart, Reading.QUIET_PCT) for apart in lags) / normal)
