"""`gelassen curve` on runs at fixed duties: predictions, suggestions, refusals, the figure."""

import json
import shutil
from dataclasses import replace

import numpy as np
import pandas as pd
import pytest

from command_line import gelassen, ok
from gelassen.answers import CurveQuestion, open_study
from gelassen.answers.fans.fan_runs import study_fans
from gelassen.bench.simulated import COOLERS, CURVES, FanCurve, Room, SimulatedBench
from gelassen.conduct import RunPlan, conduct_study, plan_phases, record_run
from gelassen.conduct.operator.hand_change import instructions
from gelassen.conduct.planning.plan import FanSteps
from gelassen.core import InputError, summarise_run
from gelassen.core.fans.curve import FanCurve as KeptCurve
from gelassen.core.fans.curve import parse_curve
from gelassen.figures import fan_loops, plot, predictions
from gelassen.study import read_run
from gelassen.study.file.new_study import ensure_setup
from trees import settable_tree

STEPS = KeptCurve(temperatures_c=(40.0, 60.0), duties_pct=(45.0, 80.0), steps=True)
STUDY = """format = 1
title = "A fan curve for the playout box"
made_up = true
reference = "room.air.temp_c"
[machine]
name = "Playout box"
limit_c = 95
[factors.fan]
levels = [40, 60, 80, 100]
changed_by = "software"
channel = "fan.cpu.duty_pct"
[setups."40 %"]
fan = 40
[setups."60 %"]
fan = 60
[setups."80 %"]
fan = 80
[setups."100 %"]
fan = 100
[[fans]]
duty_pct = [40, 60, 80, 100]
rpm = [720, 1080, 1440, 1800]
noise_dba = [24, "", 39, 44]
"""


@pytest.fixture(scope="module")
def bench():
    room = Room(mean_c=22.0, wave_k=0.1, wander_k=0.05)
    return SimulatedBench(cooler=COOLERS["Brise 120"], curve=CURVES["on-air"], seed=4, room=room)


@pytest.fixture(scope="module")
def study(bench, tmp_path_factory):
    folder = tmp_path_factory.mktemp("curve") / "study"
    folder.mkdir()
    (folder / "study.toml").write_text(STUDY, encoding="utf-8")
    for duty in (60, 100, 40, 80):
        plan = RunPlan(
            phases=plan_phases(30, 900, 200, 200), interval_s=4.0,
            settings={"fan.cpu.duty_pct": duty, "cpu.package.power_limit_w": 95},
        )  # fmt: skip
        setup = f"{duty} %"
        record_run(bench, plan, folder / "runs", label=setup, setup=setup, power_limit_w=95)
    return folder


def asked(study, *options):
    answer = gelassen("curve", study, *options, "--format", "json", "--no-figure")
    assert answer.returncode == 0, answer.stderr
    return json.loads(answer.stdout)


def test_an_untested_curve_settles_where_it_is_predicted(bench, study):
    found = asked(study, "--try", "45: 40, 65: 55, 85: 95", "--at", "95W", "--room", "22")
    point = found["points"][0]
    bench.actuators()["cpu.package.power_limit_w"].set(95)
    bench.change(curve=FanCurve(name="tried", temperatures_c=(45, 65, 85), duties_pct=(40, 55, 95)))
    truth = bench.truth()
    assert point["temp_c"] == pytest.approx(truth.hottest_core_c, abs=1.0)
    assert point["low_c"] <= truth.hottest_core_c <= point["high_c"]
    assert point["rpm"] == pytest.approx(truth.fan_rpm, rel=0.03)
    assert point["hunting"] == "steady"
    assert all(run["inside"] for run in found["runs"])
    table = open_study(study).curves()
    assert set(table.resistance["setup"]) == {"Playout box"}  # nothing but the fan differs
    assert np.all(np.diff(table.resistance["k_per_w"]) < 0)


