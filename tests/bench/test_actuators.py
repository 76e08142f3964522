import json
import os
import subprocess
import sys
import time

import pytest

from gelassen.bench import MachineBench
from gelassen.bench.actuators import find_actuators, left_behind, put_back_note
from gelassen.bench.actuators import undo as undo_module
from gelassen.conduct import RunPlan, plan_phases, record_run
from gelassen.core import BenchError
from gelassen.study import read_run
from trees import LIMIT, ZONE, settable_tree

POWER, DUTY = "cpu.package.power_limit_w", "fan.nct7802_28_pwm1.duty_pct"


@pytest.fixture
def tree(tmp_path):
    return settable_tree(tmp_path)


def text(tree, path):
    return (tree / path).read_text().strip()


SETTINGS = [
    (POWER, 45.0, {LIMIT: "45000000", f"{ZONE}/enabled": "1"}),
    ("cpu.package.short_power_limit_w", 50.5, {f"{ZONE}/constraint_1_power_limit_uw": "50500000"}),
    (DUTY, 40.0, {
        "sys/class/hwmon/hwmon1/pwm1": "102", "sys/class/hwmon/hwmon1/pwm1_enable": "1",
    }),
    ("cpu.all.clock_limit_mhz", 3000.0, {
        "sys/devices/system/cpu/cpufreq/policy3/scaling_max_freq": "3000000",
    }),
    ("cpu.all.boost_flag", 0.0, {"sys/devices/system/cpu/intel_pstate/no_turbo": "1"}),
    ("cpu.all.active_count", 2.0, {
        "sys/devices/system/cpu/cpu1/online": "1", "sys/devices/system/cpu/cpu3/online": "0",
    }),
]  # fmt: skip


@pytest.mark.parametrize(("name", "value", "files"), SETTINGS)
def test_each_setting_is_made_read_back_and_put_back(tree, state, name, value, files):
    before = {path: text(tree, path) for path in files}
    setting = find_actuators(tree / "sys")[name]
    setting.set(value)
    assert {path: text(tree, path) for path in files} == files
    assert setting.read() == pytest.approx(value, abs=0.5)
    assert setting.check() == ""
    assert len(list(state.iterdir())) == 1  # noted while it is changed
    setting.restore()
    assert {path: text(tree, path) for path in files} == before
    assert list(state.iterdir()) == []


def test_a_value_out_of_range_changes_nothing(tree, state):
    actuators = find_actuators(tree / "sys")
    for name, wrong, allowed in (
        (POWER, 0.0, "1 to 4095 W"), (POWER, float("nan"), "1 to 4095 W"),
        (DUTY, -1.0, "0 to 100 %"), ("cpu.all.clock_limit_mhz", 100.0, "800 to 4000 MHz"),
        ("cpu.all.active_count", 0.0, "1 to 4"),
    ):  # fmt: skip
        with pytest.raises(BenchError, match=allowed):
            actuators[name].set(wrong)
    with pytest.raises(BenchError, match="only 0 and 1 have a meaning"):
        actuators["cpu.all.boost_flag"].set(0.5)
    assert text(tree, LIMIT) == "65000000"
    assert not state.exists() or list(state.iterdir()) == []


def test_a_board_that_ignores_a_setting_is_reported_and_restored(tree, monkeypatch):
    setting = find_actuators(tree / "sys")[DUTY]
    folder = tree / "sys/class/hwmon/hwmon1"
    write_text = undo_module.write_text

    def stubborn(file, said):
        if file.name != "pwm1" or said == "77":  # the board keeps its own duty
            write_text(file, said)

    monkeypatch.setattr("gelassen.bench.actuators.setting.write_text", stubborn)
    with pytest.raises(BenchError, match="60 % asked for, 30.2 % set: the board controls this fan"):
        setting.set(60.0)
    assert (folder / "pwm1_enable").read_text().strip() == "2"


def test_two_runs_never_change_one_setting(tree):
    first = find_actuators(tree / "sys")[POWER]
    first.set(45.0)
    with pytest.raises(BenchError, match="another run has changed it"):
        find_actuators(tree / "sys")[POWER].set(30.0)
    first.restore()
    find_actuators(tree / "sys")[POWER].restore()
    assert text(tree, LIMIT) == "65000000"


CRASHES = """
import os, sys, time
from pathlib import Path
from gelassen.bench.actuators import find_actuators
found = find_actuators(Path(sys.argv[1]))
found["cpu.package.power_limit_w"].set(45)
found["fan.nct7802_28_pwm1.duty_pct"].set(100)
if sys.argv[2] == "all":
    os.kill(found["cpu.package.power_limit_w"]._net._guardian.pid, 9)
    time.sleep(0.2)
os.kill(os.getpid(), 9)
"""


