"""A plan as people write it and carry it out: the file, checks, prompts, faults."""

import io
import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

import gelassen.study
from gelassen import open_study
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.cli import cli
from gelassen.commands.shared.live_run import Keys
from gelassen.conduct import conduct_study
from gelassen.conduct.checks import check_before
from gelassen.conduct.operator.hand_change import instructions, shows
from gelassen.conduct.planning.order import order_runs
from gelassen.conduct.planning.record_plan import Wanted, plan_recording
from gelassen.conduct.study_run import runs_made, still_to_do
from gelassen.core import BenchError, FileError, InputError
from gelassen.core.foundation.progress import Progress
from gelassen.show.live import LiveText, plain, trace
from gelassen.study import read_run
from gelassen.study.disk.run_file import RunFile
from gelassen.study.file.study_file import Protocol, StudyFile

pytestmark = pytest.mark.xdist_group("processor")  # loads it for real: one after another

HEAD = """\
format = 1
title = "Coolers for the playout box"
made_up = true
combine = "full"
[machine]
name = "Playout box"
limit_c = 95
"""
COOLER = """\
[factors.cooler]
levels = ["Brise 120", "Kiesel 92"]
details."Kiesel 92" = { price = 40, fan_direction = "towards the door", "fan.cpu.speed_rpm" = "turns" }
"""
POWER = """\
[factors.power_limit_w]
levels = [65]
changed_by = "software"
channel = "cpu.package.power_limit_w"
"""
SHORT = "[protocol]\nidle = 5\nsoak = 40\nhold = 10\ncooldown = 5\nrepeats = 1\nbaseline_again = false\n"


@pytest.fixture
def study(tmp_path):
    def make(*parts):
        folder = tmp_path / "study"
        folder.mkdir(exist_ok=True)
        (folder / "study.toml").write_text("".join(parts))
        return open_study(folder)

    return make


class Wrapped:
    def __init__(self, bench):
        self.bench = bench

    def __getattr__(self, name):
        return getattr(self.bench, name)


def bench_of(planned=None):
    cooler = planned.levels["cooler"] if planned else "Brise 120"
    return SimulatedBench(cooler=COOLERS[cooler], curve=CURVES["on-air"], seed=1)


# -- the file -----------------------------------------------------------------------------------------


def test_combinations_are_made_and_keep_the_names_that_are_given(study):
    power = '[factors.power_limit_w]\nlevels = [45, 65]\nchanged_by = "software"\n' \
            'channel = "cpu.package.power_limit_w"\n'  # fmt: skip
    named = '[setups.small]\ncooler = "Kiesel 92"\npower_limit_w = 45\n'
    full = study(HEAD, COOLER, power, named).file.setups
    assert list(full) == ["small", "Brise 120, 45 W", "Brise 120, 65 W", "Kiesel 92, 65 W"]
    one_at_a_time = HEAD.replace('"full"', '"baseline"\nbaseline = "small"')
    assert list(study(one_at_a_time, COOLER, power, named).file.setups) == [
        "small", "Brise 120, 45 W", "Kiesel 92, 65 W",
    ]  # fmt: skip
    with pytest.raises(FileError, match="needs a setup to start from"):
        study(HEAD.replace('"full"', '"baseline"'), COOLER)


CONTRADICTIONS = [
    ('[factors.cooler]\nlevels = ["a", "a"]\n', "line 9, factors.cooler.levels: the level a is there"),
    ('[factors.p]\nlevels = ["low"]\nchanged_by = "software"\nchannel = "cpu.package.power_limit_w"\n',
     '"low" is none'),
    ('[factors.p]\nlevels = [45]\nchannel = "cpu.package.power_limit_w"\n[factors.q]\nlevels = [65]\n'
     'channel = "cpu.package.power_limit_w"\n', "so does factors.p"),
    ('protocol = "capacity"\n[factors.p]\nlevels = [45]\nchanged_by = "software"\n'
     'channel = "cpu.package.power_limit_w"\n', "climbs with cpu.package.power_limit_w by itself"),
    ('[factors.n]\nlevels = [0, 2]\nchanged_by = "software"\nsets = "workers"\n', "whole numbers from 1"),
    (
        '[factors.l]\nlevels = ["matrix", "furnace"]\nchanged_by = "software"\nsets = "load"\n',
        "is not a load",
    ),
    ('[factors.f]\nlevels = ["a"]\nchanged_by = "software"\nchannel = "cpu.package.power_limit_w"\n'
     'curves."a" = "40: 30, 60: 50"\n', "a fan's duty"),
    ('[protocol]\nsoak = "twenty minutes"\n', '"20 min", "90 s" or "1 h"; or "until known"'),
    ('[protocol]\nsoak = "20"\n', '"20" has no unit: write it like "20 min"'),
    ('[protocol]\nsoak = { untl = "known" }\n', 'Did you mean "until"'),
    ("[protocol.climb]\nfrom_w = 90\nto_w = 60\n", "90 W is not below to_w"),
    ("[guard]\nrise_k_per_s = -1\n", "guard.rise_k_per_s"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "said"), CONTRADICTIONS)