def test_a_suggestion_is_a_table_to_enter_and_one_run_to_prove_it(study):
    told = gelassen("curve", study, "--quietest", "--below", "72", "--at", "95 W", "--room", "25")
    assert told.returncode == 0, told.stderr
    assert "quietest below 72 °C, to enter (following" in told.stdout
    assert "One run proves it: 95 W in a room of 25 °C." in told.stdout
    assert "predicted, not measured" in told.stdout
    assert (study / "figures/curve.png").stat().st_size > 10_000
    found = asked(study, "--quietest", "--below", "72", "--at", "95", "--room", "25")
    assert 70 < found["points"][0]["temp_c"] < found["points"][0]["high_c"] <= 72
    cool = asked(study, "--coolest", "--noise", "35 dB(A)", "--at", "95", "--room", "25")
    assert 33 < cool["points"][0]["noise_dba"] <= 35
    speed = asked(study, "--rpm", "1000", "--at", "95", "--room", "25")["points"][0]
    assert speed["rpm"] == pytest.approx(1000, abs=10)
    assert speed["curve"] == "1000 rpm"


def test_one_run_that_steps_its_fan_shows_cooling_over_speed(tmp_path):
    ensure_setup(tmp_path / "study", "tower", limit_c=95.0, new_setup=True, made_up=True)
    bench = SimulatedBench(cooler=COOLERS["Brise 120"], curve=CURVES["on-air"], seed=6)
    plan = RunPlan(
        phases=plan_phases(60, 2400, 0, 120), interval_s=4.0,
        settings={"cpu.package.power_limit_w": 95},
        fan_steps=FanSteps("fan.cpu.duty_pct", (100.0, 80.0, 60.0, 45.0, 33.0), 480.0),
    )  # fmt: skip
    folder = tmp_path / "study"
    record_run(bench, plan, folder / "runs", label="tower", setup="tower", power_limit_w=95)
    compared = gelassen("compare", folder)
    assert "its fan went through several duties" in compared.stderr  # no temperature to compare
    levels = summarise_run(read_run(next((folder / "runs").iterdir()))).fan_levels
    assert [round(level.duty_pct) for level in levels] == [100, 80, 60, 45, 33]
    point = asked(folder, "--try", "40: 35, 80: 90", "--at", "95", "--room", "22")["points"][0]
    bench.actuators()["cpu.package.power_limit_w"].set(95)
    bench.change(curve=FanCurve(name="tried", temperatures_c=(40, 80), duties_pct=(35, 90)))
    truth = bench.truth(room_c=22.0)
    assert point["low_c"] <= truth.hottest_core_c <= point["high_c"]
    assert point["temp_c"] == pytest.approx(truth.hottest_core_c, abs=1.0)
    assert point["rpm"] == pytest.approx(truth.fan_rpm, rel=0.03)


def test_a_duty_that_is_known_is_left_early_and_a_slow_loop_takes_all_the_time(tmp_path):
    """On a bench that no constant of the stepping was chosen on: another cooler, power and duties."""
    duties, minutes = (90.0, 60.0, 38.0), {}
    for cooler in ("Brise 120", "Tarn 240"):
        ensure_setup(tmp_path, cooler, limit_c=95.0, new_setup=True, made_up=True)
        bench = SimulatedBench(cooler=COOLERS[cooler], curve=CURVES["on-air"], seed=11)
        steps = FanSteps("fan.cpu.duty_pct", duties, 480.0, within=0.05)
        plan = RunPlan(
            phases=plan_phases(60, steps.at_most_s, 0, 60), interval_s=4.0,
            settings={"cpu.package.power_limit_w": 70}, fan_steps=steps,
        )  # fmt: skip
        record_run(bench, plan, tmp_path / "runs", label=cooler, setup=cooler, power_limit_w=70)
        run = open_study(tmp_path).run(str(len(minutes) + 1))
        (soak,) = [phase for phase in run.phases if phase.name == "soak"]
        minutes[cooler] = (soak.end_s - soak.start_s) / 60
        levels = summarise_run(run).fan_levels
        assert [round(level.duty_pct) for level in levels] == list(duties)
        bench.actuators()["cpu.package.power_limit_w"].set(70)
        for level in levels:
            same = FanCurve(name="same", temperatures_c=(0, 100), duties_pct=(level.duty_pct,) * 2)
            bench.change(curve=same)
            assert level.low <= bench.truth(room_c=22.0).hottest_core_c - 22 <= level.high
    assert minutes["Brise 120"] < 20
    assert 22 < minutes["Tarn 240"] <= 24
    assert soak.ending == "time limit"


