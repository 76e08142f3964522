"""The loop of temperature and fan in time, and whether it hunts."""

import math
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from gelassen.core.fans.cooling import CoolingLaw
from gelassen.core.fans.curve import FanCurve, Follower
from gelassen.core.fans.priors import Loop
from gelassen.core.fans.speed import NoiseLaw, SpeedLaw
from gelassen.core.foundation.inputs import Bools, Floats

Hunting = Literal["steady", "hunts", "near the edge"]
SLOWEST_RPM = 1.0  # a fan that stands still, as far as a logarithm of its speed goes
_SPEEDS = 400  # at which the rise is worked out beforehand


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


@dataclass(frozen=True, slots=True)
class Track:
    """A loop in time: seconds, judged temperature in °C, duty in %, speed in rpm.

    `held_k` is how far the duty was set above the temperature in the end, K: hysteresis keeps it there.
    """

    elapsed_s: Floats
    temp_c: Floats
    duty_pct: Floats
    rpm: Floats
    held_k: float

    @property
    def late(self) -> Bools:
        """Which seconds count as settled."""
        return np.asarray(self.elapsed_s > Loop.LATE * self.elapsed_s[-1])

    @property
    def swing(self) -> tuple[float, float]:
        """How far the temperature still swings in the end, K, and its period, s; NaN if it does not."""
        temp = self.temp_c[self.late]
        ups = np.flatnonzero(np.diff(np.sign(temp - temp.mean())) > 0)
        period = float(np.diff(ups).mean()) * Loop.STEP_S if ups.size > 1 else math.nan
        return float(np.ptp(temp)), period

    @property
    def hunts(self) -> bool:
        """Whether it still swings, by more than sensors and a rounded duty explain."""
        duty, temp = self.duty_pct[self.late], self.temp_c[self.late]
        turns = np.count_nonzero(np.diff(np.sign(temp - temp.mean())))
        return bool(turns >= 3 and (np.ptp(duty) > Loop.HUNTS_PCT or np.ptp(temp) > Loop.HUNTS_K))

    @property
    def reaches_s(self) -> float:
        """When the fan is within 5 % of its last speed for good, s."""
        last = float(self.rpm[-60:].mean())
        away = np.flatnonzero(np.abs(self.rpm - last) > 0.05 * max(last, SLOWEST_RPM))
        return float(self.elapsed_s[min(away[-1] + 1, self.rpm.size - 1)]) if away.size else 0.0

    def passes_s(self, limit_c: float) -> float:
        """Return when the judged temperature passes a limit, s; NaN if it does not."""
        above = self.temp_c > limit_c
        return float(self.elapsed_s[int(np.argmax(above))]) if above.any() else math.nan


def hunting(fan: Fan, curve: FanCurve, power_w: float, room_c: float, track: Track) -> Hunting:
    """Return whether a loop hunts; where lags or powers nearby say otherwise, it is near the edge."""
    if len(set(curve.duties_pct)) == 1 and curve.stop_below_c is None:
        return "steady"
    hunts = track.hunts
    nearby = [
        follow(fan, curve, power_w * power, room_c, lag=lag).hunts
        for power, lag in (
            (1.0, Loop.EDGE), (1.0, 1 / Loop.EDGE), (Loop.EDGE_POWER, 1.0), (2 - Loop.EDGE_POWER, 1.0),
        )
    ]  # fmt: skip
    if any(one != hunts for one in nearby):
        return "near the edge"
    return "hunts" if hunts else "steady"


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
    at_once = Loop.AT_ONCE * float(rises[-1])
    rise_at = _Even(0.0, speeds[0], [float(rises[0]), *map(float, rises)])
    capacity = fan.warm_up_s / max(middle - at_once, 0.1)
    lasts_s = float(np.clip(Loop.WARM_UPS * fan.warm_up_s, Loop.LEAST_S, Loop.MOST_S))
    count = int(lasts_s / Loop.STEP_S)
    speed_at = _Even(0.0, 0.25, [float(x) for x in fan.speed.over(np.linspace(0.0, 100.0, 401))[0]])
    slowed = replace(curve, average_s=curve.average_s * lag)
    follower = Follower(slowed, duty_pct=curve.duty_at(room_c))
    rests = int((Loop.RESTS_S + 10 * slowed.average_s) / Loop.STEP_S)
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
        if k % rests == 0 and k and np.ptp(temps[k - rests : k + 1]) < Loop.AT_REST_K:
            temps[k:], set_duties[k:], turned[k:] = room_c + rise, duty, rpm
            break
    seconds = np.asarray(np.arange(count) * Loop.STEP_S, dtype=float)
    return Track(seconds, temps, set_duties, turned, follower.held_k)


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
