"""When a load ran: one load, several, or one that comes in bursts."""

import numpy as np
import pandas as pd
import pytest

from gelassen.core import Recording, summarise_run
from gelassen.core.recording.load_span import (
    in_bursts,
    load_stretches,
    span_from_level,
    span_from_temperature,
)
from gelassen.core.recording.recording import Phase
from gelassen.core.signal.grid import lagged
from logs import heating_log

T = np.arange(3600.0)


def loads(first, length, pause, count):
    """Return power with so many loads in it."""
    into = T - first
    on = (into >= 0) & (into < count * (length + pause)) & (into % (length + pause) < length)
    noise = np.random.default_rng(1).standard_normal(T.size)
    return np.where(on, 90.0, 12.0) + 0.5 * noise


@pytest.mark.parametrize(("length", "pause", "count"), [(20, 20, 60), (90, 90, 15), (120, 240, 7)])
def test_bursts_are_one_load(length, pause, count):
    power = loads(300, length, pause, count)
    span = span_from_level(T, power)
    assert span.start_s == pytest.approx(300, abs=1)
    assert span.end_s == pytest.approx(300 + count * (length + pause) - pause, abs=2)
    assert in_bursts(T[300:], power[300:])


def test_loads_of_ten_minutes_with_a_pause_between_stay_apart():
    power = loads(300, 600, 200, 4)
    power[1900:1905] = 12.0  # a hiccup within the third
    span = span_from_level(T, power)
    assert span.end_s - span.start_s == pytest.approx(600, abs=3)


def game(seed, *quiet):
    """Return power of a game from 300 s to the end, with these quiet scenes."""
    rng = np.random.default_rng(seed)
    power = np.repeat(rng.uniform(70, 110, 60), 60) + rng.standard_normal(T.size)
    for start, end in ((0, 300), *quiet):
        power[start:end] = (12.0 if end == 300 else 22.0) + 0.5 * rng.standard_normal(end - start)
    return power


@pytest.mark.parametrize(
    "quiet", [((300, 500),), ((3350, 3600),), ((1500, 2000),), ((300, 420), (1800, 2300))]
)
def test_quiet_scenes_of_a_load_that_varies_are_part_of_it(quiet):
    power = game(3, *quiet)
    span = span_from_level(T, power)
    assert span.start_s == pytest.approx(300, abs=3)
    assert span.end_s == pytest.approx(3599, abs=3)
    assert len(load_stretches(T, power)) == 1
    rise = 0.35 * lagged(power, 1.0, 200.0) + 0.15 * lagged(power, 1.0, 8.0)
    alone = span_from_temperature(T, 23 + rise)
    assert 300 <= alone.start_s + 3 <= 504  # a quiet first scene may pass for rest
    assert alone.end_s > 3300


def test_what_ran_after_a_constant_load_is_not_part_of_it():
    power = np.select([T < 300, T < 2400, T < 2640], [12.0, 95.0, 24.0], 12.0)
    assert span_from_level(T, power).end_s == pytest.approx(2400, abs=2)
    rise = 0.35 * lagged(power, 1.0, 200.0) + 0.15 * lagged(power, 1.0, 8.0)
    assert span_from_temperature(T, 23 + rise).end_s == pytest.approx(2400, abs=10)


@pytest.mark.parametrize("ends", [True, False], ids=["the load ends", "a fan speeds up"])
def test_a_heavy_cooler_stays_warm_after_its_load(ends):
    t = np.arange(9000.0)
    power = np.where((t >= 300) & (t < 7500), 24.0, 4.0)
    slow = 2.2 * lagged(power, 1.0, 4600.0)
    if not ends:  # more air takes off less than a load brings, and later
        power = np.where(t >= 300, 24.0, 4.0)
        slow = 2.2 * lagged(power, 1.0, 4600.0) - 12 * -np.expm1(-(t - 7500).clip(min=0) / 200)
    part = 23 + slow + 0.4 * lagged(power, 1.0, 30.0)
    part += 0.2 * np.random.default_rng(5).standard_normal(t.size)
    span = span_from_temperature(t, np.round(part, 1))
    assert span.start_s == pytest.approx(300, abs=20)
    assert span.end_s == pytest.approx(7500 if ends else t[-1], abs=20)
    assert part[-1] > 23 + 0.6 * (part.max() - 23)  # it is warm in both


def test_noise_a_boost_and_a_power_limit_are_no_bursts():
    boosted = np.where(T < 60, 130.0, 95.0) + np.random.default_rng(2).standard_normal(T.size)
    stepped = np.where(T < 1200, 125.0, np.where(T < 2400, 80.0, 125.0))
    for power in (boosted, stepped, np.full(T.size, 90.0), np.zeros(T.size), T[:10]):
        assert not in_bursts(T[: power.size], power)


def test_a_load_that_died_early_is_judged_up_to_its_end():
    log = heating_log("tower", 4, minutes=30)
    died = 1300.0
    late = log.time_s > died
    cooled = log.temperature_c[~late][-1] - log.room_c
    part = np.where(
        late, np.round(log.room_c + cooled * np.exp(-(log.time_s - died) / 160)), log.temperature_c
    )
    frame = pd.DataFrame(
        {"cpu.package.temp_c": part, "cpu.package.power_w": np.where(late, 8.0, log.power_w),
         "room.air.temp_c": log.room_c},
        index=pd.Index(log.time_s, name="t_s"),
    )  # fmt: skip
    phases = (Phase("idle", 0.0, 120.0), Phase("hold", 120.0, float(log.time_s[-1])))
    summary = summarise_run(Recording(frame=frame, phases=phases), look_for_steps=False)
    assert summary.steady.window_s[1] == pytest.approx(died, abs=15)
    assert summary.steady.value == pytest.approx(log.rise_k, abs=1)