def test_what_contradicts_itself_is_refused_with_its_place(study, text, said):
    top, _, rest = text.partition("\n") if text.startswith("protocol") else ("", "", text)
    with pytest.raises(FileError) as refused:
        study(HEAD.replace("[machine]", f"{top}\n[machine]" if top else "[machine]"), rest)
    assert said in str(refused.value)
    assert "study.toml" in str(refused.value)


SCHEMA = Path(gelassen.study.__file__).parent / "schemas/study.schema.json"


def test_the_published_schemas_are_those_of_the_files_and_allow_text():
    """Make them anew with: python -m gelassen.study.schemas."""
    schema = json.loads(SCHEMA.read_text())
    assert schema == json.loads(json.dumps(StudyFile.model_json_schema()))
    run = json.loads((SCHEMA.parent / "run.schema.json").read_text())
    assert run == json.loads(json.dumps(RunFile.model_json_schema()))
    protocol = schema["$defs"]["Protocol"]["properties"]
    assert set(protocol) == set(Protocol.model_fields)
    kinds = [option["type"] for option in protocol["soak"]["anyOf"]]
    assert kinds == ["number", "string", "object"]
    assert {"enum": ["steady", "capacity"]} in schema["properties"]["protocol"]["anyOf"]


def test_new_writes_a_study_that_can_be_run(tmp_path):
    folder = tmp_path / "fresh"
    done = CliRunner().invoke(
        cli,
        ["new", str(folder), "--yes", "--limit", "95", "--factor", "cooler: Brise 120, Kiesel 92",
         "--software", "cpu.package.power_limit_w: 45, 65", "--repeats", "2", "--made-up",
         "--question", 'Is the "cheap" one enough?'],
    )  # fmt: skip
    assert done.exit_code == 0, done.output
    assert "room.air.temp_c is not read on this machine" in done.output
    named = (folder / "study.toml").read_text().partition("\n")[0].removeprefix("#:schema ")
    assert json.loads((folder / named).read_text()) == json.loads(SCHEMA.read_text())
    made = open_study(folder).file
    assert made.question == 'Is the "cheap" one enough?'
    assert made.baseline in made.setups
    assert len(made.setups) == 4
    assert made.protocol.soak.until == "known"
    assert made.factors["power_limit_w"].channel == "cpu.package.power_limit_w"
    shown = CliRunner().invoke(cli, ["run", str(folder), "--dry-run"])
    assert "10 runs to make, about" in shown.output
    again = CliRunner().invoke(cli, ["new", str(folder), "--yes", "--limit", "95"])
    assert "holds a study already" in str(again.exception)
    for options, said in (
        (["--yes"], "--limit 95"),
        (["--yes", "--limit", "95", "--factor", "cooler"], 'like "cooler: tower, low"'),
        (["--yes", "--limit", "95", "--factor", "cooler: a, a"], "is there twice"),
    ):
        refused = CliRunner().invoke(cli, ["new", str(tmp_path / "other"), *options])
        assert said in str(refused.exception)
        assert not (tmp_path / "other").exists()


def test_new_asks_on_a_terminal(tmp_path, monkeypatch):
    monkeypatch.setattr("gelassen.commands.new._asker", lambda yes: asked)
    answers = {"Limit": "90", "steady": "capacity"}
    by_hand = iter(
        ["cooler", "cooler: tower, low", "door: open, closed", ""]
    )  # the first is not a factor

    def asked(text, usual):
        if "by hand" in text:
            return next(by_hand)
        return next((answer for part, answer in answers.items() if part in text), usual)

    done = CliRunner().invoke(cli, ["new", str(tmp_path / "n")])
    assert done.exit_code == 0, done.output
    made = open_study(tmp_path / "n").file
    assert (made.machine.limit_c, made.protocol.kind) == (90, "capacity")
    assert list(made.setups) == ["tower, open", "tower, closed", "low, open", "low, closed"]
    assert "write a name and its levels" in done.output


