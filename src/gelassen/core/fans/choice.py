"""Curves worth proposing: the quietest that keeps a temperature, the coolest within a sound level."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from gelassen.core.fans.curve import FanCurve
from gelassen.core.fans.loop import Fan, followed
from gelassen.core.fans.operating_point import OperatingPoint, operating_point, temp_at_duty
from gelassen.core.fans.priors import Choice
from gelassen.core.foundation.distributions import normal_quantile
from gelassen.core.foundation.errors import InputError

Condition = tuple[float, float]  # power in W, room in °C


@dataclass(frozen=True, slots=True, kw_only=True)
class Suggestion:
    """A curve to try, where it is predicted to settle, and at which condition a run proves it."""

    curve: FanCurve
    points: tuple[OperatingPoint, ...]
    prove_at: Condition


def quietest(
    fan: Fan,
    conditions: Sequence[Condition],
    below_c: float,
    limit_c: float,
    *,
    confidence: float = 0.95,
) -> Suggestion:
    """Return the quietest curve whose interval stays below a temperature at all these conditions.

    Parameters
    ----------
    fan : Fan
        The setup.
    conditions : sequence of (power in W, room in °C)
        Where the curve must keep the temperature.
    below_c, limit_c : float
        The temperature to keep, and the limit of the part, of the judged temperature, °C.

    Raises
    ------
    InputError
        Even full duty does not keep it somewhere.
    """
    if below_c > limit_c:
        raise InputError(
            f"{below_c:g} °C is above the limit of {limit_c:g} °C, where the chip holds itself back"
        )
    needed = [(_least_duty(fan, one, below_c, confidence), one) for one in conditions]
    for extra in range(Choice.MOST_EXTRA_PCT):
        curve = _through(fan, needed, extra, limit_c)
        found = _calm(fan, curve, conditions, confidence)
        if all(point.temp_c[2] <= below_c for point in found.points):
            break
    else:
        raise InputError(
            f"no curve of whole degrees keeps {below_c:g} °C in all of these cases: ask for each by itself"
        )
    hottest = max(found.points, key=lambda point: point.temp_c[2])
    return replace(found, prove_at=(hottest.power_w, hottest.room_c))


def coolest(
    fan: Fan, conditions: Sequence[Condition], noise_dba: float, *, confidence: float = 0.95
) -> Suggestion:
    """Return the coolest curve that stays within a sound level: the highest duty that surely does.

    Raises
    ------
    InputError
        No sound was measured, or even the slowest speed is louder.
    """
    if fan.noise is None:
        raise InputError(
            "no sound was measured: note room.noise.level_dba with the runs, or state noise_dba in "
            "[[fans]] of the study"
        )
    lowest = float(fan.speed.duty_pct[0])
    reach = float(normal_quantile((1 + confidence) / 2))
    quiet = []
    for duty in range(math.ceil(lowest), 101):
        level, error = fan.noise.at(fan.speed.at(duty)[0])
        if level + reach * error <= noise_dba:
            quiet.append(duty)
    if not quiet:
        level, error = fan.noise.at(fan.speed.at(lowest)[0])
        raise InputError(
            f"{noise_dba:g} dB(A) cannot be kept: at {lowest:g} %, the lowest duty measured, the fan makes "
            f"{level:.0f} dB(A) (up to {level + reach * error:.0f})"
        )
    curve = FanCurve(temperatures_c=(0.0, 100.0), duties_pct=(float(max(quiet)),) * 2)
    points = tuple(operating_point(fan, curve, *one, confidence=confidence) for one in conditions)
    hottest = max(points, key=lambda point: point.temp_c[2])
    return Suggestion(curve=curve, points=points, prove_at=(hottest.power_w, hottest.room_c))


def _least_duty(fan: Fan, condition: Condition, below_c: float, confidence: float) -> int:
    """Return the lowest whole duty among the measured ones whose interval stays below."""
    power_w, room_c = condition
    for duty in range(math.ceil(fan.speed.duty_pct[0]), 101):
        if temp_at_duty(fan, duty, power_w, room_c, confidence=confidence)[2] <= below_c:
            return duty
    value, low, high = temp_at_duty(fan, 100.0, power_w, room_c, confidence=confidence)
    raise InputError(
        f"{below_c:g} °C cannot be kept at {power_w:g} W in a room of {room_c:g} °C: at full duty it "
        f"settles at {value:.1f} °C ({low:.1f} to {high:.1f})"
    )


def _through(
    fan: Fan, needed: Sequence[tuple[int, Condition]], extra_pct: int, limit_c: float
) -> FanCurve:
    """Return a curve of whole numbers through the duty each condition needs."""
    lowest = math.ceil(fan.speed.duty_pct[0])
    points: list[tuple[float, float]] = []
    for least, (power_w, room_c) in sorted(needed):
        duty = float(min(least + extra_pct, 100))
        judged = temp_at_duty(fan, duty, power_w, room_c)[0]
        points.append((math.floor(followed(fan, judged, room_c)), duty))
    kept: list[tuple[float, float]] = []
    for temp, duty in reversed(points):  # the most demanding is kept as it is, the others make way
        if not kept:
            kept.append((temp, duty))
        elif duty < kept[0][1]:
            kept.insert(0, (min(temp, kept[0][0] - Choice.LEAST_STEP_K), duty))
    if kept[0][1] > lowest:
        kept.insert(0, (kept[0][0] - Choice.BELOW_FIRST_K, lowest))
    last, top = kept[-1]
    if top < 100:
        full_c = max(math.floor(limit_c - Choice.LEAST_STEP_K), last + Choice.LEAST_STEP_K)
        kept.append((full_c, 100.0))
    if len(kept) == 1:
        kept.insert(0, (last - Choice.BELOW_FIRST_K, top))
    return FanCurve(
        temperatures_c=tuple(float(t) for t, _ in kept), duties_pct=tuple(float(d) for _, d in kept)
    )


def _calm(
    fan: Fan, curve: FanCurve, conditions: Sequence[Condition], confidence: float
) -> Suggestion:
    """Return the curve with the least hysteresis and average with which it does not hunt."""
    tries = list(zip(Choice.HYSTERESES_K, Choice.AVERAGES_S, strict=True))
    for hysteresis, average in tries:
        tried = replace(curve, hysteresis_k=hysteresis, average_s=average)
        points = tuple(
            operating_point(fan, tried, *one, confidence=confidence) for one in conditions
        )
        if all(point.hunting == "steady" for point in points):
            break
    return Suggestion(curve=tried, points=points, prove_at=conditions[0])
