import math
from dataclasses import replace

import numpy as np
import pandas as pd
import pytest

from gelassen.answers.rows.run_row import run_row, too_short
from gelassen.core import InputError, Recording, summarise_run
from gelassen.core.recording.recording import Event, Phase
from gelassen.core.run.quantities import run_quantities
from gelassen.core.settling.transients import transients
from gelassen.core.signal.blocks import block_means
from gelassen.core.throttling.throttle_cost import throttle_cost
from gelassen.figures.run_figure import run_figure
from gelassen.show.run_text import run_text
from logs import heating_log


def recording_of(log, **more):
    frame = pd.DataFrame(
        {
            "cpu.package.temp_c": log.temperature_c,
            "cpu.core0.temp_c": log.temperature_c - 3,
            "cpu.core1.temp_c": log.temperature_c,
            "room.air.temp_c": log.room_c,
            "cpu.package.power_w": log.power_w,
            "fan.cpu.speed_rpm": 900.0,
        },
        index=pd.Index(log.time_s, name="t_s"),
    )
    return Recording(frame=frame, name="run", setup="tower", **more)


def test_the_hottest_core_is_judged_and_the_others_stay_visible(tmp_path):
    log = heating_log("tower", 1)
    run = recording_of(log, limit_c=95.0)
    summary = summarise_run(run)
    assert summary.channel == "cpu.core1.temp_c"
    assert summary.reference == "room.air.temp_c"
    assert summary.steady.low <= log.rise_k <= summary.steady.high
    assert summary.resistance_k_per_w == pytest.approx(log.rise_k / 95, rel=0.02)
    other = summarise_run(run, channel="cpu.core0.temp_c")
    assert other.steady.value == pytest.approx(summary.steady.value - 3, abs=0.2)
    mean = summarise_run(run, channel="mean of cores")
    assert mean.channel_words == "mean of 2 cores"
    assert mean.steady.value == pytest.approx(summary.steady.value - 1.5, abs=0.2)
    run_figure(run, mean, tmp_path / "mean.png")
    table = summary.channels.set_index("channel")
    assert set(table.index) == set(run.frame.columns)
    assert table.loc["fan.cpu.speed_rpm", "hold_mean"] == 900
    assert table.loc["cpu.package.temp_c", "run_peak"] == run.frame["cpu.package.temp_c"].max()


def test_phases_say_where_the_load_was():
    log = heating_log("tower", 1)
    phases = (Phase("idle", 0, 120), Phase("soak", 120, 1320), Phase("hold", 1320, 1920))
    summary = summarise_run(recording_of(log, phases=phases))
    assert summary.load_s == (120, 1920)
    assert summary.hold_s == (1320, 1920)
    assert any("no limit temperature" in text for text in summary.cautions)


def test_each_stretch_between_changes_is_answered_by_itself():
    log = heating_log("tower", 4, minutes=50)
    step = 8 * (1 - np.exp(-np.maximum(log.time_s - 1500, 0) / 60))
    run = recording_of(log, limit_c=110.0)
    run.frame["cpu.core1.temp_c"] += np.round(step)
    summary = summarise_run(run)
    first, second = summary.stretches
    assert first.end_s == pytest.approx(1500, abs=40)
    assert first.steady.value == pytest.approx(log.rise_k, abs=0.8)
    assert second.steady.value == pytest.approx(log.rise_k + 8, abs=1.2)
    assert any("conditions changed" in text for text in summary.cautions)
    assert "From 2:00 to 2" in run_text(summary, run)
    title, settles, held, change, *cautions = str(summary).splitlines()
    assert "hottest core" in title
    assert "settles at" in settles
    assert "not held back" in held
    assert "changed at" in change
    assert len(cautions) == len(summary.cautions)


def without_room(frame):
    return frame.drop(columns="room.air.temp_c")


