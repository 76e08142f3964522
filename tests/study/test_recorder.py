"""What the recorder promises: whatever happens to the machine, at most one sample is lost."""

import json
import mmap
import os
import random
import resource
import signal
import subprocess
import sys
import threading
import time
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest

from gelassen.bench import ChannelInfo
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct import RunPlan, plan_phases, record_run
from gelassen.core import FileError, InputError
from gelassen.study import read_run
from gelassen.study.disk.interrupted import close_abandoned
from gelassen.study.disk.run_file import RunFile
from gelassen.study.disk.writer import RunWriter, new_run_folder
from trees import device

pytestmark = pytest.mark.xdist_group("processor")  # loads it for real: one after another

IDLE = plan_phases(1000, 1, 0, 0)[:1]


class Counting:
    """A bench of a few channels in real time that tells, in shared memory, how often it was read."""

    def __init__(self, shared=None, channels=20):
        self.shared = shared
        self.names = [f"board.part{k}.temp_c" for k in range(channels)]
        self.reads = 0

    def channels(self):
        return [ChannelInfo(name=name, what="") for name in self.names]

    def read(self):
        self.reads += 1
        if self.shared is not None:
            self.shared[:8] = (self.reads - 1).to_bytes(8, "little")  # samples that must be kept
        return {name: 40.0 + (self.reads + k) % 7 for k, name in enumerate(self.names)}

    def failures(self):
        return {}

    failure_reasons = actuators = failures

    def news(self):
        return ()

    def now(self):
        return time.monotonic()

    def sleep(self, seconds):
        time.sleep(max(seconds, 0))


def test_killed_at_random_moments_it_loses_at_most_one_sample(tmp_path):
    dice = random.Random(7)
    for number in range(30):
        shared = mmap.mmap(-1, 8)
        place = tmp_path / str(number)
        command = os.fork()
        if command == 0:
            try:
                record_run(
                    Counting(shared), RunPlan(phases=IDLE, interval_s=0.03), place, label="killed"
                )
            finally:
                os._exit(0)
        while int.from_bytes(shared[:8], "little") < 3:
            time.sleep(0.001)
        time.sleep(dice.uniform(0, 0.15))
        os.kill(command, signal.SIGKILL)
        os.waitpid(command, 0)
        run = read_run(place / "001-killed")
        assert len(run.frame) >= int.from_bytes(shared[:8], "little")
        assert run.outcome == "ended without notice"
        assert run.frame.notna().all(axis=None)


def killed_run(tmp_path, **limits):
    folder = new_run_folder(tmp_path, "hot")
    columns = ["cpu.package.temp_c", "cpu.package.power_w"]
    child = os.fork()
    if child == 0:
        writer = RunWriter.create(folder, columns, RunFile(**limits))
        writer.phase("soak", 0.0)
        for k in range(413):
            writer.sample(float(k), {columns[0]: 60.0 + 37 * k / 412, columns[1]: 137.0})
        os.kill(os.getpid(), signal.SIGKILL)
    os.waitpid(child, 0)
    return folder


def test_a_run_without_a_goodbye_is_kept_as_the_result_it_is(tmp_path):
    folder = killed_run(tmp_path, limit_c=95.0, power_limit_w=125.0)
    with (folder / "samples.csv").open("a") as stream:
        stream.write("413.000,97.")
    words = (
        "ended without notice at 412 s, last reading 97.0 °C (cpu.package.temp_c), 2 °C over the "
        "limit, 137 W, 12 W over the limit"
    )
    assert any(words in caution for caution in read_run(folder).cautions)
    (line,) = close_abandoned(tmp_path)
    assert line.startswith(f"001-hot: {words}")
    run = read_run(folder)
    assert (run.outcome, len(run.frame)) == ("ended without notice", 413)
    assert (run.phases[0].name, run.phases[0].end_s) == ("soak", 412)
    assert any(words in caution for caution in run.cautions)
    assert sorted(path.name for path in folder.iterdir()) == ["run.json", "samples.parquet"]
    assert close_abandoned(tmp_path) == []


def test_a_run_that_goes_on_is_left_alone(tmp_path):
    folder = new_run_folder(tmp_path, "busy")
    writer = RunWriter.create(folder, ["a.b.temp_c"], RunFile())
    writer.sample(0.0, {"a.b.temp_c": 20.0})
    program = (
        "import sys\nfrom pathlib import Path\n"
        "from gelassen.study.disk.interrupted import close_abandoned\n"
        "from gelassen.study import read_run\nprint(close_abandoned(Path(sys.argv[1])))\n"
        "print(read_run(Path(sys.argv[1]) / '001-busy').outcome)"
    )
    done = subprocess.run(
        [sys.executable, "-c", program, str(tmp_path)], capture_output=True, text=True, check=True
    )
    assert done.stdout.split() == ["[]", "recording"]
    with pytest.raises(FileError, match="already holds a run; nothing was written"):
        RunWriter.create(folder, ["a.b.temp_c"], RunFile())
    writer.finish("finished")
    assert len(read_run(folder).frame) == 1


