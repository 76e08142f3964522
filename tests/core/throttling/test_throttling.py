import numpy as np
import pytest

from gelassen.core import InputError, find_throttling
from gelassen.core.signal.grid import lagged


def held_back(*, limit_told=False, seed=0):
    """Boost for 60 s, then a power limit, from 600 s on the temperature limit; idle around it."""
    rng = np.random.default_rng(seed)
    t = np.arange(1500.0)
    load = (t >= 100) & (t < 1400)
    by_power = load & (t >= 160) & (t < 600)
    by_heat = load & (t >= 600)
    power = np.select([by_heat, by_power, load], [150 - 0.01 * (t - 600), 170.0, 220.0], 15.0)
    temperature = np.select([by_heat, load], [95.0, 50 + 44 * (1 - np.exp(-(t - 100) / 130))], 35.0)
    clock = np.select([by_heat, by_power, load], [3700.0, 4100.0, 4700.0], 1600.0)
    return {
        "time_s": t,
        "temperature_c": np.round(temperature + 0.3 * rng.standard_normal(t.size)),
        "clock_mhz": clock + 3 * rng.standard_normal(t.size),
        "power_w": power * (1 + 0.005 * rng.standard_normal(t.size)),
        "load_pct": np.where(load, 99.5, 1.0),
        "limit_c": 95.0,
        "power_limit_w": 170.0 if limit_told else None,
    }, (by_heat, by_power)


def f1(found, truth):
    hit = np.sum(found & truth)
    return 2 * hit / (found.sum() + truth.sum())


@pytest.mark.parametrize("limit_told", [False, True])
def test_each_cause_is_found_where_it_was(limit_told):
    log, (by_heat, by_power) = held_back(limit_told=limit_told)
    answer = find_throttling(**log)
    assert f1(answer.thermal, by_heat) > 0.97
    assert f1(answer.power, by_power) > 0.97
    assert answer.at_limit
    assert answer.onset_s == pytest.approx(160, abs=5)
    assert answer.thermal_share == pytest.approx(800 / 1300, abs=0.02)
    assert [cause for *_, cause in answer.intervals] == ["power", "thermal"]


def test_a_boost_that_sags_with_heat_is_not_throttling():
    rng = np.random.default_rng(1)
    t = np.arange(1200.0)
    temperature = np.where(t < 60, 35.0, 35 + 45 * (1 - np.exp(-(t - 60) / 150)))
    clock = np.where(t < 60, 1600, 4700 - 2.0 * (temperature - 35)) + 3 * rng.standard_normal(
        t.size
    )
    power = np.where(t < 60, 10, 120.0 * (clock / 4700) ** 2.4)
    power *= 1 + 0.005 * rng.standard_normal(t.size)
    answer = find_throttling(
        t, temperature_c=np.round(temperature), limit_c=95, clock_mhz=clock, power_w=power
    )
    assert not answer.thermal.any()
    assert not answer.power.any()
    assert 50 < answer.sag_mhz < 90
    assert not answer.at_limit
    assert "not held back" in str(answer)


def test_close_below_the_limit_is_not_at_it():
    t = np.arange(900.0)
    answer = find_throttling(
        t,
        temperature_c=np.round(93 - 60 * np.exp(-t / 60)),
        limit_c=95,
        clock_mhz=np.full(900, 4600.0),
    )
    assert not answer.at_limit
    assert answer.thermal_share == 0


def test_counters_decide_where_they_exist():
    log, _ = held_back()
    count = np.cumsum(np.where((log["time_s"] > 300) & (log["time_s"] < 400), 1, 0))
    cool = {**log, "temperature_c": np.full(1500, 60.0), "throttle_count": count}
    answer = find_throttling(**cool)
    assert answer.thermal[320:380].all()
    assert not answer.thermal[:290].any()


def test_without_clock_and_power_nothing_tells_whether_it_was_held_back():
    log, _ = held_back()
    alone = find_throttling(
        log["time_s"], temperature_c=log["temperature_c"], limit_c=95, load_pct=log["load_pct"]
    )
    assert np.isnan([alone.thermal_share, alone.power_share]).all()
    assert alone.onset_s is None
    assert str(alone).startswith("cannot tell whether it was held back")