def crash(tree, what):
    subprocess.run([sys.executable, "-c", CRASHES, str(tree / "sys"), what], check=False)


def test_after_sigkill_the_guardian_puts_all_back(tree, state):
    crash(tree, "main")
    deadline = time.monotonic() + 10
    while (not state.exists() or any(state.iterdir())) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert text(tree, LIMIT) == "65000000"
    assert text(tree, "sys/class/hwmon/hwmon1/pwm1") == "77"
    assert text(tree, "sys/class/hwmon/hwmon1/pwm1_enable") == "2"
    assert list(state.iterdir()) == []


def gelassen(*arguments):
    command = [sys.executable, "-c", "from gelassen.cli import main; main()", *arguments]
    return subprocess.run(command, capture_output=True, text=True, check=False)


def test_settings_left_by_a_reset_are_reported_and_put_back(tree, state):
    crash(tree, "all")
    assert text(tree, LIMIT) == "45000000"
    told = gelassen()
    assert "left settings changed" in told.stderr
    assert f"{POWER}: {tree / LIMIT} was 65000000, is 45000000" in told.stderr
    assert "gelassen --put-back" in told.stderr
    with pytest.raises(BenchError, match="first put it back"):
        find_actuators(tree / "sys")[POWER].set(30.0)
    # The device comes back under another number before anyone looks.
    (tree / "sys/class/hwmon/hwmon1").rename(tree / "sys/class/hwmon/hwmon7")
    done = gelassen("--put-back")
    assert (done.returncode, text(tree, LIMIT)) == (0, "65000000")
    assert text(tree, "sys/class/hwmon/hwmon7/pwm1_enable") == "2"
    assert gelassen("--put-back").stderr.strip() == "no settings were left behind"


def test_settings_that_a_restart_has_put_back_are_forgotten(tree, state):
    crash(tree, "all")
    (note,) = state.iterdir()
    for entry in json.loads(note.read_text())["entries"]:
        folder = tree / "sys/class/hwmon/hwmon1" if entry["device"] else tree / "sys"
        (folder / entry["path"]).write_text(entry["text"] + "\n")
    assert list(left_behind()) == []
    assert list(state.iterdir()) == []


def test_a_fan_that_cannot_go_back_to_its_own_control_runs_at_full_speed(tree, monkeypatch):
    crash(tree, "all")
    ((note, _),) = left_behind()
    write_text = undo_module.write_text

    def refuses(file, said):
        if file.name == "pwm1_enable":
            raise OSError(22, "Invalid argument")
        write_text(file, said)

    monkeypatch.setattr(undo_module, "write_text", refuses)
    problems = put_back_note(note)
    assert any("pwm1 is set to 255 instead" in problem for problem in problems)
    assert text(tree, "sys/class/hwmon/hwmon1/pwm1") == "255"
    assert note.exists()  # what could not be done is not forgotten


def test_a_run_makes_its_settings_and_tells_when_the_board_changes_them(tree, tmp_path):
    bench = MachineBench(sysfs=tree)
    now = [0.0]
    bench.now = lambda: now[0]

    def sleep(seconds):
        now[0] += max(seconds, 0)
        if now[0] > 15:
            (tree / LIMIT).write_text("80000000\n")

    bench.sleep = sleep
    plan = RunPlan(phases=(plan_phases(30, 1, 0, 0)[0],), settings={POWER: 45.0, DUTY: 50.0})
    folder, outcome = record_run(bench, plan, tmp_path / "runs", label="set")
    run = read_run(folder)
    assert outcome.status == "finished"
    assert run.frame[POWER].iloc[0] == 45
    assert any("45 W was set, 80 W is there now" in event.text for event in run.events)
    assert any("80 W is there now" in caution for caution in run.cautions)
    assert text(tree, LIMIT) == "65000000"
    with pytest.raises(BenchError, match=r"cpu.package.power_limt_w cannot be set .*mean"):
        record_run(
            bench,
            RunPlan(phases=plan.phases, settings={DUTY: 30.0, "cpu.package.power_limt_w": 40.0}),
            tmp_path / "other",
            label="x",
        )
    assert text(tree, "sys/class/hwmon/hwmon1/pwm1") == "77"
    assert not (tmp_path / "other").exists()


def test_without_permission_it_says_exactly_what_to_do(tree, monkeypatch):
    monkeypatch.setattr(os, "access", lambda *_: False)
    with pytest.raises(BenchError, match="only root may write .*: sudo chmod a\\+w /"):
        find_actuators(tree / "sys")[POWER].set(45.0)
    assert text(tree, LIMIT) == "65000000"