@pytest.fixture
def small_disk(tmp_path):
    place = tmp_path / "small"
    place.mkdir()
    mount = ["mount", "-t", "tmpfs", "-o", "size=256k", "tmpfs", str(place)]
    if subprocess.run(mount, capture_output=True, check=False).returncode != 0:
        pytest.skip("a small disk cannot be mounted here")
    yield place
    subprocess.run(["umount", str(place)], check=True)


def test_on_a_full_disk_the_run_ends_cleanly_and_says_so(small_disk):
    bench = Counting(channels=60)
    plan = RunPlan(phases=IDLE, interval_s=0.001)
    folder, outcome = record_run(bench, plan, small_disk, label="full")
    assert outcome.status == "failed"
    assert "No space left" in outcome.text
    run = read_run(folder)
    assert run.outcome == "failed"
    assert any("No space left" in caution for caution in run.cautions)
    stored = len(run.frame)
    assert stored >= bench.reads - 3  # what did not fit, and what was taken while that was tried
    assert list(run.frame["board.part0.temp_c"]) == [40.0 + k % 7 for k in range(1, stored + 1)]
    assert run.frame.notna().all(axis=None)  # no half line is left
    assert run.phases[0].name == "idle"
    left = {path.name for path in folder.iterdir()}
    assert left in ({"run.json", "samples.csv"}, {"run.json", "samples.parquet"})


def test_memory_does_not_grow_with_the_length_of_a_run(tmp_path):
    folder = new_run_folder(tmp_path, "long")
    names = [f"board.part{k}.temp_c" for k in range(100)]
    writer = RunWriter.create(folder, names, RunFile())
    dice = np.random.default_rng(3)
    rows = [dict(zip(names, dice.normal(50, 1, 100).round(2), strict=True)) for _ in range(50)]
    for k in range(500):
        writer.sample(k * 0.1, rows[k % 50])
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    for k in range(500, 60_000):
        writer.sample(k * 0.1, rows[k % 50])
    writer.finish("finished")
    assert (
        resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 50_000
    )  # kB; it holds 48 MB
    run = read_run(folder)
    assert run.frame.shape == (60_000, 100)
    assert run.frame.iloc[12_345].to_dict() == rows[12_345 % 50]


class Jumps(Counting):
    def news(self):
        return ["the wall clock was moved forward by 3600 s"] if self.reads == 5 else ()


def test_clocks_that_jump_are_noted(tmp_path, monkeypatch):
    from gelassen.bench.clocks import ClockWatch

    plan = RunPlan(phases=plan_phases(0.1, 1, 0, 0)[:1], interval_s=0.01)
    folder, _ = record_run(Jumps(), plan, tmp_path, label="jump")
    texts = [event.text for event in read_run(folder).events]
    # A busy machine may add what it did itself; this jump is told once.
    assert sum("forward by 3600 s" in text for text in texts) == 1, texts
    real = time.time
    watch = ClockWatch()
    assert watch.news() == []
    monkeypatch.setattr(time, "time", lambda: real() - 120)
    assert "moved back by 120 s" in watch.news()[0]
    assert watch.news() == []
    booted = time.clock_gettime
    monkeypatch.setattr(
        time, "clock_gettime", lambda c: booted(c) + (600 if c == time.CLOCK_BOOTTIME else 0)
    )
    monkeypatch.setattr(time, "time", lambda: real() - 120 + 600)
    assert watch.news() == ["the machine was suspended for 600 s; it cooled meanwhile"]


def test_readings_that_stop_and_return_are_told_once(tmp_path):
    bench = SimulatedBench(cooler=COOLERS["Brise 120"], curve=CURVES["on-air"], power_limit_w=95.0)
    count, real = {}, bench.read

    def read():
        values = dict(real())
        if 40 < bench.now() < 70:
            values["room.air.temp_c"] = float("nan")
            count["room.air.temp_c"] = count.get("room.air.temp_c", 0) + 1
        return values

    bench.read, bench.failures = read, lambda: count
    bench.failure_reasons = lambda: {"room.air.temp_c": "the kernel answers: No such device"}
    folder, _ = record_run(bench, RunPlan(phases=plan_phases(30, 60, 0, 0)), tmp_path, label="x")
    run = read_run(folder)
    assert [event.text for event in run.events] == [
        "no reading from room.air.temp_c: the kernel answers: No such device",
        "reads again after 29 s: room.air.temp_c",
    ]
    assert "room.air.temp_c failed 29 times" in run.cautions[0]