def test_impossible_limits_are_refused_and_odd_ones_said():
    log, _ = held_back()
    with pytest.raises(InputError, match="power_limit_w is -5"):
        find_throttling(**{**log, "power_limit_w": -5.0})
    with pytest.raises(InputError, match="limit_c is nan"):
        find_throttling(**{**log, "limit_c": float("nan")})
    below = find_throttling(**{**log, "limit_c": 20.0})
    assert any("every reading is above" in text for text in below.cautions)


def warming(*, limit_w=None, leak=0.003, seconds=1500, seed=0):
    """A chip that leaks more as it warms: free, or on a power limit from the first second on."""
    rng = np.random.default_rng(seed)
    t = np.arange(float(seconds))
    load = t >= 100
    temperature = np.where(load, 40 + 35 * -np.expm1(-(t - 100).clip(0) / 200), 35)
    warm = 1 + leak * (temperature - 60)
    power = np.where(load, (120.0 if limit_w is None else limit_w / warm) * warm, 10)
    clock = np.where(load, 4500 * (1 if limit_w is None else warm ** (-1 / 2.4)), 1000)
    return {
        "time_s": t,
        "temperature_c": np.round(temperature + 0.3 * rng.standard_normal(t.size)),
        "clock_mhz": clock * (1 + 0.002 * rng.standard_normal(t.size)),
        "power_w": power * (1 + 0.005 * rng.standard_normal(t.size)),
        "load_pct": np.where(load, 100.0, 1.0),
        "limit_c": 95.0,
    }


def test_an_unstated_limit_shows_where_the_clock_falls_with_temperature():
    held = find_throttling(**warming(limit_w=100.0))
    assert held.power_share > 0.95
    assert not held.thermal.any()
    free = find_throttling(**warming())
    assert free.onset_s is None


def test_a_board_that_switches_in_coarse_steps_is_seen_below_the_limit():
    log = warming(leak=0.0)
    cut = (log["time_s"] >= 700) & (log["time_s"] < 1000)
    log["power_w"][cut] *= 0.75
    log["clock_mhz"][cut] *= 0.88
    answer = find_throttling(**log)
    assert f1(answer.power, cut) > 0.97
    assert not answer.thermal.any()


def test_the_faster_first_seconds_of_a_cold_chip_are_not_its_free_clock():
    log = warming(leak=0.003)
    cold = (log["time_s"] >= 100) & (log["time_s"] < 116)
    log["clock_mhz"][cold] *= 1.05
    log["power_w"][cold] *= 1.09
    assert find_throttling(**log).onset_s is None


def test_the_chips_own_word_counts_for_more():
    log = warming()
    flag = (log["time_s"] >= 400) & (log["time_s"] < 600)
    answer = find_throttling(**log, heat_flag=flag * 1.0, power_flag=np.zeros(flag.size))
    assert f1(answer.thermal, flag) > 0.99
    assert not answer.power.any()


@pytest.mark.parametrize("every", [1, 10], ids=["one logger", "all but the clock of a slow one"])
def test_a_clock_cut_at_the_limit_and_restored_is_held_back_by_heat(every):
    log, _ = held_back()
    t = log["time_s"]
    since = (t - 600) % 60
    cut = (t >= 600) & (t < 1400) & (since < 40)
    given_back = (t >= 600) & (t < 1400) & ~cut
    log["temperature_c"] = np.select([cut, given_back], [87 + 8 * np.exp(-since / 4), 95.0], 60.0)
    log["clock_mhz"] = np.where(cut, 3300.0, np.where(log["load_pct"] > 50, 4700.0, 1600.0))
    log["power_w"] = np.where(cut, 110.0, np.where(log["load_pct"] > 50, 200.0, 15.0))
    for name in ("temperature_c", "power_w", "load_pct"):
        log[name] = np.where(np.arange(t.size) % every == 0, log[name], np.nan)
    answer = find_throttling(**log)
    assert f1(answer.thermal, cut) > 0.97
    assert not answer.power.any()


def test_a_load_with_a_silent_sensor_is_not_extrapolated_from_rest():
    log = warming(leak=0.002)
    rests = log["time_s"] > log["time_s"][-1] - 200
    log["clock_mhz"][rests] = 1200.0
    log["load_pct"] = np.where(log["time_s"] > log["time_s"][-1] - 250, np.nan, log["load_pct"])
    answer = find_throttling(**{**log, "power_w": None})
    assert not (answer.thermal | answer.power)[rests].any()


