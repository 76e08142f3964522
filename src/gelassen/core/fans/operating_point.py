"""Where temperature, fan speed and sound settle under a curve, and whether the loop hunts."""

import math
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from gelassen.core.fans.cooling import CoolingLaw
from gelassen.core.fans.curve import FanCurve, Follower
from gelassen.core.fans.priors import Loop
from gelassen.core.fans.speed import NoiseLaw, SpeedLaw
from gelassen.core.foundation.distributions import normal_quantile
from gelassen.core.foundation.inputs import Floats

Hunting = Literal["steady", "hunts", "near the edge"]
_SPEEDS = 400  # at which the rise is worked out beforehand
_SLOWEST_RPM = 1.0  # a fan that stands still, as far as a logarithm of its speed goes


@dataclass(frozen=True, slots=True, kw_only=True)
class Fan:
    """What is known of the fan of one setup.

    Attributes
    ----------
    cooling, speed, noise
        Rise over fan speed, fan speed over duty, and sound over fan speed; no sound if none was measured.
    follows_share
        Rise of the temperature that the curve follows, over the judged rise.
    warm_up_s
        Time in which the cooler reaches 63 % of its way, s.
    """

    cooling: CoolingLaw
    speed: SpeedLaw
    noise: NoiseLaw | None = None
    follows_share: float = 1.0
    warm_up_s: float = Loop.USUAL_WARM_UP_S


@dataclass(frozen=True, slots=True, kw_only=True)
class OperatingPoint:
    """Where a curve settles at one power in one room: each value with its interval.

    Attributes
    ----------
    temp_c, rpm, duty_pct, noise_dba
        Value, low, high. Of a loop that hunts: the mean over its swings. noise_dba is None if no sound
        was measured.
    hunting
        "steady", "hunts" or "near the edge"; `swing_k` and `period_s` say how far and how slowly.
    reaches_s
        Time from the start of the load until the fan is within 5 % of where it settles, s.
    passes_limit_s
        When the limit is passed, s from the start of the load; NaN if it is not.
    beyond
        Whether speed or power lie outside what was measured.
    """

    power_w: float
    room_c: float
    temp_c: tuple[float, float, float]
    rpm: tuple[float, float, float]
    duty_pct: float
    noise_dba: tuple[float, float, float] | None
    hunting: Hunting
    swing_k: float
    period_s: float
    reaches_s: float
    passes_limit_s: float
    beyond: bool


@dataclass(frozen=True, slots=True)
class Track:
    """A loop in time: seconds, judged temperature in °C, duty in %, speed in rpm."""

    elapsed_s: Floats
    temp_c: Floats
    duty_pct: Floats
    rpm: Floats