def moved(name, per_s):
    return lambda frame: frame.assign(**{name: frame[name] + per_s * frame.index})


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (without_room, "no room temperature"),
        (moved("room.air.temp_c", 1 / 300), "drifted by"),
        (moved("fan.cpu.speed_rpm", 0.5), "moved by"),
        (moved("cpu.package.power_w", -1 / 60), "power changed"),
    ],
)
def test_weaknesses_are_said_with_their_size(spoil, words):
    run = recording_of(heating_log("tower", 2), limit_c=95.0)
    spoilt = Recording(frame=spoil(run.frame), limit_c=95.0)
    assert any(words in text for text in summarise_run(spoilt).cautions)


def test_times_that_run_backwards_and_a_busy_idle_are_said():
    log = heating_log("tower", 2)
    run = recording_of(log)
    run.frame["cpu.all.load_pct"] = np.where(log.time_s < 120, 40.0, 99.0)
    mixed = run.frame.iloc[[*range(800), *range(801, 1920), 800]]
    phases = (Phase("idle", 0, 120), Phase("hold", 120, 1919))
    summary = summarise_run(Recording(frame=mixed, phases=phases))
    assert any("times run backwards after 1919" in text for text in summary.cautions)
    assert any("other programs used 40 %" in text for text in summary.cautions)
    assert summary.steady.value == pytest.approx(log.rise_k, abs=1)


def test_what_was_not_logged_is_refused_by_name():
    run = recording_of(heating_log("tower", 2))
    with pytest.raises(InputError, match='"cpu.core7.temp_c" was not logged'):
        summarise_run(run, channel="cpu.core7.temp_c")
    with pytest.raises(InputError, match='the reference "room.aim.temp_c" was not logged'):
        summarise_run(run, reference="room.aim.temp_c")
    with pytest.raises(InputError, match="holds no samples"):
        summarise_run(Recording(frame=run.frame.iloc[:0]))


@pytest.mark.parametrize("columns", [slice(None), ["fan.cpu.speed_rpm"], ["cpu.package.temp_c"]])
def test_any_run_can_be_drawn(tmp_path, columns):
    run = recording_of(heating_log("tower", 2), limit_c=95.0)
    name = "part $_{^$ <b>"  # neither formula nor markup
    part = Recording(frame=run.frame.loc[:, columns], name=name, limit_c=95.0)
    run_figure(part, summarise_run(part), tmp_path / "deep" / "part.png")
    assert (tmp_path / "deep" / "part.png").read_bytes().startswith(b"\x89PNG")
    assert run_text(summarise_run(part), part).startswith("part")


def test_power_energy_and_resistance_come_with_what_is_known_of_them():
    log = heating_log("tower", 6)
    run = recording_of(log, limit_c=95.0)
    run.frame["load.work.rate_per_s"] = 190.0
    run.frame["wall.supply.power_w"] = log.power_w + 30
    summary = summarise_run(run)
    heat = summary.heat
    assert heat.power_low_w <= 95 <= heat.power_high_w
    assert heat.wall_power_w == pytest.approx(heat.power_w + 30)
    hold_s = summary.hold_s[1] - summary.hold_s[0]
    assert heat.energy_j == pytest.approx(heat.power_w * hold_s, rel=0.01)
    assert heat.work_per_j == pytest.approx(190 / heat.power_w, rel=0.01)
    truth = log.rise_k / 95
    assert heat.resistance_low_k_per_w <= truth <= heat.resistance_high_k_per_w
    assert heat.resistance_high_k_per_w - heat.resistance_low_k_per_w < 0.1 * truth
    run.frame["cpu.package.power_w"] = np.nan
    bare = summarise_run(run).heat
    assert np.isnan(bare.resistance_k_per_w)
    assert bare.work_per_j == pytest.approx(190 / bare.wall_power_w, rel=0.01)


