"""Fan curves: what they refuse, how they are followed, where they settle, which one to try."""

import math
from dataclasses import replace

import numpy as np
import pytest

from gelassen.core import InputError
from gelassen.core.fans.choice import coolest, quietest
from gelassen.core.fans.cooling import cooling_law
from gelassen.core.fans.curve import FanCurve, Follower, check_curve, parse_curve, reaches
from gelassen.core.fans.loop import Fan, follow
from gelassen.core.fans.operating_point import operating_point, temp_at_duty
from gelassen.core.fans.speed import noise_law, speed_law

ROOM_C = 22.0
DUTIES = np.array([30.0, 45.0, 60.0, 80.0, 100.0])


class Exchanger:
    """A cooler of another law than the analysis: air that warms up on its way through the fins."""

    def __init__(self, rng):
        self.stream, self.turbulence = rng.uniform(5, 20), rng.uniform(0.5, 0.8)
        self.surface, self.contact = self.stream * rng.uniform(0.7, 2), rng.uniform(0.05, 0.25)
        self.top_rpm, self.start = rng.uniform(1300, 3000), rng.uniform(5, 20)

    def rpm(self, duty):
        return self.top_rpm * (duty - self.start) / (100 - self.start)

    def rise(self, rpm, power_w):
        speed = rpm / self.top_rpm
        units = self.surface * speed**self.turbulence / (self.stream * speed)
        return power_w * (self.contact + 1 / (self.stream * speed * (1 - np.exp(-units)))) + 0.8


def fan_of(machine, rng, error=0.15):
    rpm, power = machine.rpm(DUTIES), np.array([70.0, 110.0, 70.0, 110.0, 70.0])
    rises = machine.rise(rpm, power) + rng.normal(0, math.hypot(error, 0.15), 5)
    return Fan(
        cooling=cooling_law(rpm, power, rises, np.full(5, error)), speed=speed_law(DUTIES, rpm),
        noise=noise_law(rpm, 20 + 50 * np.log10(rpm / 600)), warm_up_s=150.0,
    )  # fmt: skip


def test_untested_curves_settle_where_they_are_predicted():
    rng = np.random.default_rng(5)
    off, inside, rpm_off = [], [], []
    for _ in range(40):
        machine = Exchanger(rng)
        fan = fan_of(machine, rng)
        power, duty = rng.uniform(72, 108), rng.uniform(35, 95)
        temp = ROOM_C + machine.rise(machine.rpm(duty), power)
        curve = FanCurve(temperatures_c=(temp - 6, temp + 6), duties_pct=(duty - 5, duty + 5))
        point = operating_point(fan, curve, power, ROOM_C)
        off.append(abs(point.temp_c[0] - temp))
        inside.append(point.temp_c[1] <= temp <= point.temp_c[2])
        rpm_off.append(abs(point.rpm[0] / machine.rpm(duty) - 1))
    assert np.mean(np.array(off) <= 1.0) >= 0.95
    assert np.mean(np.array(rpm_off) <= 0.03) >= 0.95
    assert np.mean(inside) >= 0.9  # of 95 %, by chance of 40


def test_beyond_what_was_measured_less_is_certain_and_said():
    fan = fan_of(Exchanger(np.random.default_rng(1)), np.random.default_rng(2))
    inside, outside = (temp_at_duty(fan, duty, 90.0, ROOM_C) for duty in (60.0, 15.0))
    assert outside[2] - outside[1] > 2 * (inside[2] - inside[1])
    curve = FanCurve(temperatures_c=(0.0, 100.0), duties_pct=(15.0, 15.0))
    assert operating_point(fan, curve, 90.0, ROOM_C).beyond
    assert not operating_point(fan, replace(curve, duties_pct=(60.0, 60.0)), 90.0, ROOM_C).beyond


def test_a_step_without_hysteresis_hunts_and_enough_of_it_calms():
    fan = fan_of(Exchanger(np.random.default_rng(1)), np.random.default_rng(2))
    slow, fast = (temp_at_duty(fan, duty, 90.0, ROOM_C)[0] for duty in (40.0, 80.0))
    step = FanCurve(temperatures_c=(0.0, (slow + fast) / 2), duties_pct=(40.0, 80.0), steps=True)
    bare = operating_point(fan, step, 90.0, ROOM_C)
    assert bare.hunting == "hunts"
    wide = replace(step, hysteresis_k=slow - fast + 3)
    assert operating_point(fan, wide, 90.0, ROOM_C).hunting == "steady"
    some = replace(step, hysteresis_k=(slow - fast) / 4)
    swings = operating_point(fan, some, 90.0, ROOM_C)
    assert swings.hunting == "hunts"
    assert swings.period_s > bare.period_s
    track = follow(fan, some, 90.0, ROOM_C)
    assert {40.0, 80.0} <= set(track.duty_pct[-2000:].tolist())


