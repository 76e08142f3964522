"""Programs that misbehave, processes that are killed, files in the working folder, two of everything."""

import os
import re
import signal
import subprocess
import sys
import threading
import time

import psutil
import pytest

from gelassen.bench import MachineBench
from gelassen.bench.actuators import find_actuators, safety
from gelassen.bench.loads.command import CommandLoad
from gelassen.bench.sensors.program import program_sensor
from gelassen.bench.sensors.textvalue import value_in
from gelassen.conduct import RunPlan, plan_phases, record_run
from gelassen.conduct.planning.plan import PlannedPhase
from gelassen.core import BenchError, FileError
from gelassen.core.foundation.errors import InUseError
from gelassen.study import read_run
from gelassen.study.disk import writer as writer_module
from gelassen.system.locks import holding
from gelassen.system.matching import TooSlowError
from gelassen.system.processes import start_own
from trees import LIMIT, device, settable_tree

POWER = "cpu.package.power_limit_w"
SLOW, LINE = "(a+)+b", "a" * 45 + "!"


def until(condition, within_s=60.0):
    deadline_s = time.monotonic() + within_s
    while not (found := condition()):
        assert time.monotonic() < deadline_s
        time.sleep(0.02)
    return found


SETS = """
import os, sys
from pathlib import Path
from gelassen.bench.actuators import find_actuators
from gelassen.bench.loads.workers import WorkerLoad
found = find_actuators(Path(sys.argv[1]))
os.chdir(sys.argv[2])
found["cpu.package.power_limit_w"].set(20)
WorkerLoad([0], kernel="integer").prepare()
print("set", flush=True)
os.kill(os.getpid(), 9)
"""


def test_code_in_the_working_folder_never_runs(tmp_path):
    tree, here = settable_tree(tmp_path / "tree"), tmp_path / "here"
    (here / "gelassen").mkdir(parents=True)
    for name in ("json", "numpy", "psutil", "signal", "gelassen/__init__"):
        (here / f"{name}.py").write_text(f"open({str(tmp_path / 'ran')!r}, 'w'); raise SystemExit")
    environment = {
        **os.environ,
        "PYTHONPATH": os.pathsep.join([os.environ.get("PYTHONPATH", ""), "", "."]),
    }
    command = [sys.executable, "-P", "-c", SETS, str(tree / "sys"), str(here)]
    done = subprocess.run(command, env=environment, capture_output=True, text=True)
    assert done.stdout == "set\n", done.stderr
    until(lambda: (tree / LIMIT).read_text().strip() == "65000000")
    assert not (tmp_path / "ran").exists()


def test_without_a_guardian_nothing_is_changed(tmp_path, monkeypatch):
    tree = settable_tree(tmp_path)
    monkeypatch.setattr(
        safety, "start_own", lambda *_, **options: start_own("gelassen.no_such", **options)
    )
    with pytest.raises(BenchError, match="guardian, which .* does not start; nothing was changed"):
        find_actuators(tree / "sys")[POWER].set(20)
    assert (tree / LIMIT).read_text().strip() == "65000000"


def test_a_guardian_that_is_killed_is_noticed_and_replaced(tmp_path):
    setting = find_actuators(settable_tree(tmp_path) / "sys")[POWER]
    setting.set(20)
    first = setting._net._guardian
    first.kill()
    first.wait()
    assert "had ended; another one watches now" in setting.check()
    assert setting.check() == ""
    assert setting._net._guardian.poll() is None
    setting.restore()


def test_a_slow_expression_is_given_up_and_delays_nobody():
    load = CommandLoad([sys.executable, "-c", f"print({LINE!r}, flush=True)"], score=SLOW)
    load.start()
    try:
        said = until(load.news)
        assert "takes more than 0.5 s on one line" in said
        assert load.readings()["load.program.score_count"] != 0
        until(lambda: load.readings()["load.work.rate_per_s"] > 0)  # the program still runs
    finally:
        load.stop()
    with pytest.raises(TooSlowError):
        value_in(LINE, re.compile(SLOW))
    assert value_in("fan at 42,5 %", re.compile(r"at ([\d,]+)")) == 42.5  # the next one is answered