def test_intervals_of_resistance_cover_the_truth():
    covered = []
    for seed in range(20):
        log = heating_log("tower", seed)
        heat = summarise_run(recording_of(log), look_for_steps=False).heat
        low, high = heat.resistance_low_k_per_w, heat.resistance_high_k_per_w
        covered.append(low <= log.rise_k / 95 <= high)
    assert np.mean(covered) >= 0.85  # 95 % less what chance does to twenty


def test_heating_and_cooling_are_timed():
    t = np.arange(0.0, 3600.0)
    heating = np.where(t >= 300, 40 * (1 - np.exp(-np.maximum(t - 300, 0) / 200)), 0.0)
    cooling = 40 * np.exp(-np.maximum(t - 2100, 0) / 200)
    rise = np.where(t > 2100, cooling, heating)
    rise[(t >= 302) & (t < 315)] += 9  # a burst before the chip calms down
    rng = np.random.default_rng(4)
    course = transients(t, rise + 0.2 * rng.standard_normal(t.size), (300, 2100), steady_k=40.0)
    assert course.first_minute_k == pytest.approx(40 * (1 - np.exp(-0.3)), abs=0.5)
    assert course.within_1k_s == pytest.approx(200 * np.log(40), abs=40)
    assert course.half_back_s == pytest.approx(200 * np.log(2), abs=15)
    assert course.rest_s == pytest.approx(200 * np.log(40), abs=60)
    assert course.spike_k == 0  # it did not stand out over the next minute
    rise[(t >= 302) & (t < 315)] += 30
    assert transients(t, rise, (300, 2100)).spike_k > 20
    cut = transients(t[:2200], rise[:2200], (300, 2100), steady_k=40.0)
    assert cut.rest_s is None
    assert cut.left_k == pytest.approx(40 * np.exp(-0.5), abs=1.5)
    loaded_from_the_start = transients(t, rise, (0, 3599), steady_k=80.0)
    assert np.isnan(loaded_from_the_start.first_minute_k)
    assert loaded_from_the_start.within_1k_s is None


def test_block_means_are_a_table_of_their_own():
    log = heating_log("tower", 1)
    frame = recording_of(log).frame
    frame.index = pd.Index(np.arange(float(len(frame))), name="t_s")
    means = block_means(frame)
    assert list(means.index[:3]) == [0, 60, 120]
    assert means["samples"].iloc[0] == 60
    first = frame["cpu.core1.temp_c"].loc[60:119]
    assert means["cpu.core1.temp_c"].loc[60] == pytest.approx(first.mean())
    assert len(block_means(frame, length_s=600)) == int(np.ceil(len(frame) / 600))
    gap = frame.drop(frame.loc[120:239].index)
    gap.loc[0:59, "room.air.temp_c"] = np.nan
    sparse = block_means(gap)
    assert 120 not in sparse.index
    assert np.isnan(sparse["room.air.temp_c"].loc[0])
    for wrong in (0, -1, np.nan, np.inf):
        with pytest.raises(InputError, match="length above zero"):
            block_means(frame, length_s=wrong)


def test_the_hottest_core_is_told_with_how_steadily_it_is():
    log = heating_log("tower", 1)
    run = recording_of(log)
    cores = summarise_run(run).cores
    assert (cores.hottest, cores.hottest_share) == ("cpu.core1.temp_c", 1.0)
    assert cores.spread_k == pytest.approx(3.0, abs=0.01)
    run.frame["fan.empty.speed_rpm"] = 0.0  # a header without a fan takes no part
    assert summarise_run(run).fan_rpm == 900
    assert summarise_run(Recording(frame=run.frame[["cpu.core0.temp_c"]])).cores is None


def test_a_room_read_by_hand_twice_still_times_the_heating():
    log = heating_log("tower", 3)
    run = recording_of(log)
    whole = summarise_run(run)
    room = run.frame["room.air.temp_c"].copy()
    run.frame["room.air.temp_c"] = np.nan
    run.frame.iloc[[300, 1500], run.frame.columns.get_loc("room.air.temp_c")] = room.iloc[
        [300, 1500]
    ]
    by_hand = summarise_run(run)
    assert by_hand.steady.low <= log.rise_k <= by_hand.steady.high
    assert by_hand.transients.first_minute_k == pytest.approx(
        whole.transients.first_minute_k, abs=0.5, nan_ok=True
    )
    assert by_hand.transients.within_1k_s is not None


