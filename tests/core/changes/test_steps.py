import numpy as np
import pandas as pd
import pytest

from gelassen import Recording, summarise_run
from gelassen.core import find_steps
from gelassen.core.signal.whitening import fitted_whitener
from logs import heating_log


def rise_of(log):
    return log.temperature_c - log.room_c


def test_a_run_without_changes_has_no_steps():
    found = [
        find_steps(log.time_s, rise_of(log))
        for kind in ("tower", "liquid", "passive")
        for log in (heating_log(kind, seed) for seed in range(5))
    ]
    assert sum(map(len, found)) <= 1


@pytest.mark.parametrize("seed", range(4))
def test_an_enclosure_put_on_and_taken_off_is_found(seed):
    log = heating_log("tower", seed, minutes=40)
    t = log.time_s
    warmer = 6 * (1 - np.exp(-np.maximum(t - 1000, 0) / 90))
    warmer -= 6 * (1 - np.exp(-np.maximum(t - 1800, 0) / 90))
    on, off = find_steps(t, np.round(rise_of(log) + warmer))
    assert on.at_s == pytest.approx(1000, abs=45)
    assert off.at_s == pytest.approx(1800, abs=45)
    assert on.low_s <= on.at_s <= on.high_s
    assert on.after - on.before == pytest.approx(6, abs=1.5)
    assert off.after - off.before == pytest.approx(-6, abs=1.5)


@pytest.mark.parametrize("seed", range(3))
def test_a_downward_turn_before_settling_is_found_in_place(seed):
    rng = np.random.default_rng(seed)
    t = np.arange(1300.0)
    rise = 50 - 45 * np.exp(-t / 160)
    rise -= np.where(t > 420, 11 * -np.expm1(-np.maximum(t - 420, 0) / 110), 0)
    (step,) = find_steps(t, np.round(2 * (rise + 0.2 * rng.standard_normal(t.size))) / 2)
    assert step.at_s == pytest.approx(420, abs=20)
    assert step.after < step.before


def through_two_bodies(after_s, slow_s, early_s):
    missing = slow_s * np.exp(-after_s / slow_s) - early_s * np.exp(-after_s / early_s)
    return 1 - missing / (slow_s - early_s)


@pytest.mark.parametrize("share", [0.0, 0.35])
def test_the_moment_of_a_change_is_unbiased_with_and_without_a_sudden_part(share):
    """Sums of ways that may start late would place slow changes late; power shows in part at once."""
    rng = np.random.default_rng(8)
    t = np.arange(1800.0)
    away, covered = [], []
    for _ in range(12):
        tau, early, at_s = rng.uniform(110, 260), rng.uniform(8, 20), rng.uniform(800, 1000)
        after = np.maximum(t - at_s, 0)
        slow = through_two_bodies(after, tau, early)
        change = 7 * (share * -np.expm1(-after / 8) + (1 - share) * slow)
        rise = 45 - 40 * np.exp(-t / 150) + change + 0.15 * rng.standard_normal(t.size)
        (step,) = find_steps(t, rise, load_s=(0, 1800))
        away.append(step.at_s - at_s)
        covered.append(step.low_s <= at_s <= step.high_s)
    assert abs(np.mean(away)) < 5
    assert np.max(np.abs(away)) < 20
    assert np.mean(covered) >= 0.8


def slowly_changed(seed, t, at_s, noise_k=0.15):
    rng = np.random.default_rng(seed)
    change = 5 * through_two_bodies(np.maximum(t - at_s, 0), 180, 8)
    return 45 - 40 * np.exp(-t / 150) + change + noise_k * rng.standard_normal(t.size)


def test_a_slow_change_has_a_narrower_interval_if_power_stayed_constant():
    t = np.arange(1800.0)
    widths = []
    for known in (False, True):
        found = [
            find_steps(t, slowly_changed(seed, t, 900, 0.5), load_s=(0, 1800), power_known=known)
            for seed in range(5)
        ]
        assert [len(steps) for steps in found] == [1] * 5
        assert all(abs(step.at_s - 900) < 45 for (step,) in found)
        widths.append(np.mean([step.high_s - step.low_s for (step,) in found]))
    assert widths[1] < 0.9 * widths[0]


def test_a_gap_of_hours_hides_no_change_before_it():
    t = np.arange(2100.0)
    rise = slowly_changed(3, t, 900)
    t = np.where(t >= 1800, t + 36000, t)
    (step,) = find_steps(t, rise, load_s=(0, t[-1]))
    assert step.at_s == pytest.approx(900, abs=30)