def test_what_a_slow_loop_has_not_reached_at_each_duty_is_not_taken_for_a_cooler_sensor(tmp_path):
    """A curve follows what is read; the judged rise of a level that did not settle is extrapolated."""
    ensure_setup(tmp_path, "loop", limit_c=95.0, new_setup=True, made_up=True)
    bench = SimulatedBench(cooler=COOLERS["Tarn 240"], curve=CURVES["on-air"], seed=5)
    plan = RunPlan(
        phases=plan_phases(60, 2400, 0, 60), interval_s=4.0, settings={"cpu.package.power_limit_w": 95},
        fan_steps=FanSteps("fan.cpu.duty_pct", (100.0, 80.0, 60.0, 45.0, 35.0), 480.0),
    )  # fmt: skip
    record_run(bench, plan, tmp_path / "runs", label="loop", setup="loop", power_limit_w=95)
    study = open_study(tmp_path)
    known, _ = study_fans(study, confidence=0.95)
    assert known["loop"].fan.follows_share == pytest.approx(1.0, abs=0.02)
    levels = summarise_run(study.run("1")).fan_levels
    alone = np.mean([level.standard_error**2 for level in levels]) ** 0.5
    law = known["loop"].fan.cooling
    spread = law.at(law.middle[0] * np.ones(1), law.middle[1] * np.ones(1)).spread[0]
    assert spread > 0.6 * alone  # five levels that err alike are no five measurements


def test_a_fan_that_cannot_be_set_is_no_fan_to_step(tmp_path):
    (tmp_path / "sys/class").mkdir(parents=True)
    machine = settable_tree(tmp_path / "machine") / "sys"
    base = ("record", "--into", tmp_path, "--sysfs", tmp_path / "sys", "--fan-steps", "100 60")
    times = ("--soak", "4 min", "--hold", "0 s", "--sysfs", machine)
    for options, said in (
        ((*times, "--set", "fan.nct7802_28_pwm1.duty_pct=50"), "one of them may"),
        ((*times, "--fan-steps", "100 -5"), "0 to 100 %"),
        ((*times, "--fan-steps", " ".join(["90"] * 40)), "give each at least 10 s"),
        (("--soak", "4 min", "--hold", "0 s"), "needs a fan whose duty can be set here"),
        (
            ("--soak", "until known", "--hold", "5 min", "--sysfs", machine),
            "measures each duty by itself",
        ),
        (("--soak", "until known"), "needs a fan whose duty can be set here"),
    ):
        answer = gelassen(*base, *options)
        assert answer.returncode == 2
        assert said in " ".join(answer.stderr.split())


@pytest.mark.parametrize(
    ("options", "said"),
    [
        (["--quietest"], "--quietest needs --below"),
        (["--noise", "30"], "--noise belongs to --coolest"),
        (["--below", "80 bar", "--quietest"], "is no number in C"),
        (["--try", "80: 90, 60: 40"], "--try: temperatures must rise"),
        (["--quietest", "--below", "40"], "cannot be kept at 95 W"),
        (["--quietest", "--below", "99"], "above the limit of 95 °C"),
        (["--setup", "tower"], '"tower" is no setup whose fan is known'),
        (["--at", "0"], "above 0 W"),
    ],
)
def test_what_cannot_be_answered_is_said(study, options, said):
    answer = gelassen("curve", study, *options)
    assert answer.returncode == 2
    assert said in " ".join(answer.stderr.split())
    assert "Traceback" not in answer.stderr


def test_runs_that_show_nothing_of_the_fan_are_named_and_the_others_used(study, tmp_path):
    mine = shutil.copytree(study, tmp_path / "study [b] & more")
    run = sorted((mine / "runs").iterdir())[0]
    frame = pd.read_parquet(run / "samples.parquet")
    frame.drop(columns="fan.cpu.speed_rpm").to_parquet(run / "samples.parquet")
    (sorted((mine / "runs").iterdir())[1] / "samples.parquet").write_bytes(b"PAR1 torn")
    found = asked(mine, "--try", "45: 40, 85: 95", "--at", "95", "--room", "22")
    told = " ".join(one["words"] for one in found["cautions"])
    assert "it has no fan speed" in told
    assert told.count("left out: ") == 2
    assert len(found["points"]) == 1
    for run in sorted((mine / "runs").iterdir())[2:]:
        shutil.rmtree(run)
    alone = gelassen("curve", mine)
    assert alone.returncode == 2
    assert "no setup shows its cooling over fan speed" in alone.stderr