def test_the_cost_of_throttling_is_counted_against_the_free_part():
    log = heating_log("tower", 2)
    run = recording_of(log, limit_c=95.0, power_limit_w=80.0)
    late = log.time_s >= 1000
    run.frame["cpu.core0.clock_mhz"] = np.where(log.time_s < 120, 1600.0, 4000.0)
    run.frame.loc[late, "cpu.core0.clock_mhz"] = 3600.0
    run.frame.loc[late, "cpu.package.power_w"] = 80.0
    run.frame["load.work.rate_per_s"] = np.where(late, 45.0, 50.0)
    lost = summarise_run(run, look_for_steps=False).held_back
    assert lost.clock_pct == pytest.approx(10, abs=0.5)
    assert lost.work_pct == pytest.approx(10, abs=0.5)
    assert lost.free_s == pytest.approx(860, abs=10)
    text = run_text(summarise_run(run, look_for_steps=False), run)
    assert "lost 10.0 % of its clock" in text
    assert "10.0 % of its work" in text
    assert summarise_run(recording_of(log, limit_c=95.0)).held_back is None


def test_a_card_has_its_own_clock_and_power():
    log = heating_log("tower", 5)
    run = recording_of(log, limit_c=110.0)
    names = {name: name.replace("cpu.core0", "gpu.package1") for name in run.frame.columns}
    frame = run.frame.rename(columns=names)[["gpu.package1.temp_c", "room.air.temp_c"]].assign(
        **{"gpu.package1.clock_mhz": 1800.0, "gpu.memory1.clock_mhz": 9000.0, "gpu.package1.power_w": 240.0,
           "gpu.package0.clock_mhz": 300.0, "gpu.package0.power_w": 20.0},
    )  # fmt: skip
    other = replace(run, frame=frame)
    found = run_quantities(other, summarise_run(other, channel="gpu.package1.temp_c"))
    assert found["clock"][0] == pytest.approx(1800)
    assert found["power"][0] == pytest.approx(240)


def test_a_lighter_load_while_free_shows_no_loss_of_power_or_work():
    time_s, ones = np.arange(600.0), np.ones(600)
    held = time_s >= 300
    lost = throttle_cost(
        time_s, held, ones > 0, clock_mhz=np.where(held, 3900.0, 4000.0),
        power_w=np.where(held, 120.0, 105.0), work_per_s=np.where(held, 80.0, 90.0),
    )  # fmt: skip
    assert lost.clock_pct == pytest.approx(2.5)
    assert math.isnan(lost.power_pct)
    assert math.isnan(lost.work_pct)


def test_a_noted_change_names_its_step_and_each_stretch_tells_its_course():
    log = heating_log("tower", 4, minutes=50)
    run = recording_of(log, limit_c=110.0, events=(Event(1490.0, "door closed"),))
    run.frame["cpu.core1.temp_c"] += np.round(8 * -np.expm1(-np.maximum(log.time_s - 1500, 0) / 60))
    summary = summarise_run(run)
    assert [step.noted for step in summary.steps] == ["door closed"]
    assert 60 < summary.stretches[1].within_1k_s < 600
    held = recording_of(log, limit_c=110.0)
    held.frame.loc[log.time_s > 240, "cpu.core1.temp_c"] = 90.0  # a limit that is met at once
    assert summarise_run(held, look_for_steps=False).transients.within_1k_s > 0
    assert summary.stretches[1].thermal_share == 0
    assert "; noted: door closed." in run_text(summary, run)


def cautions_of(run):
    return "\n".join(summarise_run(run, look_for_steps=False).cautions)


