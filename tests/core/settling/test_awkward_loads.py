"""Loads that come and go, limits, readings that show nothing: what one run may say, and what not."""

import numpy as np
import pandas as pd
import pytest

from gelassen.core import Recording, steady_state, summarise_run
from gelassen.core.recording.recording import Phase
from gelassen.core.signal.grid import lagged
from logs import heating_log

LIMIT_C = 95.0


def frame_of(times, **channels):
    names = {
        "part": "cpu.package.temp_c",
        "room": "room.air.temp_c",
        "power": "cpu.package.power_w",
    }
    columns = {names[name]: series for name, series in channels.items()}
    return pd.DataFrame(columns, index=pd.Index(times, name="t_s"))


def warming(final_k, constant_s, minutes, seed=0):
    """A part in a room of 24 °C, two minutes of rest, whose chip is cut at its limit."""
    t = np.arange(120.0 + 60 * minutes)
    free = 5 + (final_k - 5) * -np.expm1(-np.maximum(t - 120, 0) / constant_s)
    read = np.minimum(24 + free, LIMIT_C)
    return t, np.round(read + 0.1 * np.random.default_rng(seed).standard_normal(t.size), 1)


@pytest.mark.parametrize(("final_k", "constant_s", "reached"), [(88, 420, True), (78, 500, False)])
def test_no_temperature_settles_above_its_limit(final_k, constant_s, reached):
    t, part = warming(final_k, constant_s, minutes=14)
    room = np.full(t.size, 24.0)
    answer = steady_state(t, part, reference_c=room, limit_c=LIMIT_C, load_start_s=120)
    assert answer.limited
    assert answer.reached == reached
    assert answer.low <= answer.value == answer.high == LIMIT_C - 24
    value, low, high = answer.without_limit
    assert low < final_k < high
    assert value > answer.value
    hits_s = 120 - constant_s * np.log((final_k - 71) / (final_k - 5))
    assert answer.limit_at_s == pytest.approx(hits_s, rel=0.1)
    free = steady_state(t, part, reference_c=room, limit_c=130.0, load_start_s=120)
    assert not free.limited


def test_a_run_that_reached_its_limit_at_its_end_is_at_its_limit():
    t, part = warming(88, 420, minutes=14)
    hit = part >= LIMIT_C - 0.3
    power = np.where(t < 120, 10.0, np.where(hit, 92.0, 110.0))
    run = summarise_run(
        Recording(frame=frame_of(t, part=part, room=24.0, power=power)), limit_c=LIMIT_C
    )
    assert run.steady.value == 71.0
    assert "reached its limit, 71.0 K, at about minute " in str(run)


def test_a_governor_that_waits_below_its_limit_holds_the_part_where_it_hovers():
    t = np.arange(120.0 + 1500)
    clock, part, parts, power = 1.0, 24.0, [], []
    for second in t:
        if part >= 84:
            clock = max(clock - 0.05, 0.6)
        elif part < 79:
            clock = min(clock + 0.0005, 1.0)
        power.append(5.0 if second < 120 else 200 * clock**2.5)
        part += (24 + 0.4 * power[-1] - part) / 90
        parts.append(part)
    frame = frame_of(t, part=np.round(parts), room=24.0, power=np.array(power))
    frame["cpu.all.clock_mhz"] = np.where(t < 120, 1200, 4000 * (np.array(power) / 200) ** 0.4)
    run = summarise_run(Recording(frame=frame), limit_c=84)
    late = np.array(parts)[-300:].mean() - 24
    assert run.steady.limited
    assert run.steady.value == pytest.approx(late, abs=1.0)
    assert "is held back by heat at" in str(run)


def scenes(seed, seconds, rise_per_w=0.4):
    """Return power of a game in scenes with menus between them, and the rise that follows it."""
    rng = np.random.default_rng(seed)
    power = np.full(seconds, 10.0)
    at = 120
    while at < seconds:
        length = int(rng.exponential(80)) + 5
        power[at : at + length] = 30.0 if rng.random() < 0.15 else rng.uniform(60, 110)
        at += length
    rise = rise_per_w * (0.7 * lagged(power, 1.0, 240.0) + 0.3 * lagged(power, 1.0, 10.0))
    return power, rise, rise_per_w * power[120:].mean()