def gelassen(*arguments):
    command = [sys.executable, "-c", "from gelassen.cli import main; main()", *map(str, arguments)]
    return subprocess.run(command, capture_output=True, text=True, check=False)


def test_notes_by_hand_reach_a_run_that_goes_on_and_one_that_ended(tmp_path):
    folder = new_run_folder(tmp_path, "noted")
    columns = ["cpu.package.temp_c"]
    run = RunFile(
        started="2026-03-02T14:00:00+01:00",
        channels={"cpu.package.temp_c": {"header": "chip"}},
    )
    writer = RunWriter.create(folder, columns, run)
    for k in range(400):
        writer.sample(float(k), {columns[0]: 50.0})
    first = gelassen("note", folder, "room.air.temp_c=21,3", "side panel off")
    assert first.stdout == "001-noted, 06:39: room.air.temp_c 21.3 °C, side panel off\n"
    writer.finish("finished")
    for at in ("05:10", "310 s", "2026-03-02T14:05:10", "0:05:10"):
        assert gelassen("note", folder, "--at", at, "panel on").returncode == 0
    assert gelassen("note", folder, "--at", "05:20", "room.air.temp_c=22").returncode == 0
    read = read_run(folder)
    assert [event.at_s for event in read.events] == [310, 310, 310, 310, 399]
    assert read.frame["room.air.temp_c"].dropna().to_dict() == {320.0: 22.0, 399.0: 21.3}
    assert read.channels["room.air.temp_c"].header == "by hand"
    for wrong, said in (
        (["x"], "no longer recorded: say when"),
        (["--at", "07:00", "x"], "not within the run, which lasts 06:39"),
        (["--at", "soon", "x"], "is not a time"),
        (["--at", "01:00", "room.air.temp_x=1"], "does not end in a known unit"),
        (["--at", "01:00", "room.air.temp_c=warm"], "is not a number"),
        (["--at", "01:00", "cpu.package.temp_c=1"], "recorded by the run itself"),
    ):
        refused = gelassen("note", folder, *wrong)
        assert (refused.returncode, said in refused.stderr) == (2, True), refused.stderr
    assert gelassen("note", tmp_path, "x").returncode == 2
    with (folder / "notes.jsonl").open("a") as stream:
        stream.write('{"at_s": 3, "rea')
    assert any("notes.jsonl, line 7 cannot be read" in c for c in read_run(folder).cautions)


def test_record_tells_of_earlier_crashes_and_takes_the_chips_own_limit(tmp_path):
    killed_run(tmp_path / "runs")
    device(tmp_path, 0, "coretemp", "platform/coretemp.0", {
        "temp1_input": 48000, "temp1_label": "Package id 0", "temp1_crit": 100000,
    })  # fmt: skip
    done = gelassen(
        "record", "--into", tmp_path / "runs", "--sysfs", tmp_path, "--idle", "0.2", "--soak", "0.5",
        "--hold", "0", "--cooldown", "0", "--interval", "0.1", "--workers", "1", "--load", "integer",
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert "earlier run 001-hot: ended without notice at 412 s" in done.stderr
    run = json.loads((tmp_path / "runs/002-run/run.json").read_text())
    assert (run["limit_c"], run["load"]) == (100.0, "integer, 1 worker")


def test_one_sample_is_one_write_before_the_next_is_taken(tmp_path, monkeypatch):
    order = []
    real = os.write
    monkeypatch.setattr(os, "write", lambda fd, data: order.append("write") or real(fd, data))
    bench = Counting()
    read = bench.read
    recorder = threading.get_ident()  # what samples in its place on a busy machine does not count

    def counted():
        if threading.get_ident() == recorder:
            order.append("read")
        return read()

    bench.read = counted
    plan = RunPlan(phases=plan_phases(0.3, 1, 0, 0)[:1], interval_s=0.01)
    record_run(bench, plan, tmp_path, label="x")
    samples = order[1 : order.count("read") * 2 - 1]  # how many there are depends on the machine
    assert len(samples) >= 4
    assert ("read", "read") not in pairwise(samples)
    assert Path(tmp_path / "001-x/samples.parquet").exists()
    with pytest.raises(InputError):
        record_run(bench, RunPlan(phases=IDLE, stop_c={"x": 1.0}), tmp_path, label="y")