def test_levels_set_the_load_and_its_workers(study):
    made = study(
        HEAD, '[factors.load]\nlevels = ["integer"]\nchanged_by = "software"\nsets = "load"\n',
        '[factors.workers]\nlevels = [2, 4]\nchanged_by = "software"\nsets = "workers"\n',
    )  # fmt: skip
    (_, second) = made.file.setups.values()
    plan = plan_recording(bench_of(), made.file, Wanted(), levels=second)
    assert (plan.load.name, plan.load.workers) == ("integer", 4)


# -- before the first run -----------------------------------------------------------------------------


class Spoiled(Wrapped):
    """Everything that has wasted a day before."""

    def channels(self):
        return [info for info in self.bench.channels() if info.name != "room.air.temp_c"]

    def read(self):
        values = dict(self.bench.read())
        del values["room.air.temp_c"]
        values["cpu.all.load_pct"] = 35.0
        values["fan.cpu.speed_rpm"] = 0.0
        return {n: 40.0 if n.endswith("temp_c") else v for n, v in values.items()}

    def actuators(self):
        return {}

    def clock_synchronised(self):
        return False


def test_checks_find_what_would_waste_the_day_and_are_waived_by_name(study):
    made = study(
        HEAD, COOLER, SHORT, '[factors.power_limit_w]\nlevels = [45]\nchanged_by = "software"\n'
        'channel = "cpu.package.power_limit_w"\n[guard]\nfans = ["fan.cpu.speed_rpm"]\n',
    )  # fmt: skip
    plan = plan_recording(Spoiled(bench_of()), made.file, Wanted())
    found = check_before(Spoiled(bench_of()), made.file, plan, made.folder)
    assert {one.name for one in found} == {
        "reference", "power-limit", "background", "fan", "movement", "clock",
    }  # fmt: skip
    assert "other programs use 35 % of the processor" in str(found)
    assert [one.name for one in found if not one.stops] == ["clock"]
    waived = ("reference", "power-limit", "background", "fan", "movement")
    assert len(check_before(Spoiled(bench_of()), made.file, plan, made.folder, waive=waived)) == 1
    assert check_before(bench_of(), study(HEAD, COOLER, SHORT).file, plan, made.folder) == []
    with pytest.raises(BenchError, match="--waive reference"):
        next(conduct_study(made, lambda _: Spoiled(bench_of())))
    assert not made.run_folders()
    with pytest.raises(InputError, match='Did you mean "reference"'):
        next(conduct_study(made, bench_of, waive=["referense"]))


def test_a_level_beyond_what_can_be_set_is_found_before_the_first_run(study):
    made = study(HEAD, '[factors.p]\nlevels = [45, 900]\nchanged_by = "software"\n'
                       'channel = "cpu.package.power_limit_w"\n', SHORT)  # fmt: skip
    with pytest.raises(BenchError, match="cannot be set to 900; 5 to 400 are possible"):
        next(conduct_study(made, lambda _: bench_of()))


# -- changes by hand ----------------------------------------------------------------------------------


class DeadFan(Wrapped):
    def read(self):
        return {**self.bench.read(), "fan.cpu.speed_rpm": 0.0}


def test_prompts_say_what_to_fit_and_readings_show_whether_it_was(study):
    made = study(HEAD, COOLER, SHORT)
    kiesel = next(run for run in order_runs(made.file) if run.setup == "Kiesel 92")
    told = "\n".join(instructions(made.file, kiesel))
    assert "cooler: Kiesel 92" in told
    assert "fan direction: towards the door" in told
    assert "40" not in told  # its price does not matter now
    assert shows(bench_of(), made.file, kiesel) == []
    (wrong,) = shows(DeadFan(bench_of()), made.file, kiesel)
    assert "fan.cpu.speed_rpm reads 0 rpm; it should turn" in wrong
    asked = []

    def operator(planned):
        asked.append(planned)
        return "new paste, 0.6 Nm"

    runs = list(
        conduct_study(made, lambda p: DeadFan(bench_of(p)), operator=operator, checks=False)
    )
    assert any("it should turn" in problem for one in asked for problem in one.problems)
    spoiled = next(run for run in runs if run.planned.setup == "Kiesel 92")
    notes = " ".join(event.text for event in read_run(spoiled.folder).events)
    assert "new paste, 0.6 Nm" in notes
    assert "it should turn" in notes  # what was not mended stays with the run


# -- taken up again -----------------------------------------------------------------------------------