def test_silent_and_stuck_sensors_and_gaps_are_named_with_their_size():
    log = heating_log("tower", 1)
    run = recording_of(log, limit_c=95.0)
    run.frame["cpu.core2.temp_c"] = 41.0
    run.frame["vrm.1.temp_c"] = np.where(log.time_s < 300, 50.0, np.nan)
    run = replace(run, frame=run.frame.drop(run.frame.index[700:760]))
    told = cautions_of(run)
    assert "cpu.core2.temp_c stood still at 41.0 °C" in told
    assert "vrm.1.temp_c is missing in 90 % of the load" in told
    assert "nothing was recorded for 61 s after 699 s" in told
    assert "stood still" not in cautions_of(recording_of(log, limit_c=95.0))


def test_another_part_at_its_limit_and_an_early_hold_are_named():
    log = heating_log("passive", 1, minutes=25)
    phases = (Phase("idle", 0, 120), Phase("soak", 120, 420), Phase("hold", 420, 1620))
    run = recording_of(log, limit_c=95.0, limits_c={"vrm.1.temp_c": 90.0}, phases=phases)
    run.frame["vrm.1.temp_c"] = 89.0
    told = cautions_of(run)
    assert "vrm.1.temp_c came to 89.0 °C" in told
    assert "its own limit is 90 °C" in told
    early = summarise_run(run, look_for_steps=False)
    (said,) = (text for text in early.cautions if text.startswith("hold began"))
    below = float(said.split()[2])
    begun = float((log.temperature_c - log.room_c)[410:430].mean())
    assert below == pytest.approx(early.steady.value - begun, abs=1.5)


@pytest.mark.parametrize(("from_s", "said"), [(0, False), (122, False), (400, True)])
def test_a_log_that_begins_in_the_midst_of_its_load_is_told_as_such(from_s, said):
    run = recording_of(heating_log("tower", 1, minutes=20))
    late = replace(run, frame=run.frame[run.frame.index >= from_s])
    assert ("the log begins under load" in cautions_of(late)) == said


def test_what_cannot_be_is_named_and_nothing_is_concluded_from_it():
    log = heating_log("tower", 1)
    run = recording_of(log, limit_c=95.0)
    low = summarise_run(run, limit_c=10.0, look_for_steps=False)
    assert any("cannot be the limit of this part" in text for text in low.cautions)
    assert not low.throttling.thermal.any()
    assert not low.throttling.at_limit
    stuck = recording_of(log, limit_c=95.0)
    stuck.frame[["cpu.core0.temp_c", "cpu.core1.temp_c", "cpu.package.temp_c"]] = 40.0
    answer = summarise_run(stuck)
    assert answer.steps == ()
    assert sum("at rest and under load" in text for text in answer.cautions) == 1
    assert answer.transients is None
    assert np.isinf(answer.steady.low)
    assert np.isinf(answer.steady.high)
    assert not answer.steady.took_notice
    assert "reads the same at rest and under load: where it settles cannot be told" in run_text(
        answer, stuck
    )
    assert (
        too_short(run_row(stuck, answer)) == "its temperature reads the same at rest and under load"
    )
    passed = summarise_run(run, limit_c=float(log.temperature_c[-1]) - 8, look_for_steps=False)
    assert not passed.throttling.at_limit
    assert any("K above the limit of" in text for text in passed.cautions)
    silent = recording_of(log, limit_c=60.0)
    silent.frame.loc[1200:, ["cpu.package.temp_c", "cpu.core0.temp_c", "cpu.core1.temp_c"]] = np.nan
    assert summarise_run(silent, look_for_steps=False).throttling is not None  # and no warning
    rarely = recording_of(log, limit_c=95.0)
    rarely.frame.loc[400:1500, "room.air.temp_c"] = np.nan
    assert "was not read for 18 min of the load" in cautions_of(rarely)
    unpowered = recording_of(log, limit_c=95.0)
    unpowered.frame["cpu.package.power_w"] = 0.0
    assert "power never reads above zero" in cautions_of(unpowered)
    warm_room = recording_of(log, limit_c=95.0)
    warm_room.frame["room.air.temp_c"] += 60
    assert "below its reference" in cautions_of(warm_room)
    minute = replace(run, frame=run.frame.iloc[:170])  # 50 s of load
    short = summarise_run(minute).steady
    assert (short.low, short.high) == (-np.inf, np.inf)
    assert "Load longer" in " ".join(short.cautions)