def test_a_curve_in_steps_is_drawn_in_steps(study):
    drawn = plot(open_study(study).curves(CurveQuestion(powers_w=[95], rooms_c=[22], tried=STEPS)))
    line = next(one for one in drawn.get_lines() if "tried" in str(one.get_label()))
    assert set(np.unique(line.get_ydata())) == {45.0, 80.0}


def test_loops_are_drawn_in_time_and_runs_beside_their_prediction(study, tmp_path):
    found = open_study(study).curves(CurveQuestion(powers_w=[95, 65], rooms_c=[22], tried=STEPS))
    lines = fan_loops(found).get_lines()
    for line, (_, own) in zip(lines, found.courses.groupby("power_w", sort=False), strict=False):
        assert line.get_ydata()[-1] == own["temp_c"].iloc[-1]
        assert own["elapsed_s"].iloc[0] == 0
    drawn = predictions(found)
    said = drawn.get_legend().get_texts()[1].get_text()
    assert said.endswith(f"{found.runs['inside'].sum()} of {len(found.runs)} within their interval")
    for what in ("loops", "predictions"):
        ok(
            "curve",
            study,
            "--try",
            str(STEPS),
            "--draw",
            what,
            "--figure",
            tmp_path / f"{what}.png",
        )
        assert (tmp_path / f"{what}.png").stat().st_size > 10_000
    with pytest.raises(ValueError, match="no curve"):
        fan_loops(open_study(study).curves())


def test_a_curve_with_hysteresis_rests_within_its_predicted_band(bench, study, tmp_path):
    calm = replace(parse_curve("40: 35, 60: 45, 85: 90", "calm"), hysteresis_k=4.0, average_s=5.0)
    plan = RunPlan(
        phases=plan_phases(30, 900, 300, 60), interval_s=2.0, fan_curves={"fan.cpu.duty_pct": calm},
        settings={"cpu.package.power_limit_w": 95},
    )  # fmt: skip
    run, _ = record_run(bench, plan, tmp_path, label="calm")
    kept = summarise_run(read_run(run))
    question = CurveQuestion(powers_w=[95], rooms_c=[kept.reference_c], tried=calm)
    point = open_study(study).curves(question).points.iloc[0]
    assert point["low_rpm"] <= kept.fan_rpm <= point["high_rpm"]
    assert point["low_c"] <= kept.steady.value + kept.reference_c <= point["high_c"]
    assert point["high_c"] - point["low_c"] < 3.0
    other = replace(calm, follows=("vrm.1.temp_c",))
    with pytest.raises(InputError, match=r"follows vrm\.1\.temp_c, which no run has"):
        open_study(study).curves(replace(question, tried=other))


ENTERED = """format = 1
title = "Curves in the firmware"
made_up = true
reference = "room.air.temp_c"
[machine]
name = "Playout box"
limit_c = 95
[factors.curve]
channel = "fan.cpu.duty_pct"
changed_by = "hand"
remounts = false
levels = ["on-air", "loud"]
curves.on-air = "40: 30, 60: 40, 80: 60, 90: 70"
curves.loud = { points = "40: 60, 70: 100", hysteresis_k = 3 }
[setups.quiet]
curve = "on-air"
[setups.loud]
curve = "loud"
[protocol]
idle = "30 s"
soak = "10 min"
hold = "3 min"
cooldown = "30 s"
repeats = 1
"""


def test_a_curve_entered_by_hand_is_told_and_looked_for_in_the_readings(tmp_path):
    """The simulated fan follows its own curve, on-air: nobody enters the other one."""
    (tmp_path / "study.toml").write_text(ENTERED)
    study = open_study(tmp_path)
    asked = []
    bench = SimulatedBench(cooler=COOLERS["Brise 120"], curve=CURVES["on-air"], seed=2)
    made = conduct_study(
        study, lambda _: bench, operator=lambda planned: bool(asked.append(planned)) or True,
        checks=False,
    )  # fmt: skip
    assert all(one.outcome.status == "finished" for one in made)
    told = [line for planned in asked for line in instructions(study.file, planned)]
    assert "  enter this fan curve: 40 °C 60 %, 70 °C 100 %" in told
    assert "  hysteresis 3 K" in told
    found = open_study(tmp_path).compare()
    [said] = [one for one in found.cautions if one.code == "curve_not_entered"]
    assert said.sizes["curve"] == "loud"
    assert said.sizes["wanted_pct"] == 100
    assert said.sizes["duty_pct"] < 70
