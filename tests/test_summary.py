import numpy as np
import pandas as pd
import pytest

from gelassen.core import InputError, Recording, summarise_run
from gelassen.core.recording import Phase
from gelassen.show.run_figure import run_figure
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


def test_the_hottest_core_is_judged_and_the_others_stay_visible():
    log = heating_log("tower", 1)
    run = recording_of(log, limit_c=95.0)
    summary = summarise_run(run)
    assert summary.channel == "cpu.core1.temp_c"
    assert summary.reference == "room.air.temp_c"
    assert summary.steady.low <= log.rise_k <= summary.steady.high
    assert summary.resistance_k_per_w == pytest.approx(log.rise_k / 95, rel=0.02)
    other = summarise_run(run, channel="cpu.core0.temp_c")
    assert other.steady.value == pytest.approx(summary.steady.value - 3, abs=0.2)
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


def without_room(frame):
    return frame.drop(columns="room.air.temp_c")


def moved(name, per_s):
    return lambda frame: frame.assign(**{name: frame[name] + per_s * frame.index})


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (without_room, "no room or coolant temperature"),
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