def test_a_boost_of_some_seconds_ends_on_a_power_limit():
    log = warming(limit_w=100.0, leak=0.0)
    boost = (log["time_s"] >= 100) & (log["time_s"] < 112)
    log["power_w"][boost] *= 1.5
    log["clock_mhz"][boost] *= 1.18
    assert find_throttling(**log).power_share > 0.97


def test_steps_of_the_clock_and_scatter_together_are_no_loss():
    rng = np.random.default_rng(2)
    log = warming(leak=0.002)
    stepped = log["time_s"] > 250
    log["clock_mhz"] *= (1 - 0.026 * stepped) * (1 + 0.008 * rng.standard_normal(stepped.size))
    log["power_w"] *= 1 - 0.06 * stepped
    assert find_throttling(**log).onset_s is None


def governed(lower, *, seconds=700, seed=0):
    """A chip that would pass 95 °C; `lower(clock, temperature, time)` gives its clock each second."""
    rng = np.random.default_rng(seed)
    warm, clock, rows = 40.0, 4500.0, []
    for t in range(seconds):
        busy = t >= 60
        clock = lower(clock if t > 60 else 4500.0, warm, t) if busy else 1500.0
        power = 180 * (clock / 4500) ** 2.5 if busy else 10.0
        rows.append((warm, clock, power, busy))
        warm += (power - (warm - 22) / 0.5) / 40
    warm_c, clock, power, busy = np.array(rows).T
    return {
        "time_s": np.arange(float(seconds)), "limit_c": 95.0,
        "temperature_c": np.round(warm_c + 0.3 * rng.standard_normal(seconds)),
        "clock_mhz": clock + 5 * rng.standard_normal(seconds),
        "power_w": power * (1 + 0.005 * rng.standard_normal(seconds)),
        "load_pct": 100 * busy,
    }, clock  # fmt: skip


@pytest.mark.parametrize("missing", ["", "power_w", "clock_mhz"])
def test_repeated_cuts_of_one_or_two_seconds_are_heat(missing):
    log, clock = governed(
        lambda clock, warm, t: 3000.0 if warm > (94 if clock > 4000 else 92) else 4500.0
    )
    cut = (clock < 4000) & (log["load_pct"] > 0)
    assert 0.1 < cut[300:].mean() < 0.9
    log.pop(missing, None)
    answer = find_throttling(**log)
    assert answer.thermal[cut].mean() > 0.97
    assert not answer.thermal[: np.argmax(cut) - 5].any()
    assert not answer.power.any()
    assert answer.at_limit


def test_a_governor_that_steps_below_the_limit_counts_as_heat():
    def stepwise(clock, warm, t):
        if warm > 93.5:
            return clock - 100
        return min(clock + 100, 4500) if warm < 91.5 and t % 4 == 0 else clock

    log, clock = governed(stepwise)
    lowered = (clock < 0.96 * 4500) & (log["load_pct"] > 0)
    answer = find_throttling(**log)
    assert f1(answer.thermal, lowered) > 0.97
    assert not answer.power.any()


def test_power_alone_shows_a_power_limit_but_leakage_is_not_taken_for_one():
    log = warming(leak=0.004)
    del log["clock_mhz"]
    log["load_pct"] = 100.0 * (log["power_w"] > 50)
    assert find_throttling(**log).onset_s is None
    limited = log["time_s"] >= 700
    log["power_w"] = np.where(limited & (log["load_pct"] > 0), 90.0, log["power_w"])
    answer = find_throttling(**log)
    assert f1(answer.power, limited & (log["load_pct"] > 0)) > 0.97
    assert not answer.thermal.any()
    del log["load_pct"]  # then it may be the load that does less
    assert not find_throttling(**log).power.any()