def operating_point(
    fan: Fan,
    curve: FanCurve,
    power_w: float,
    room_c: float,
    *,
    limit_c: float = math.inf,
    confidence: float = 0.95,
) -> OperatingPoint:
    """Return where this curve settles at this power in this room.

    Notes
    -----
    The crossing of curve and cooling is found for the mean; errors of cooling and of speed are carried
    through the loop, whose own gain makes them smaller. A loop with hysteresis or steps is followed in
    time for what it adds.
    """
    track = follow(fan, curve, power_w, room_c)
    late = track.elapsed_s > 0.6 * track.elapsed_s[-1]
    hunting, swing_k, period_s = _hunting(fan, curve, power_w, room_c, track)
    duty = float(track.duty_pct[late].mean())
    temp = float(track.temp_c[late].mean())
    rpm, speed_error = fan.speed.at(duty)
    rpm = max(float(track.rpm[late].mean()), _SLOWEST_RPM)
    cooling = fan.cooling.at(np.array([rpm, 0.97 * rpm, 1.03 * rpm]), np.full(3, power_w))
    per_rpm = float(cooling.mean[2] - cooling.mean[1]) / (0.06 * rpm)
    slope = _slope(fan, curve, followed(fan, temp, room_c)) * fan.follows_share
    gain = max(-per_rpm * slope, 0.0)
    error_k = float(cooling.spread[0])
    held_k = curve.hysteresis_k / 4 * gain / (1 + gain)  # where within its band a loop came to rest
    temps = _interval(
        temp, confidence, error_k / (1 + gain), per_rpm * speed_error / (1 + gain), held_k
    )
    speeds = _interval(
        rpm, confidence, slope * error_k / (1 + gain), speed_error / (1 + gain), held_k * slope
    )
    noise = None
    if fan.noise is not None and rpm > _SLOWEST_RPM:
        level, level_error = fan.noise.at(rpm)
        by_speed = abs(fan.noise.slope) * (speeds[2] - speeds[1]) / (4 * rpm * math.log(10))
        noise = _interval(level, confidence, level_error, by_speed)
    law = fan.cooling
    outside = not (0.95 * law.rpm.min() <= rpm <= 1.05 * law.rpm.max())
    outside |= not (0.9 * law.power_w.min() <= power_w <= 1.1 * law.power_w.max())
    return OperatingPoint(
        power_w=power_w, room_c=room_c, temp_c=temps, rpm=speeds, duty_pct=duty, noise_dba=noise,
        hunting=hunting, swing_k=swing_k, period_s=period_s, reaches_s=_reaches(track),
        passes_limit_s=_passes(track, limit_c), beyond=outside,
    )  # fmt: skip


def temp_at_duty(
    fan: Fan, duty_pct: float, power_w: float, room_c: float, *, confidence: float = 0.95
) -> tuple[float, float, float]:
    """Return where a fixed duty settles, °C: value, low, high."""
    rpm, speed_error = fan.speed.at(duty_pct)
    rpm = max(rpm, _SLOWEST_RPM)
    cooling = fan.cooling.at(np.array([rpm, 0.97 * rpm, 1.03 * rpm]), np.full(3, power_w))
    per_rpm = float(cooling.mean[2] - cooling.mean[1]) / (0.06 * rpm)
    return _interval(
        room_c + float(cooling.mean[0]), confidence, float(cooling.spread[0]), per_rpm * speed_error
    )


def follow(fan: Fan, curve: FanCurve, power_w: float, room_c: float, *, lag: float = 1.0) -> Track:
    """Return how the loop goes from the start of the load on, second by second.

    The part of the rise before the fins is there at once; the fins follow with the warm-up time at middle
    speed, faster the more air they have. `lag` makes fan and average slower or faster.
    """
    law = fan.cooling
    top_rpm = 2.0 * float(law.rpm.max())
    speeds = np.linspace(top_rpm / _SPEEDS, top_rpm, _SPEEDS)
    tried = np.geomspace(speeds[0], top_rpm, 60)
    rises = np.interp(speeds, tried, law.at(tried, np.full(60, power_w)).mean)
    middle = float(np.interp(law.middle[0], speeds, rises))
    at_once = 0.6 * float(rises[-1])  # what no air takes away
    rise_at = _Even(0.0, speeds[0], [float(rises[0]), *map(float, rises)])
    capacity = fan.warm_up_s / max(middle - at_once, 0.1)
    lasts_s = float(np.clip(Loop.WARM_UPS * fan.warm_up_s, Loop.LEAST_S, Loop.MOST_S))
    count = int(lasts_s / Loop.STEP_S)
    speed_at = _Even(0.0, 0.25, [float(x) for x in fan.speed.over(np.linspace(0.0, 100.0, 401))[0]])
    slowed = replace(curve, average_s=curve.average_s * lag)
    follower = Follower(slowed, duty_pct=curve.duty_at(room_c))
    fins, rpm = 0.0, speed_at(follower.duty_pct or 0.0)
    share = 1.0 - math.exp(-Loop.STEP_S / (Loop.FAN_S * lag))
    temps, set_duties, turned = np.empty(count), np.empty(count), np.empty(count)
    for k in range(count):
        rise = at_once + fins
        duty = follower.step(room_c + fan.follows_share * rise)
        rpm += share * (speed_at(duty) - rpm)
        ends = max(rise_at(rpm) - at_once, 0.1)
        fins += (ends - fins) * (1.0 - math.exp(-Loop.STEP_S / (capacity * ends)))
        temps[k], set_duties[k], turned[k] = room_c + rise, duty, rpm
    seconds = np.asarray(np.arange(count) * Loop.STEP_S, dtype=float)
    return Track(seconds, temps, set_duties, turned)


