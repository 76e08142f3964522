"""When a load ran: one load, several, or one that comes in bursts."""

import numpy as np
import pandas as pd
import pytest

from gelassen.core import Recording, summarise_run
from gelassen.core.recording.load_span import in_bursts, span_from_level
from gelassen.core.recording.recording import Phase
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