def test_output_without_end_fills_no_memory(tmp_path):
    flood = "import sys; [sys.stdout.write('x' * 10**6) for _ in range(200)]; print(); print"
    load = CommandLoad([sys.executable, "-c", f"{flood}('score 7')"], score=r"score (\d+)")
    load.start()
    try:
        supervisor = psutil.Process(load._supervisor.pid)
        most = 0
        score = float("nan")
        deadline_s = time.monotonic() + 60
        while score != 7 and time.monotonic() < deadline_s:
            most = max(most, supervisor.memory_info().rss)
            score = load.readings()["load.program.score_count"]
            time.sleep(0.01)
        assert score == 7
        assert most < 100e6
    finally:
        load.stop()
    sensor = program_sensor(
        "case.probe.temp_c", [sys.executable, "-c", f"{flood}(21.5)"],
        re.compile(r"\d+\.\d+"), float, timeout_s=30.0,
    )  # fmt: skip
    assert sensor.read() == 21.5


HOLDS = """
import sys, time
from pathlib import Path
from gelassen.system.locks import holding
with holding(Path(sys.argv[1]), "it"):
    print("held", flush=True)
    time.sleep(600)
"""


def test_a_second_process_is_told_who_has_the_study_or_the_machine(tmp_path):
    lock = tmp_path / "lock"
    other = subprocess.Popen(
        [sys.executable, "-c", HOLDS, str(lock)], stdout=subprocess.PIPE, text=True
    )
    assert other.stdout.readline() == "held\n"
    with pytest.raises(
        InUseError, match=rf"the study is in use: process {other.pid} has it since 20"
    ):
        holding(lock, "the study").__enter__()
    other.kill()
    other.wait()
    other.stdout.close()
    with (
        holding(lock, "the study"),
        holding(lock, "the study"),
    ):  # left by the dead, and taken twice
        pass


def test_a_run_takes_the_machine_and_a_recording_without_load_does_not(tmp_path, state):
    files = {"temp1_input": "45000", "temp1_label": "Package id 0"}
    device(tmp_path, 0, "coretemp", "platform/coretemp.0", files)
    bench = MachineBench(sysfs=tmp_path / "sys")
    lock = str(state / "gelassen-machine.lock")
    other = subprocess.Popen([sys.executable, "-c", HOLDS, lock], stdout=subprocess.PIPE, text=True)
    other.stdout.readline()
    try:
        loaded = RunPlan(phases=plan_phases(0, 1, 0, 0), interval_s=0.2)
        with pytest.raises(InUseError, match="this machine is in use"):
            record_run(bench, loaded, tmp_path / "runs", label="x")
        assert not (tmp_path / "runs").exists()
        idle = RunPlan(phases=(PlannedPhase("idle", 0.5),), interval_s=0.2)
        assert record_run(bench, idle, tmp_path / "runs", label="x")[1].status == "finished"
    finally:
        other.send_signal(signal.SIGKILL)
        other.wait()
        other.stdout.close()


class Hanging:
    """A machine in real time whose temperature rises, and whose load notes when it was stopped."""

    workers = 1

    def __init__(self):
        self.stopped = threading.Event()
        self.started_s = None

    def channels(self):
        from gelassen.bench import ChannelInfo

        return [ChannelInfo(name="cpu.package.temp_c", what="made up")]

    def read(self):
        on = self.started_s is not None and not self.stopped.is_set()
        return {"cpu.package.temp_c": 40.0 + (30.0 * (self.now() - self.started_s) if on else 0.0)}

    def failures(self):
        return {}

    failure_reasons = actuators = failures

    def news(self):
        return []

    def load(self, spec, *, workers=None):
        return self

    def start(self):
        self.started_s = self.now()

    def use(self, workers): ...

    def stop(self):
        self.stopped.set()

    def problem(self):
        return ""

    now = staticmethod(time.monotonic)

    def sleep(self, seconds):
        time.sleep(max(seconds, 0))