def sagging(*, lost_per_k, leak, seconds=1500, full_w=120.0, steps_mhz=1.0, seed=0):
    """A chip that loses clock with every kelvin; a governor takes more at 95 °C. And where it does."""
    rng = np.random.default_rng(seed)
    sink, warm, held, rows = 30.0, 31.0, 0.0, []
    for t in range(seconds):
        busy, over = t >= 100, warm - 94.7
        held = np.clip(held + 0.001 * over, 0, 0.5)
        taken = np.clip(held + 0.01 * over, 0, 0.5)
        share = (1 - lost_per_k * (warm - 40)) * (1 - taken)
        power = full_w * share**2.5 * (1 + leak * (warm - 40)) if busy else 10.0
        rows.append((warm, 4045 * share if busy else 1000.0, power, busy, busy and taken > 0.005))
        warm += (power - (warm - sink) / 0.15) / 40
        sink += ((warm - sink) / 0.15 - (sink - 22) / 0.2) / 1000
    warm_c, clock, power, busy, by_heat = np.array(rows).T
    clock = clock * (1 + 0.002 * rng.standard_normal(seconds))
    return {
        "time_s": np.arange(float(seconds)), "limit_c": 95.0,
        "temperature_c": np.round(warm_c + 0.3 * rng.standard_normal(seconds)),
        "clock_mhz": np.round(clock / steps_mhz) * steps_mhz,
        "power_w": power * (1 + 0.005 * rng.standard_normal(seconds)),
        "load_pct": 100 * busy,
    }, by_heat > 0  # fmt: skip


@pytest.mark.parametrize("leak", [0.001, 0.009], ids=["power falls", "power rises"])
@pytest.mark.parametrize("missing", ["", "clock_mhz"])
def test_much_boost_lost_with_warmth_is_no_power_limit(leak, missing):
    log, _ = sagging(lost_per_k=0.0018, leak=leak, full_w=165.0)
    assert log["clock_mhz"][-1] < 0.955 * log["clock_mhz"][105:115].mean()
    log.pop(missing, None)
    assert find_throttling(**log).onset_s is None


@pytest.mark.parametrize("missing", ["", "clock_mhz"])
def test_power_readings_of_zero_are_not_a_level(missing):
    log, _ = sagging(lost_per_k=0.0018, leak=0.001, full_w=165.0)
    log["power_w"][150:300] = 0
    log.pop(missing, None)
    assert find_throttling(**log).onset_s is None


def test_throttling_starts_where_the_clock_leaves_its_course_over_temperature():
    log, by_heat = sagging(lost_per_k=0.0018, leak=0.001, full_w=262.0)
    answer = find_throttling(**log)
    assert f1(answer.thermal, by_heat) > 0.97
    assert not answer.power.any()


def test_a_limit_told_too_high_shows_where_the_chip_stands_still():
    log, by_heat = sagging(lost_per_k=0, leak=0.001, full_w=250.0)
    answer = find_throttling(**{**log, "limit_c": 100.0})
    assert f1(answer.thermal, by_heat) > 0.95
    assert answer.at_limit
    assert any("held back at 95 °C, 5 K below the limit of 100 °C" in c for c in answer.cautions)
    free, _ = sagging(lost_per_k=0.001, leak=0.001, full_w=200.0)
    assert find_throttling(**{**free, "limit_c": 98.0}).cautions == ()


def test_where_coarse_clocks_hide_what_heat_takes_power_tells():
    log, by_heat = sagging(lost_per_k=0, leak=0.001, full_w=203.0, steps_mhz=100)
    assert np.mean(log["clock_mhz"][by_heat] == 4000) > 0.99
    assert f1(find_throttling(**log).thermal, by_heat) > 0.9


def test_single_low_clock_readings_are_not_throttling():
    log, _ = sagging(lost_per_k=0.0002, leak=0.0005)
    warm = log["temperature_c"] > 60
    log["clock_mhz"][warm & (np.arange(warm.size) % 12 == 0)] *= 0.7
    assert find_throttling(**log).onset_s is None


def test_a_governor_that_swings_about_a_told_limit_is_on_it():
    log = warming(limit_w=100.0)
    log["power_w"] *= 1 + 0.016 * np.sin(log["time_s"] / 6) - 0.012
    assert find_throttling(**log, power_limit_w=100.0).power_share > 0.98
    below = {**log, "power_w": log["power_w"] * 0.975}
    assert find_throttling(**below, power_limit_w=100.0).power_share < 0.1