def test_an_irregular_load_is_answered_with_its_mean():
    errors, covered = [], []
    for seed in (0, 2, 3, 4, 5, 6):
        power, rise, truth = scenes(seed, 1500)
        rng = np.random.default_rng(seed)
        part = np.round(23 + rise + 0.3 * rng.standard_normal(rise.size), 1)
        run = summarise_run(
            Recording(frame=frame_of(np.arange(1500.0), part=part, room=23.0, power=power))
        )
        assert run.steps == ()
        errors.append(run.steady.value - truth)
        covered.append(run.steady.low <= truth <= run.steady.high)
    assert np.sqrt(np.mean(np.square(errors))) < 0.5
    assert sum(covered) >= 5


def test_of_two_loads_in_a_log_neither_is_the_rest_of_the_other():
    t = np.arange(4000.0)
    power = np.select([(t >= 120) & (t < 1320), (t >= 2200) & (t < 3600)], [65.0, 95.0], 10.0)
    rise = 0.35 * lagged(power, 1.0, 200.0) + 0.15 * lagged(power, 1.0, 8.0)
    part = np.round(23 + rise + 0.2 * np.random.default_rng(0).standard_normal(t.size), 1)
    both = summarise_run(Recording(frame=frame_of(t, part=part, room=23.0, power=power)))
    later = t >= 1320
    alone = summarise_run(
        Recording(frame=frame_of(t[later], part=part[later], room=23.0, power=power[later]))
    )
    assert both.load_s == alone.load_s == (2200.0, 3599.0)
    assert both.transients == alone.transients
    first_minute_k = 85 * (0.35 * -np.expm1(-60 / 200) + 0.15)
    assert both.transients.first_minute_k == pytest.approx(first_minute_k, abs=0.5)


def test_a_run_that_ended_at_rest_has_no_answer_under_load():
    t = np.arange(600.0)
    still = Recording(frame=frame_of(t, part=47.0, room=22.0), phases=(Phase("idle", 0, 600),))
    run = summarise_run(still)
    assert run.steady is None
    assert "never_loaded" in [caution.code for caution in run.cautions]


def test_readings_that_never_change_have_no_interval():
    answer = steady_state(np.arange(600.0), np.full(600, 47.0), power_w=np.full(600, 90.0))
    assert answer.value == 47.0
    assert (answer.low, answer.high) == (-np.inf, np.inf)


VARIATIONS = {
    "both channels warmer": lambda t, part, room, power: (t, part + 7.3, room + 7.3, power),
    "another zero of time": lambda t, part, room, power: (t + 1e6, part, room, power),
    "repeated rows": lambda *log: tuple(np.repeat(series, 2) for series in log),
    "a thousandth of jitter": lambda t, part, room, power: (
        t, part + 1e-3 * np.random.default_rng(1).standard_normal(t.size),
        room + 1e-3 * np.random.default_rng(2).standard_normal(t.size), power,
    ),
    "logged five times as often": lambda *log: (
        np.arange(5 * log[0].size) / 5, *(np.repeat(series, 5) for series in log[1:]),
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", VARIATIONS)
def test_what_says_the_same_is_answered_the_same(name):
    for kind, seed in (("tower", 1), ("tower", 2), ("passive", 3), ("liquid", 4)):
        log = heating_log(kind, seed, minutes=20)
        t, part, room, power = VARIATIONS[name](
            log.time_s, log.temperature_c, log.room_c, log.power_w
        )
        plain = steady_state(
            log.time_s, log.temperature_c, reference_c=log.room_c, power_w=log.power_w
        )
        varied = steady_state(t, part, reference_c=room, power_w=power)
        assert varied.value == pytest.approx(plain.value, abs=0.25 * plain.standard_error)
        if np.isfinite(plain.high):
            assert varied.high - varied.low == pytest.approx(plain.high - plain.low, rel=0.15)


def test_a_part_that_sits_at_its_limit_does_not_first_come_to_it():
    """Power that never changed shows no throttling; the temperature is at its limit all the same."""
    t, part = warming(88, 300, minutes=18)
    power = np.where(t < 120, 10.0, 100.0)
    run = summarise_run(
        Recording(frame=frame_of(t, part=part, room=24.0, power=power)), limit_c=LIMIT_C
    )
    assert run.steady.limited
    assert run.steady.reached
    silent = summarise_run(
        Recording(frame=frame_of(t, part=part - 30, room=24.0, power=0.0)), limit_c=LIMIT_C
    )
    assert np.isnan(silent.throttling.thermal_share)  # a meter that reads nothing tells nothing