@pytest.mark.parametrize("what", ["disk", "terminal", "wish"])
@pytest.mark.parametrize("hot", [True, False], ids=["too hot", "time over"])
def test_the_guard_goes_on_while_something_hangs(tmp_path, monkeypatch, what, hot):
    bench, free = Hanging(), threading.Event()

    def hangs(*_):
        if bench.started_s is not None:
            assert free.wait(60)
        return ""

    if what == "disk":
        sample = writer_module.RunWriter.sample
        monkeypatch.setattr(
            writer_module.RunWriter, "sample", lambda *given: (hangs(), sample(*given))
        )
    plan = RunPlan(
        phases=plan_phases(0.3, 2.0, 0, 0.5), interval_s=0.1,
        stop_c={"cpu.package.temp_c": 70.0 if hot else 200.0},
    )  # fmt: skip
    found = []
    options = {"terminal": {"progress": hangs}, "wish": {"wish": hangs}}.get(what, {})
    run = threading.Thread(
        target=lambda: found.extend(record_run(bench, plan, tmp_path, label="x", **options))
    )
    run.start()
    assert bench.stopped.wait(60)  # the load was stopped while the recorder still hangs
    assert run.is_alive()
    if what != "disk":  # what was sampled in its place is on the disk, whoever is killed now
        (samples,) = tmp_path.glob("*/samples.csv")
        hanging = samples.read_text().count("\n")
        time.sleep(0.5)
        assert samples.read_text().count("\n") > hanging
    free.set()
    run.join(90)
    folder, outcome = found
    assert outcome.status == ("guard" if hot else "finished")
    recording = read_run(folder)
    hottest = recording.frame["cpu.package.temp_c"].max()
    assert hottest < (80 if hot else 150)
    assert any("sampling and the guard went on" in event.text for event in recording.events)


def test_a_run_that_cannot_begin_leaves_nothing_and_says_where(tmp_path, monkeypatch):
    def full(*_):
        raise OSError(28, "No space left on device")

    plan = RunPlan(phases=plan_phases(0.2, 0.2, 0, 0), interval_s=0.1)
    monkeypatch.setattr(writer_module, "rehearse", full)
    with pytest.raises(FileError, match=r"001-x: the run could not be begun \(No space left"):
        record_run(Hanging(), plan, tmp_path, label="x")

    def interrupted(*_):
        raise KeyboardInterrupt

    monkeypatch.setattr(writer_module, "rehearse", interrupted)
    with pytest.raises(KeyboardInterrupt):
        record_run(Hanging(), plan, tmp_path, label="x")
    assert list(tmp_path.iterdir()) == []


def test_a_run_whose_folder_is_deleted_ends_and_does_not_claim_to_be_kept(tmp_path, monkeypatch):
    import shutil

    monkeypatch.setattr(writer_module, "_SYNC_S", 0.1)
    bench = Hanging()
    plan = RunPlan(phases=plan_phases(0.2, 600, 0, 0), interval_s=0.1)

    def deletes(seen):
        if bench.started_s is not None:
            shutil.rmtree(tmp_path / "001-x", ignore_errors=True)

    with pytest.raises(FileError, match="was moved or deleted while the run was recorded") as told:
        record_run(bench, plan, tmp_path, label="x", progress=deletes)
    assert "kept there" not in str(told.value)
    assert bench.stopped.is_set()


def test_kills_at_random_moments_leave_nothing(tmp_path, state):
    from killing import attack

    tried, failures = attack(4, seed=20261201, root=tmp_path, state=state)
    assert sum(tried.values()) == 4
    assert not failures