@pytest.mark.parametrize("every", [2, 5])
def test_a_boost_of_half_a_minute_is_seen_by_slow_readings_too(every):
    log = warming(limit_w=100.0, leak=0.0)
    boost = (log["time_s"] >= 100) & (log["time_s"] < 128)
    log["power_w"][boost] *= 1.9
    log["clock_mhz"][boost] *= 1.3
    slow = {name: part[::every] if np.ndim(part) else part for name, part in log.items()}
    assert find_throttling(**slow).power_share > 0.93


@pytest.mark.parametrize("missing", ["", "load_pct"])
def test_pauses_of_a_load_close_below_the_limit_are_no_cuts(missing):
    rng = np.random.default_rng(3)
    t = np.arange(1200.0)
    works = (t >= 60) & ~(((t - 60) % 60 < 2) & (t > 100)) & (t < 1150)
    warm = [30.0]
    for busy in works[:-1]:
        warm.append(warm[-1] + ((150 if busy else 12) - (warm[-1] - 22) / 0.48) / 60)
    log = {
        "time_s": t, "limit_c": 95.0,
        "temperature_c": np.round(np.array(warm) + 0.3 * rng.standard_normal(t.size)),
        "clock_mhz": np.where(works, 4500.0, 1200.0), "power_w": np.where(works, 150.0, 12.0),
        "load_pct": np.roll(np.where(works, 99.0, 2.0), 1),  # a mean over the last second: late
    }  # fmt: skip
    assert (log["temperature_c"] >= 92.5).any()
    log["clock_mhz"][[400, 600, 800]] = 0.0  # not read
    log.pop(missing, None)
    answer = find_throttling(**log)
    assert answer.onset_s is None


@pytest.mark.parametrize("logged", ["clock", "busy time", "neither"])
def test_a_boost_that_ends_is_a_power_limit_nobody_told_or_cannot_be_told(logged):
    rng, t = np.random.default_rng(0), np.arange(1500.0)
    loaded, boost = t >= 60, t < 78
    power = np.select([~loaded, boost], [12.0, 162.0], 148.0) + rng.normal(0, 0.4, t.size)
    part = 30 + 40 * -np.expm1(-np.maximum(t - 60, 0) / 200) + rng.normal(0, 0.2, t.size)
    more = {
        "clock": {"clock_mhz": np.select([~loaded, boost], [800.0, 4800.0], 4640.0)},
        "busy time": {"load_pct": np.where(loaded, 100.0, 1.0)},
        "neither": {},
    }
    answer = find_throttling(t, temperature_c=part, limit_c=95, power_w=power, **more[logged])
    assert answer.thermal_share == 0
    said = " ".join(answer.cautions)
    assert "power stepped down from 162 to 148 W at 77 s" in said
    if logged == "neither":
        assert np.isnan(answer.power_share)
        assert "nothing tells which" in said
    else:
        assert answer.power_share == pytest.approx(1, abs=0.02)


def test_where_a_log_cannot_tell_the_probabilities_say_so():
    # A free chip whose leakage takes what boost loss saves: like a limit that holds from the first second.
    log = warming(leak=0.0025)
    warm = log["temperature_c"] - 60
    log["power_w"] = np.where(log["load_pct"] > 50, 120.0, 10.0) * (
        1 + 0.005 * np.random.default_rng(4).standard_normal(warm.size)
    )
    log["clock_mhz"] = np.where(log["load_pct"] > 50, 4500 * (1 - 0.0004 * warm), 1000.0)
    log["clock_mhz"] = np.round(log["clock_mhz"] / 25) * 25
    unclear = find_throttling(**log)
    loaded = log["load_pct"] > 50
    limits = (unclear.power_probability + unclear.other_probability)[loaded].mean()
    assert 0.02 < limits < 0.98
    clear = find_throttling(**held_back(limit_told=True)[0])
    assert clear.unsure_share < 0.02
    assert clear.doubt is None


def test_a_limit_that_was_never_reached_held_nothing():
    # Clock and power bend away from straight courses, 15 K below the limit.
    log = warming(leak=0.001)
    rise = log["temperature_c"] - 40
    log["clock_mhz"] *= 1 - 0.03 * np.clip(rise / 35, 0, 1) ** 3
    assert not find_throttling(**{**log, "limit_c": 90.0}).thermal.any()


