"""Readings that were logged more often than the sensor renews them, or less often than the rest."""

import numpy as np
import pandas as pd
import pytest

from gelassen import Recording, summarise_run
from gelassen.core import steady_state
from gelassen.core.signal.renewal import renewed_every_s, without_repeats
from gelassen.core.signal.unread import unanswered
from logs import heating_log


def held(times, values, samples):
    return np.repeat(values[::samples], samples)[: values.size]


def test_a_sensor_that_updates_every_15_s_is_not_taken_for_a_stuck_one():
    log = heating_log("tower", 1, minutes=20, step_k=0.1)
    rare = held(log.time_s, log.temperature_c, 15)
    fresh = without_repeats(log.time_s, rare)
    assert renewed_every_s(log.time_s, rare) == pytest.approx(15, abs=0.2)
    assert np.isfinite(fresh).sum() == pytest.approx(rare.size / 15, rel=0.05)
    assert np.array_equal(fresh[np.isfinite(fresh)], rare[np.isfinite(fresh)])
    slow = np.round(22 + 40 * (1 - np.exp(-log.time_s / 900)))  # whole degrees, no noise
    for plain in (log.temperature_c, slow):
        assert renewed_every_s(log.time_s, plain) is None
        assert without_repeats(log.time_s, plain) is plain


def filled(times, values, samples):
    return np.interp(times, times[::samples], values[::samples])


@pytest.mark.parametrize("seldom", [held, filled], ids=["held", "filled in by straight lines"])
def test_its_stairs_are_no_changes_of_the_conditions(seldom):
    found = 0
    for seed in range(5):
        log = heating_log("liquid", seed, minutes=15, step_k=0.1)
        channels = {
            "cpu.package.temp_c": seldom(log.time_s, log.temperature_c, 15),
            "room.air.temp_c": log.room_c,
        }
        summary = summarise_run(
            Recording(frame=pd.DataFrame(channels, index=pd.Index(log.time_s, name="t_s")))
        )
        found += len(summary.steps)
        assert any("a new value every 15 s" in text for text in summary.cautions)
    assert found == 0


def test_a_slow_logger_is_as_precise_when_merged_as_alone():
    """Of several loggers laid together, each leaves gaps where another one read."""
    widths = []
    for seed in range(4):
        log = heating_log("liquid", seed, minutes=40, step_k=0.1)
        noise = 0.5 * np.random.default_rng(seed).standard_normal(log.time_s.size)
        times, read, room = log.time_s, log.temperature_c + noise, log.room_c
        alone = steady_state(times[::20], read[::20], reference_c=room[::20])
        rare = np.where(np.arange(times.size) % 20 == 0, read, np.nan)
        beside = steady_state(times, rare, reference_c=room)
        widths.append((beside.high - beside.low) / (alone.high - alone.low))
    assert widths == pytest.approx([1] * 4, abs=0.1)


def test_a_part_that_is_this_hot_most_of_the_time_was_read():
    hot = np.full(1000, np.nan)
    hot[::10] = np.where(np.arange(100) < 30, 45.0, 149.0)
    assert not unanswered(hot).any()