def test_the_quietest_curve_keeps_its_promise_on_the_true_machine():
    rng = np.random.default_rng(8)
    for _ in range(6):
        machine = Exchanger(rng)
        fan = fan_of(machine, rng)
        conditions = [(100.0, 28.0), (75.0, 22.0)]
        below = 28.0 + machine.rise(machine.rpm(rng.uniform(45, 85)), 100.0)
        found = quietest(fan, conditions, below, 95.0)
        assert all(value == int(value) for value in found.curve.temperatures_c)
        check_curve(found.curve, "suggested")
        assert all(point.temp_c[2] <= below for point in found.points)
        assert all(point.hunting == "steady" for point in found.points)
        assert found.prove_at in conditions
        for point in found.points:
            true = point.room_c + machine.rise(machine.rpm(point.duty_pct), point.power_w)
            assert true <= below + 0.3
        hot = found.points[0]
        assert (
            temp_at_duty(fan, hot.duty_pct - 6, 100.0, 28.0)[2] > below
        )  # and no louder than that
    with pytest.raises(InputError, match=r"cannot be kept at 100 W .* at full duty it settles"):
        quietest(fan, conditions, 40.0, 95.0)


def test_the_coolest_curve_stays_within_a_sound_level():
    fan = fan_of(Exchanger(np.random.default_rng(1)), np.random.default_rng(2))
    found = coolest(fan, [(90.0, ROOM_C)], 35.0)
    level = found.points[0].noise_dba[0]
    assert 34.0 < level <= 35.0
    with pytest.raises(InputError, match="lowest duty measured"):
        coolest(fan, [(90.0, ROOM_C)], 5.0)
    with pytest.raises(InputError, match="no sound was measured"):
        coolest(replace(fan, noise=None), [(90.0, ROOM_C)], 35.0)


def test_a_curve_is_followed_as_it_says():
    curve = FanCurve(
        temperatures_c=(50.0, 70.0), duties_pct=(30.0, 90.0), hysteresis_k=4.0, rise_pct_per_s=10.0,
        start_pct=40.0, least_pct=25.0, stop_below_c=45.0,
    )  # fmt: skip
    fan = Follower(curve, duty_pct=0.0)
    assert fan.step(40.0) == 0.0
    assert fan.step(51.0) == 25.0  # on its way up, and a fan does not turn below that
    assert fan.step(51.0) == 35.0
    assert fan.step(51.0) == 40.0  # the start duty holds until it turns
    for _ in range(10):
        settled = fan.step(60.0)
    assert settled == 60.0
    assert fan.step(57.0) == 60.0  # within the hysteresis
    assert fan.step(55.0) == 57.0
    slow = Follower(replace(curve, average_s=10.0), duty_pct=60.0)
    slow.step(60.0)
    assert slow.step(70.0) < 70.0


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("40", "is not a fan curve"),
        ("60: 50, 40: 70", "40 °C comes after 60 °C"),
        ("40: 60, 60: 50", "the duty falls from 60 % at 40 °C to 50 % at 60 °C"),
        ("40: 30, 60: 150", "found 150 %"),
        ("cool: 30, 60: 50", "is not a fan curve"),
    ],
)
def test_curves_that_cannot_be_are_refused_with_the_reason(text, said):
    with pytest.raises(InputError, match=f"here: .*{said}"):
        parse_curve(text, "here")


def test_a_curve_reaches_its_top_before_the_guard_stops_the_run():
    curve = parse_curve("40: 30, 90: 100", "here")
    reaches(curve, 95.0, "here")
    with pytest.raises(InputError, match="the guard stops the run at 85 °C"):
        reaches(curve, 85.0, "here")
    with pytest.raises(InputError, match="stand still"):
        check_curve(replace(curve, stop_below_c=95.0), "here")
    with pytest.raises(InputError, match="least_pct"):
        check_curve(replace(curve, least_pct=50.0, start_pct=30.0), "here")