def test_a_gap_in_the_log_is_no_change_of_conditions():
    log = heating_log("tower", 1)
    run = recording_of(log, limit_c=95.0)
    later = log.time_s + np.where(np.arange(log.time_s.size) >= 1000, 36000.0, 0.0)
    run = replace(run, frame=run.frame.set_axis(pd.Index(later, name="t_s")))
    answer = summarise_run(run)
    assert answer.steps == ()
    assert answer.steady.low <= log.rise_k <= answer.steady.high


def test_hundreds_of_notes_cost_little_and_change_nothing():
    log = heating_log("tower", 1)
    notes = tuple(Event(float(t), "fan sensor silent") for t in range(130, 1900, 5))
    assert summarise_run(recording_of(log, limit_c=95.0, events=notes)).steps == ()


def test_a_graphics_card_is_judged_by_its_own_power_clock_limit_and_load():
    log = heating_log("tower", 2)
    idle = log.time_s < log.load_start_s
    frame = pd.DataFrame(
        {
            "cpu.core0.temp_c": 41.0, "cpu.package.power_w": 9.0, "cpu.all.load_pct": 3.0,
            "gpu.hotspot.temp_c": log.temperature_c, "gpu.board.power_w": log.power_w,
            "gpu.package.clock_mhz": np.where(idle, 300.0, 2400.0),
            "gpu.package.held_by_heat_flag": 0.0, "loop.coolant.temp_c": 30.0,
        },
        index=pd.Index(log.time_s, name="t_s"),
    )  # fmt: skip
    recording = Recording(frame=frame, limit_c=95.0, limits_c={"gpu.hotspot.temp_c": 104.0})
    summary = summarise_run(recording, channel="gpu.hotspot.temp_c")
    assert summary.load_s[0] == pytest.approx(log.load_start_s, abs=3)  # the processor did nothing
    assert summary.power_w == pytest.approx(log.power_w[-60:].mean(), rel=0.02)
    assert summary.clock_mhz == 2400
    assert summary.limit_c == 104
    assert summary.throttling.thermal_share == summary.throttling.power_share == 0
    assert "Rises over loop.coolant.temp_c are given" in " ".join(summary.cautions)
    judged = summarise_run(recording)
    assert (judged.power_w, judged.limit_c) == (9.0, 95.0)


def test_clock_lost_with_warmth_has_a_cost_although_nothing_held_the_chip():
    t = np.arange(0.0, 1500.0)
    loaded = t >= 120
    warm = np.clip(1 - np.exp(-(t - 120) / 250), 0, None)
    clock = np.where(loaded, 4600 * (1 - 0.02 * warm), 1200.0)
    frame = pd.DataFrame(
        {
            "cpu.package.temp_c": 30 + 40 * warm,
            "cpu.all.clock_mhz": clock,
            "cpu.package.power_w": np.where(loaded, 95.0 * (1 + 0.02 * warm), 8.0),
            "cpu.all.load_pct": np.where(loaded, 100.0, 1.0),
        },
        index=pd.Index(t, name="t_s"),
    )
    found = summarise_run(Recording(frame=frame, name="sag", outcome="imported"), limit_c=95)
    assert found.held_back is None
    [cost] = found.warmth
    assert cost.at_s is None
    assert cost.clock_pct == pytest.approx(-1.7, abs=0.2)
    assert math.isnan(cost.work_pct)
    assert "clock -1." in str(cost)