def test_a_doubtful_run_is_made_once_more_than_the_plan_has(study):
    made = study(HEAD, COOLER, SHORT)
    first = list(conduct_study(made, bench_of))
    assert still_to_do(open_study(made.folder)) == []
    (more,) = conduct_study(open_study(made.folder), bench_of, again="1")
    assert more.planned.setup == first[0].planned.setup
    assert json.loads((more.folder / "run.json").read_text())["again_of"] == first[0].folder.name
    assert sum(runs_made(open_study(made.folder)).values()) == 2
    open_study(made.folder).discard("1", "the window was open")
    assert [run.setup for run in still_to_do(open_study(made.folder))] == [first[0].planned.setup]
    with pytest.raises(InputError, match='no run "9"'):
        next(conduct_study(made, bench_of, again="9"))


class Fails(Wrapped):
    """Something gives way at this moment of the run."""

    def __init__(self, bench, how, at_s):
        super().__init__(bench)
        self.how, self.at_s, self.start_s = how, at_s, None
        self.restored = []

    @property
    def due(self):
        return self.start_s is not None and self.bench.now() - self.start_s >= self.at_s

    def read(self):
        if self.start_s is None:
            self.start_s = self.bench.now()
        values = dict(self.bench.read())
        if self.due and self.how == "sensor":
            values["cpu.package.temp_c"] = np.nan
        if self.due and self.how == "interrupt":
            raise KeyboardInterrupt
        if self.due and self.how == "disk":
            raise OSError(28, "No space left on device")
        return values

    def load(self, spec, *, workers=None):
        outer = self

        class Load(Wrapped):
            def problem(self):
                return "the load ended by itself" if outer.due and outer.how == "load" else ""

        return Load(self.bench.load(spec, workers=workers))

    def actuators(self):
        outer = self

        class Limit(Wrapped):
            def set(self, value):
                if outer.how == "actuator":
                    raise BenchError("cpu.package.power_limit_w: the machine does not take it")
                self.bench.set(value)

            def restore(self):
                outer.restored.append(True)
                self.bench.restore()

        limit = self.bench.actuators()["cpu.package.power_limit_w"]
        return {"cpu.package.power_limit_w": Limit(limit)}


@pytest.mark.parametrize("at_s", [2.0, 20.0, 47.0, 57.0])  # in each phase
@pytest.mark.parametrize(
    ("how", "outcome"),
    [("sensor", "guard"), ("load", "failed"), ("interrupt", "stopped"), ("disk", "failed")],
)
def test_after_any_failure_the_run_ends_cleanly_and_settings_are_put_back(
    study, how, outcome, at_s
):
    made = study(HEAD, COOLER, SHORT, POWER, '[guard.stop_c]\n"cpu.package.temp_c" = 99\n')
    bench = Fails(bench_of(), how, at_s)
    run = next(conduct_study(made, lambda _: bench, checks=False))
    expected = "finished" if how == "load" and at_s > 55 else outcome
    assert run.outcome.status == expected
    assert bench.bench.actuators()["cpu.package.power_limit_w"].read() == 125
    assert bench.restored
    bench.bench.sleep(3)
    assert bench.bench.read()["cpu.all.load_pct"] < 10
    kept = read_run(run.folder)
    assert at_s - 1 <= kept.frame.index[-1]
    again = [one.setup for one in still_to_do(open_study(made.folder))]
    assert (run.planned.setup in again) == (run.outcome.status in ("stopped", "failed"))


def test_an_actuator_that_refuses_leaves_nothing_behind(study):
    made = study(HEAD, COOLER, SHORT, POWER)
    with pytest.raises(BenchError, match="does not take it"):
        next(conduct_study(made, lambda _: Fails(bench_of(), "actuator", 0), checks=False))
    assert not made.run_folders()


@pytest.mark.parametrize("after_s", [1.0, 2.6])
def test_a_real_study_that_is_terminated_is_taken_up_again(study, after_s):
    made = study(
        HEAD.replace("made_up = true\n", ""), '[factors.side]\nlevels = ["left", "right"]\n',
        '[protocol]\nidle = 1\nsoak = 2\nhold = 1\ncooldown = 1\ninterval = 0.1\nrepeats = 1\n'
        "[load]\nworkers = 1\n",
    )  # fmt: skip
    waive = ("reference", "compared", "background", "idle", "movement", "fan", "load")
    command = [sys.executable, "-m", "gelassen", "run", str(made.folder), "--yes"]
    command += [f"--waive={name}" for name in waive]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    runs = made.folder / "runs"
    while not list(runs.glob("*/samples.csv")) and process.poll() is None:
        time.sleep(0.05)
    time.sleep(after_s)
    process.send_signal(signal.SIGTERM)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 1, err
    assert "stopped: " in out
    (folder,) = runs.iterdir()
    assert read_run(folder).outcome == "stopped"
    done = subprocess.run(command, capture_output=True, text=True, timeout=120, env={**os.environ})
    assert done.returncode == 0, done.stderr
    assert runs_made(open_study(made.folder)) == {"left": 1, "right": 1}


