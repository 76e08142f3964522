"""Fans, flow and load that were logged and changed in mid-run."""

from dataclasses import replace

import numpy as np
import pandas as pd
import pytest

from gelassen.core import Recording, summarise_run
from gelassen.show.run_text import run_text
from logs import heating_log

AT_S = 1500.0
LOG = heating_log("tower", 4, minutes=50)
SINCE_S = np.maximum(LOG.time_s - AT_S, 0)


def run_with(name, series, temperature_c, power_w=LOG.power_w):
    frame = pd.DataFrame(
        {
            "cpu.package.temp_c": np.round(temperature_c),
            "room.air.temp_c": LOG.room_c,
            "cpu.package.power_w": power_w,
            "cpu.package.clock_mhz": 4000 * (power_w / LOG.power_w) ** 0.4,
            name: np.round(series),
        },
        index=pd.Index(LOG.time_s, name="t_s"),
    )
    return Recording(frame=frame, limit_c=95.0)


def test_a_fan_stop_just_before_the_limit_is_a_change_and_the_clock_cut_is_not():
    hot = np.minimum(LOG.temperature_c + 0.5 * SINCE_S, 95.0)
    cut = (hot == 95) & (SINCE_S > 0)
    power = np.where(cut, 40.0, LOG.power_w)
    assert 50 < LOG.time_s[cut][0] - AT_S < 80
    run = run_with("fan.cpu.speed_rpm", 1400 * np.exp(-SINCE_S / 4), hot, power)
    summary = summarise_run(run)
    (step,) = summary.steps
    assert step.low_s <= AT_S <= step.high_s < step.low_s + 5
    assert step.logged == "fan.cpu.speed_rpm went from 1400 rpm to 0 rpm"
    before, after = (part.steady.value for part in summary.stretches)
    assert (step.before, step.after) == (before, after)
    assert f"up by {after - before:.1f} K (" in run_text(summary, run)
    assert f"; {step.logged}." in run_text(summary, run)
    minute = [part.first_minute_k for part in summary.stretches]
    assert minute[1] == pytest.approx(30, abs=1)
    assert f"{minute[1]:+.1f} K in its first minute" in run_text(summary, run)
    assert step.moved_low < after - before < step.moved_high
    # With an end open, no more is said than is known.
    for low, high, words in (
        (5.0, np.inf, "up by 5.0 K or more"),
        (-np.inf, -2.0, "down by 2.0 K or more"),
        (-1.0, np.inf, "by how much cannot be told"),
        (-0.3, 0.4, "whether it moved the steady value cannot be told (-0.3 to 0.4 K)"),
    ):
        other = replace(summary, steps=(replace(step, moved_low=low, moved_high=high),))
        assert words in run_text(other, run)


@pytest.mark.parametrize("way", [1, -1])
def test_a_change_of_working_cores_gives_the_moment_of_a_slow_change(way):
    # The hottest core itself jumps against what the others do to the cooler.
    moved = way * (2 * (SINCE_S > 0) + 6 * np.expm1(-SINCE_S / 200))
    load = np.where((SINCE_S > 0) == (way > 0), 67.0, 100.0)
    run = run_with("cpu.all.load_pct", load, LOG.temperature_c + moved)
    (step,) = summarise_run(run).steps
    assert step.low_s <= AT_S <= step.high_s < step.low_s + 5


def test_fans_that_follow_the_temperature_or_hunt_are_no_change():
    follows = np.where(LOG.temperature_c > 50, 1200.0, 700.0)
    hunts = np.where(LOG.time_s % 300 > 150, 1200.0, 700.0)
    for speed in (follows, hunts):
        assert summarise_run(run_with("fan.cpu.speed_rpm", speed, LOG.temperature_c)).steps == ()


def test_a_pause_of_the_load_is_told_as_one_and_no_fan_that_follows_it():
    paused = (SINCE_S > 0) & (SINCE_S < 45)
    cold = LOG.temperature_c - 15 * paused - 3 * np.exp(-SINCE_S / 100) * (SINCE_S > 45)
    power = np.where(paused, 15, LOG.power_w)
    run = run_with("cpu.all.load_pct", np.where(paused, 2, 100), cold, power)
    run.frame["fan.cpu.speed_rpm"] = np.where(paused, 900, 1400)
    summary = summarise_run(run)
    (step,) = summary.steps
    assert step.what == "pause"
    assert step.logged in ("the load paused for 45 s", "the load paused for 46 s")
    assert any("the load paused, at" in text for text in summary.cautions)
    assert step.low_s <= AT_S + 45 <= step.high_s
    # Many pauses are a load in bursts.
    run.frame["cpu.all.load_pct"] = np.where(LOG.time_s % 200 < 20, 2, 100)
    assert not any("paused" in step.logged for step in summarise_run(run).steps)


def test_where_the_load_fell_and_the_fan_followed_it_was_the_load():
    fell = SINCE_S > 0
    cold = LOG.temperature_c - 10 * fell - 8 * -np.expm1(-SINCE_S / 150)
    run = run_with(
        "fan.cpu.speed_rpm", np.where(SINCE_S > 3, 900, 1400), cold, LOG.power_w - 40 * fell
    )
    run.frame["cpu.all.load_pct"] = np.where(fell, 50, 100)
    (step,) = summarise_run(run).steps
    assert step.logged == "cpu.all.load_pct went from 100 % to 50 %"


def test_nothing_is_lost_against_a_load_that_did_less():
    # Held back by its power limit with all cores; free, and quicker, with two thirds of them.
    fewer = SINCE_S > 0
    run = run_with(
        "cpu.all.load_pct", np.where(fewer, 67.0, 100.0), LOG.temperature_c - 2 * fewer,
        np.where(fewer, 91.0, LOG.power_w),
    )  # fmt: skip
    run.frame["load.work.rate_per_s"] = np.where(fewer, 30.0, 45.0)
    run.frame["cpu.package.clock_mhz"] = np.where(fewer, 4600.0, 4000.0)
    summary = summarise_run(replace(run, power_limit_w=95.0))
    assert summary.throttling.power[~fewer].mean() > 0.5
    lost = summary.held_back
    assert not lost.clock_pct > 1
    assert not lost.work_pct > 1
