"""Where temperature, fan speed and sound settle under a curve."""

import math
from dataclasses import dataclass

import numpy as np

from gelassen.core.fans.curve import FanCurve
from gelassen.core.fans.loop import SLOWEST_RPM, Fan, Hunting, Track, follow, followed, hunting
from gelassen.core.fans.priors import Loop
from gelassen.core.foundation.distributions import normal_quantile
from gelassen.core.foundation.inputs import Floats

_COURSE_POINTS = 600  # of a loop in time: a swing of half a minute is still drawn as one
_NEARBY = 0.03  # share of the speed over which a slope is taken


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
    course
        The loop in time, thinned: s from the start of the load, °C, and % of duty.
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
    course: tuple[Floats, Floats, Floats]


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
    The loop is followed in time, and the mean over its last part is taken. Errors of cooling and speed go
    through the loop: its gain makes them smaller. Within
    its hysteresis a loop may rest anywhere: the middle is predicted, and the band is a doubt.
    """
    track = follow(fan, curve, power_w, room_c)
    duty = float(track.duty_pct[track.late].mean())
    temp = float(track.temp_c[track.late].mean())
    rpm = max(float(track.rpm[track.late].mean()), SLOWEST_RPM)
    _, error_k, per_rpm = _rise(fan, rpm, power_w)
    speed_error = fan.speed.at(duty)[1]
    slope = _slope(fan, curve, followed(fan, temp, room_c)) * fan.follows_share
    gain = max(-per_rpm * slope, 0.0)
    # Rooms, power and readings move: where in its band a real loop rests is anybody's guess.
    higher_k = (curve.hysteresis_k / 2 - track.held_k) / (1 + gain)
    band_k = Loop.BAND * curve.hysteresis_k / (1 + gain)
    temp, rpm = temp + per_rpm * slope * higher_k, rpm + slope * higher_k
    duty = fan.speed.duty_for(rpm) if slope * higher_k else duty
    temps = _interval(
        temp, confidence, error_k / (1 + gain), per_rpm * speed_error / (1 + gain), gain * band_k
    )
    speeds = _interval(
        rpm, confidence, slope * error_k / (1 + gain), speed_error / (1 + gain), slope * band_k
    )
    noise = None
    if fan.noise is not None and rpm > SLOWEST_RPM:
        level, level_error = fan.noise.at(rpm)
        half = (speeds[2] - speeds[1]) / 2
        by_speed = abs(fan.noise.slope) * half / (_reach(confidence) * rpm * math.log(10))
        noise = _interval(level, confidence, level_error, by_speed)
    law = fan.cooling
    outside = not (0.95 * law.rpm.min() <= rpm <= 1.05 * law.rpm.max())
    outside |= not (0.9 * law.power_w.min() <= power_w <= 1.1 * law.power_w.max())
    swing_k, period_s = track.swing
    return OperatingPoint(
        power_w=power_w, room_c=room_c, temp_c=temps, rpm=speeds, duty_pct=duty, noise_dba=noise,
        hunting=hunting(fan, curve, power_w, room_c, track), swing_k=swing_k, period_s=period_s,
        reaches_s=track.reaches_s, passes_limit_s=track.passes_s(limit_c), beyond=outside,
        course=_thinned(track),
    )  # fmt: skip


def _thinned(track: Track) -> tuple[Floats, Floats, Floats]:
    """Return the loop in time at even steps, few enough to be kept."""
    every = max(track.elapsed_s.size // _COURSE_POINTS, 1)
    return track.elapsed_s[::every], track.temp_c[::every], track.duty_pct[::every]


def temp_at_duty(
    fan: Fan, duty_pct: float, power_w: float, room_c: float, *, confidence: float = 0.95
) -> tuple[float, float, float]:
    """Return where a fixed duty settles, °C: value, low, high."""
    rpm, speed_error = fan.speed.at(duty_pct)
    rise, error_k, per_rpm = _rise(fan, max(rpm, SLOWEST_RPM), power_w)
    return _interval(room_c + rise, confidence, error_k, per_rpm * speed_error)


def _rise(fan: Fan, rpm: float, power_w: float) -> tuple[float, float, float]:
    """Return the rise at this speed in K, its error, and by how much it changes with the speed, K/rpm."""
    speeds = np.array([rpm, (1 - _NEARBY) * rpm, (1 + _NEARBY) * rpm])
    found = fan.cooling.at(speeds, np.full(3, power_w))
    per_rpm = float(found.mean[2] - found.mean[1]) / (2 * _NEARBY * rpm)
    return float(found.mean[0]), float(found.spread[0]), per_rpm


def _slope(fan: Fan, curve: FanCurve, followed_c: float) -> float:
    """Return how much faster the fan turns for one kelvin more, rpm/K."""
    if curve.steps:  # between two steps the duty does not move
        return 0.0
    low, high = (fan.speed.at(curve.duty_at(followed_c + away))[0] for away in (-0.5, 0.5))
    return high - low


def _reach(confidence: float) -> float:
    return float(normal_quantile((1 + confidence) / 2))


def _interval(value: float, confidence: float, *errors: float) -> tuple[float, float, float]:
    reach = _reach(confidence) * math.hypot(*map(float, errors))
    return value, value - reach, value + reach