def test_the_real_loop_runs_on_the_real_processor(study):
    made = study(
        HEAD.replace("made_up = true\n", "").replace('combine = "full"\n', ""),
        '[protocol]\nidle = { until = "rested", at_most = "6 s", at_least = "3 s" }\n'
        'soak = { until = "known", at_least = "4 s", at_most = "10 s" }\nhold = "4 s"\n'
        'cooldown = "4 s"\ninterval = "0.5 s"\nrepeats = 1\n[load]\nworkers = 1\n[setups.now]\n',
    )  # fmt: skip
    waive = ("reference", "compared", "background", "idle", "movement", "fan", "load")
    began = time.monotonic()
    done = CliRunner().invoke(
        cli, ["run", str(made.folder), *(f"--waive={name}" for name in waive), "--yes"]
    )
    assert done.exit_code == 0, done.output
    assert time.monotonic() - began >= 23
    run = read_run(made.run_folders()[0])
    assert [phase.ended_by.partition(":")[0] for phase in run.phases] == [
        "time limit", "time limit", "time", "time",  # nothing is known without a temperature
    ]  # fmt: skip
    gaps = np.diff(run.frame.index)
    assert np.median(gaps) == pytest.approx(0.5, abs=0.01)
    assert gaps.max() < 3  # other tests share the machine
    work = run.frame["load.work.rate_per_s"]
    assert work.loc[8:19].median() > 0
    assert work.loc[22:].iloc[2:].max() == 0


# -- what one sees ------------------------------------------------------------------------------------


def test_the_live_view_tells_phase_rise_and_what_it_waits_for():
    from rich.console import Console

    text = LiveText()
    text.begin("run 1 of 2: Brise 120 [/red]")  # a name is text, not markup
    readings = {"cpu.core0.temp_c": 61.0, "cpu.core1.temp_c": 63.0, "room.air.temp_c": 22.0,
                "cpu.package.power_w": 65.0, "cpu.core0.clock_mhz": 3900.0}  # fmt: skip
    for second in range(90):
        readings = {**readings, "cpu.core1.temp_c": 40.0 + second / 4}
        seen = Progress(
            phase="soak", elapsed_s=float(second), left_s=300.0, readings=readings, phase_s=20.0,
            waits_for="waits until the steady rise is known to ±0.3 K",
            events=("a note",) if second == 3 else (),
        )  # fmt: skip
        text.take(seen)
    console = Console(width=100, record=True, file=io.StringIO())
    console.print(text.draw())
    shown = console.export_text()
    for part in ("run 1 of 2: Brise 120 [/red]", "soak", "5 min left", "hottest core", "62.2 °C", "40.2 K",
                 "▁", "█", "power 65 W", "00:03  a note",
                 "waits until the steady rise", "stop this run"):  # fmt: skip
        assert part in shown
    assert "40.2 K over room" in plain(seen)
    assert len(trace(list(range(500)))) == 40
    assert set(trace([50.0, 50.2, 50.1])) == {"▁"}


def test_a_rehearsal_on_the_simulated_bench_is_for_made_up_studies_only(study):
    made = study(HEAD, COOLER, SHORT)
    done = CliRunner().invoke(cli, ["run", str(made.folder), "--yes", "--simulate", "100000"])
    assert done.exit_code == 0, done.output
    assert done.output.count("finished: ") == 2
    assert "hottest core" in done.output  # plain lines, where there is no terminal
    assert read_run(made.run_folders()[0]).made_up
    real = study(HEAD.replace("made_up = true\n", ""), COOLER, SHORT)
    refused = CliRunner().invoke(
        cli, ["run", str(real.folder), "--yes", "--simulate", "9", "--again", "1"]
    )
    assert "is not marked so" in str(refused.exception)


def test_single_keys_are_wishes_and_the_keyboard_is_given_back(monkeypatch):
    pty, termios = pytest.importorskip("pty"), pytest.importorskip("termios")
    master, slave = pty.openpty()
    with os.fdopen(slave, "r") as keyboard:
        monkeypatch.setattr(sys, "stdin", keyboard)
        before = termios.tcgetattr(keyboard)
        keys = Keys()
        assert keys.wish() == ""  # not listening yet
        keys.listen()
        for pressed, wish in (
            (b"n", "phase"),
            (b"S", "run"),
            (b"xq", "all"),
            (b"x", ""),
            (b"", ""),
        ):
            os.write(master, pressed)
            time.sleep(0.05)
            assert keys.wish() == wish
        keys.let_go()
        assert termios.tcgetattr(keyboard) == before
    os.close(master)