@dataclass(frozen=True, slots=True)
class _Even:
    """Straight lines between values at even steps: quicker than a search, for a loop of many seconds."""

    first: float
    step: float
    values: list[float]

    def __call__(self, x: float) -> float:
        place = min(max((x - self.first) / self.step, 0.0), len(self.values) - 1.000001)
        left = int(place)
        return self.values[left] + (place - left) * (self.values[left + 1] - self.values[left])


def followed(fan: Fan, temp_c: float, room_c: float) -> float:
    """Return what the curve reads where the judged temperature is this, °C."""
    return room_c + fan.follows_share * (temp_c - room_c)


def _slope(fan: Fan, curve: FanCurve, followed_c: float) -> float:
    """Return how much faster the fan turns for one kelvin more, rpm/K."""
    duties = [curve.duty_at(followed_c + away) for away in (-0.5, 0.5)]
    if curve.steps:  # between two steps the duty does not move
        return 0.0
    low, high = (fan.speed.at(duty)[0] for duty in duties)
    return high - low


def _interval(value: float, confidence: float, *errors: float) -> tuple[float, float, float]:
    reach = float(normal_quantile((1 + confidence) / 2)) * math.hypot(*map(float, errors))
    return value, value - reach, value + reach


def _hunting(
    fan: Fan, curve: FanCurve, power_w: float, room_c: float, track: Track
) -> tuple[Hunting, float, float]:
    """Return the verdict, the swing in K and its period in s; lags and powers nearby must agree."""
    swing, period = _swing(track)
    hunts = _is_hunting(track)
    if len(set(curve.duties_pct)) == 1 and curve.stop_below_c is None:
        return "steady", swing, period
    nearby = [
        _is_hunting(follow(fan, curve, power_w * power, room_c, lag=lag))
        for power, lag in ((1.0, Loop.EDGE), (1.0, 1 / Loop.EDGE), (1.02, 1.0), (0.98, 1.0))
    ]
    if any(one != hunts for one in nearby):
        return "near the edge", swing, period
    return ("hunts" if hunts else "steady"), swing, period


def _is_hunting(track: Track) -> bool:
    late = track.elapsed_s > 0.6 * track.elapsed_s[-1]
    duty, temp = track.duty_pct[late], track.temp_c[late]
    turns = np.count_nonzero(np.diff(np.sign(temp - temp.mean())))
    return bool(turns >= 3 and (np.ptp(duty) > Loop.HUNTS_PCT or np.ptp(temp) > Loop.HUNTS_K))


def _swing(track: Track) -> tuple[float, float]:
    late = track.elapsed_s > 0.6 * track.elapsed_s[-1]
    temp = track.temp_c[late]
    ups = np.flatnonzero(np.diff(np.sign(temp - temp.mean())) > 0)
    period = float(np.diff(ups).mean()) * Loop.STEP_S if ups.size > 1 else math.nan
    return float(np.ptp(temp)), period


def _passes(track: Track, limit_c: float) -> float:
    """Return when the judged temperature passes the limit, s; NaN if it does not."""
    above = track.temp_c > limit_c
    return float(track.elapsed_s[int(np.argmax(above))]) if above.any() else math.nan


def _reaches(track: Track) -> float:
    """Return when the fan is within 5 % of its last speed for good, s."""
    last = float(track.rpm[-60:].mean())
    away = np.flatnonzero(np.abs(track.rpm - last) > 0.05 * max(last, _SLOWEST_RPM))
    return float(track.elapsed_s[min(away[-1] + 1, track.rpm.size - 1)]) if away.size else 0.0