@pytest.mark.parametrize(("settles_k", "minutes"), [(20, 15), (9, 10)])
def test_a_slow_climb_in_whole_degrees_has_stairs_but_no_changes(settles_k, minutes):
    time_s = np.arange(0.0, 120 + 60 * minutes)
    rise = 1 + settles_k * -np.expm1(-(time_s - 120).clip(0) / (60 * minutes))
    for seed in range(6):
        noise = np.random.default_rng(seed).normal(0, 0.05, (2, time_s.size))
        whole, tenths = np.round(22 + rise + noise[0]), np.round(22 + noise[1], 1)
        power = np.where(time_s < 120, 3.0, 15.0)
        frame = pd.DataFrame(
            {"cpu.package.temp_c": whole, "room.air.temp_c": tenths, "cpu.package.power_w": power},
            index=pd.Index(time_s, name="t_s"),
        )
        assert not find_steps(time_s, whole - tenths)
        assert not summarise_run(Recording(frame=frame)).steps


def test_changes_too_small_to_be_worth_telling_are_left_out():
    rng = np.random.default_rng(5)
    t = np.arange(1500.0)
    air = 30 - 6 * np.exp(-t / 200) + np.where(t > 800, 1.5, 0) + 0.05 * rng.standard_normal(t.size)
    assert len(find_steps(t, air, load_s=(0, 1500))) == 1
    assert not find_steps(t, air, load_s=(0, 1500), smallest=2.0)


def test_a_fan_that_stops_is_found_to_the_second():
    rng = np.random.default_rng(0)
    t = np.arange(1200.0)
    (step,) = find_steps(t, np.where(t < 700, 1850, 0) + 8 * rng.standard_normal(t.size))
    assert step.at_s == pytest.approx(700, abs=5)
    assert "down by" in str(step)


def test_power_that_wanders_is_no_change_of_conditions():
    false = 0
    for seed in range(12):
        rng = np.random.default_rng(seed)
        log = heating_log("tower", seed, drift_k=0.3)
        wander = np.zeros(log.time_s.size)
        for k in range(1, wander.size):  # half a kelvin, for two minutes or so
            wander[k] = 0.992 * wander[k - 1] + 0.5 * 0.126 * rng.standard_normal()
        false += len(find_steps(log.time_s, np.round(rise_of(log) + wander)))
    assert false <= 2


def test_a_noted_change_has_a_lower_threshold_but_must_show():
    told, blind, nothing = 0, 0, 0
    for seed in range(8):
        log = heating_log("tower", seed)
        warmer = 1.5 * -np.expm1(-np.maximum(log.time_s - 1000, 0) / 120)
        seen = np.round(rise_of(log) + warmer)
        told += bool(find_steps(log.time_s, seen, told_s=[1010]))
        blind += bool(find_steps(log.time_s, seen))
        nothing += len(find_steps(log.time_s, rise_of(log), told_s=[1010]))
    assert told >= 6
    assert told > blind
    assert nothing <= 1


def test_power_cut_by_a_third_is_a_change_and_not_the_end_of_the_load():
    log = heating_log("tower", 1)
    cooler = -12 * -np.expm1(-np.maximum(log.time_s - 1200, 0) / 100)
    cooler -= np.where(log.time_s > 1200, 4, 0)
    (step,) = find_steps(log.time_s, np.round(rise_of(log) + cooler))
    assert step.at_s == pytest.approx(1200, abs=10)
    assert step.after - step.before == pytest.approx(-16, abs=3)


def test_noise_with_a_memory_is_described_and_taken_out():
    rng = np.random.default_rng(0)
    slow = np.zeros(4000)
    for k in range(1, slow.size):
        slow[k] = 0.95 * slow[k - 1] + rng.standard_normal()
    noise, _ = fitted_whitener(slow + 0.5 * rng.standard_normal(slow.size))
    white = noise(slow)[100:]
    assert noise.fade == pytest.approx(0.95, abs=0.03)
    assert abs(np.corrcoef(white[1:], white[:-1])[0, 1]) < 0.15
    assert fitted_whitener(np.zeros(100))[1] > 0  # no noise at all is no reason to fail


def test_what_cannot_show_a_step_shows_none():
    assert find_steps([0, 1, 2], [5, 5, 9]) == ()
    assert find_steps(np.arange(900), np.full(900, 40.0)) == ()