@pytest.mark.parametrize(
    ("odd", "words"),
    [
        (lambda t: {"power_limit_w": np.where(t < 50, 0.0, 95.0)}, "not held back"),
        (
            lambda t: {"power_limit_w": np.where(t < 200, 120.0, 100.0)},
            "53 % of the load by a power limit",
        ),
        (lambda t: {"clock_mhz": np.where(t < 50, 4000.0, np.nan)}, "not held back"),
        (
            lambda t: {"clock_mhz": None, "power_w": None, "power_flag": t < 200.0},
            "47 % of the load by a power limit; cannot tell whether by heat",
        ),
        (lambda t: {"load_pct": np.zeros(t.size)}, "cannot tell whether it was held back"),
    ],
    ids=[
        "a limit of zero",
        "a limit that changes",
        "a clock only at rest",
        "a flag alone",
        "never loaded",
    ],
)
def test_odd_logs_are_answered_with_probabilities(odd, words):
    t = np.arange(400.0)
    log = {
        "temperature_c": 40.0 + 40.0 * (1 - np.exp(-t / 60.0)),
        "clock_mhz": np.full(t.size, 4000.0),
        "power_w": np.full(t.size, 100.0),
        "load_pct": np.where(t < 20, 1.0, 99.0),
    }
    answer = find_throttling(t, limit_c=95.0, **{**log, **odd(t)})
    assert words in str(answer)
    assert answer.limit_w is None
    held = answer.heat_probability + answer.power_probability + answer.other_probability
    assert np.isfinite(held).all()
    assert held.min() >= 0
    assert held.max() <= 1.001


def test_readings_ten_minutes_apart_do_not_show_the_limit_reached():
    t = 600.0 * np.arange(400.0)
    answer = find_throttling(
        t,
        temperature_c=40.0 + 40.0 * (1 - np.exp(-t / 36000.0)),
        clock_mhz=np.full(t.size, 4000.0),
        power_w=np.full(t.size, 100.0),
        load_pct=np.full(t.size, 99.0),
        limit_c=95.0,
    )
    assert answer.thermal_share == 0
    assert answer.at_limit_probability < 0.5


def staircase(watts, busy_pct, clock_mhz, seed=0):
    """Steps of ten minutes, each with other work; two idle minutes around them."""
    rng = np.random.default_rng(seed)
    level = np.repeat(np.arange(-1, len(watts) + 1), [120, *[600] * len(watts), 120])
    t = np.arange(float(level.size))
    own = {
        name: np.array([rest, *steps, rest], dtype=float)[level + 1]
        for name, rest, steps in (
            ("power_w", 9, watts), ("load_pct", 1, busy_pct), ("clock_mhz", 1200, clock_mhz),
        )
    }  # fmt: skip
    own["clock_mhz"] += 4 * rng.standard_normal(t.size)
    temperature = 25 + 0.4 * lagged(own["power_w"], 1.0, 120.0)
    own["power_w"] += 0.4 * rng.standard_normal(t.size)
    return level, {"time_s": t, "temperature_c": np.round(temperature), "limit_c": 95.0, **own}


UP = ((31, 52, 70, 88), (12.5, 25, 37.5, 50), (5200, 5100, 4900, 4700))


@pytest.mark.parametrize("steps", [UP, tuple(one[::-1] for one in UP)], ids=["up", "down"])
@pytest.mark.parametrize("missing", [(), ("clock_mhz",), ("load_pct",), ("power_w",)])
def test_more_busy_cores_at_a_lower_clock_are_not_held_back(steps, missing):
    _, log = staircase(*steps)
    answer = find_throttling(**{name: one for name, one in log.items() if name not in missing})
    assert not answer.thermal.any()
    assert not answer.power.any()


@pytest.mark.parametrize("missing", [(), ("load_pct",)])
def test_unlike_loads_of_one_power_show_its_limit(missing):
    level, log = staircase((31, 52, 65, 65), UP[1], (5200, 5100, 4750, 4300))
    answer = find_throttling(**{name: one for name, one in log.items() if name not in missing})
    at_limit = np.isin(level, (2, 3))
    assert f1(answer.power, at_limit) > 0.97
    assert not answer.other.any()
    assert answer.limit_w == pytest.approx(65, abs=0.5)
