import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import psutil
import pytest

from gelassen.bench import MachineBench
from gelassen.bench.loads.command import CommandLoad
from gelassen.bench.loads.cores import core_kinds, cores_for
from gelassen.bench.loads.kernels import make_kernel
from gelassen.bench.loads.matrix import MatrixKernel
from gelassen.bench.loads.page import Page
from gelassen.bench.loads.spec import LoadSpec
from gelassen.bench.loads.workers import WorkerLoad
from gelassen.core import InputError
from trees import write

pytestmark = pytest.mark.xdist_group("processor")  # loads it for real: one after another


def alive(pid):
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0] != "Z"


def test_it_starts_works_and_stops_within_a_second():
    load = WorkerLoad([min(os.sched_getaffinity(0))])
    load.prepare()
    assert load.rounds_and_errors() == (0, 0)
    load.start()
    patience = time.monotonic() + 30  # a busy machine starts it late
    while load.rounds_and_errors()[0] <= 5 and time.monotonic() < patience:
        time.sleep(0.1)
    rounds, errors = load.rounds_and_errors()
    assert rounds > 5
    assert errors == 0
    assert load.problem() == ""
    (worker,) = load._workers
    began = time.monotonic()
    load.stop()
    assert time.monotonic() - began < 10  # at once, also on a busy machine
    assert not alive(worker.process.pid)


def test_counts_never_run_backwards_however_often_they_are_read():
    load = WorkerLoad([min(os.sched_getaffinity(0))])
    load.start()
    end, last = time.monotonic() + 1.0, 0
    while time.monotonic() < end:
        rounds, _ = load.rounds_and_errors()
        assert rounds >= last
        last = rounds
    load.stop()
    assert last > 0


def test_a_load_may_be_stopped_in_the_middle_of_a_reading(monkeypatch):
    load = WorkerLoad([min(os.sched_getaffinity(0))])
    load.start()
    whole = Page.rounds

    def stopped_first(page):
        load.stop()  # as another thread may: a guard, Ctrl-C
        return whole(page)

    monkeypatch.setattr(Page, "rounds", stopped_first)
    assert load.readings()["load.work.errors_count"] == 0
    load.use(1)
    assert load.readings() == {"load.work.rate_per_s": 0.0, "load.work.errors_count": 0.0}


def test_a_worker_that_dies_is_noticed():
    load = WorkerLoad([min(os.sched_getaffinity(0))])
    load.start()
    load._workers[0].process.kill()
    load._workers[0].process.wait()
    assert "1 of 1 workers" in load.problem()
    load.stop()


def test_wrong_results_are_counted():
    kernel = MatrixKernel()
    assert kernel.round()
    kernel._expected[3, 4] += 1e-12
    assert not kernel.round()


def test_unknown_loads_and_too_many_workers_are_refused():
    bench = MachineBench()
    with pytest.raises(InputError, match='"matrx" is not a load.*mean "matrix"'):
        bench.load("matrx")
    with pytest.raises(InputError, match="9999 workers asked for; 1 to"):
        bench.load("matrix", workers=9999)


def record(folder, *options):
    command = [sys.executable, "-c", "from gelassen.cli import main; main()", "record"]
    command += ["--idle", "1s", "--soak", "60s", "--hold", "0", "--cooldown", "1s"]
    return subprocess.Popen(
        [*command, "--into", str(folder), "--workers", "1", "--interval", "0.2s", *options],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )


def wait_for_load(folder):
    for _ in range(300):
        time.sleep(0.1)
        samples = folder / "001-run/samples.csv"
        lines = samples.read_text().splitlines() if samples.exists() else []
        if len(lines) > 12:  # on a busy machine the first share of a load may be next to none
            rate = lines[0].split(",").index("load.work.rate_per_s")
            if float(lines[-2].split(",")[rate] or 0) > 5:
                return
    raise AssertionError("the recording did not get going")


def workers_of(pid):
    found = subprocess.run(["ps", "-o", "pid=", "--ppid", str(pid)], capture_output=True, text=True)
    return [int(line) for line in found.stdout.split()]


@pytest.mark.parametrize("ending", [signal.SIGKILL, signal.SIGINT, signal.SIGTERM])
def test_however_a_recording_ends_its_samples_stay_and_nothing_runs_on(tmp_path, ending):
    from gelassen.study import read_run

    process = record(tmp_path)
    wait_for_load(tmp_path)
    workers = workers_of(process.pid)
    assert workers
    before = (tmp_path / "001-run/samples.csv").read_text().count("\n") - 1
    process.send_signal(ending)
    out, err = process.communicate(timeout=30)
    deadline = time.monotonic() + 1.5
    while any(alive(pid) for pid in workers) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not any(alive(pid) for pid in workers)
    run = read_run(tmp_path / "001-run")
    assert len(run.frame) >= before
    assert run.frame["load.work.rate_per_s"].max() > 5
    if ending == signal.SIGKILL:
        assert run.outcome == "ended without notice"
    else:
        assert process.returncode == 1
        assert run.outcome == "stopped"
        assert "Traceback" not in err
        assert "It cannot be concluded where the machine settles" in out


@pytest.mark.parametrize("name", ["integer", "memory"])
def test_other_kernels_work_and_notice_a_wrong_result(name):
    kernel = make_kernel(name)
    assert all(kernel.round() for _ in range(20))
    if name == "integer":
        kernel._expected = kernel._expected[:-1] + b"\0"
    else:
        kernel._source[:, 77] ^= 1
        kernel._target[:, 78] ^= 1
    assert not kernel.round()


def readings(load, seconds):
    load.readings()
    time.sleep(seconds)
    return load.readings()["load.work.rate_per_s"]


def soon(load, *, works):
    """Say whether it comes to work, or to rest: a busy machine takes its time."""
    patience = time.monotonic() + 20
    while time.monotonic() < patience:
        if (readings(load, 0.4) > 0) == works:
            return True
    return False


def busy_share(load, seconds):
    """How much of the time the workers were computing; less than asked for on a busy machine."""
    workers = [psutil.Process(worker.process.pid) for worker in load._workers]
    before = sum(sum(worker.cpu_times()[:2]) for worker in workers)
    time.sleep(seconds)
    return (sum(sum(w.cpu_times()[:2]) for w in workers) - before) / seconds / len(workers)


def test_duty_and_pauses_are_kept():
    cores = cores_for(None)
    part = WorkerLoad(cores, kernel="memory", duty_pct=30, period_s=0.2)
    whole = WorkerLoad(cores, kernel="memory")
    shares = []
    try:
        for load in (part, whole):
            load.start()
            time.sleep(0.4)
            shares.append(busy_share(load, 2.0))
            assert soon(load, works=True)
            load.use(0)
            assert soon(load, works=False)  # a pause is not work
            load.use(1)
            assert soon(load, works=True)
            load.use(0)
    finally:
        part.stop()
        whole.stop()
    assert 0.05 < shares[0] < 0.36
    assert shares[1] > 1.3 * shares[0]


def test_a_staircase_is_climbed_and_told(tmp_path):
    from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
    from gelassen.conduct import RunPlan, plan_phases, record, staircase

    bench = SimulatedBench(cooler=COOLERS["Brise 120"], curve=CURVES["on-air"], power_limit_w=95.0)
    stairs = staircase(3, 60, pause_s=30)
    plan = RunPlan(phases=plan_phases(30, 240, 0, 30), load=LoadSpec(workers=3), stairs=stairs)
    run = record(bench, plan, tmp_path)
    assert [(event.at_s, event.text) for event in run.events] == [
        (30, "load: 1 of 3 workers"), (90, "load: pause"), (120, "load: 2 of 3 workers"),
        (180, "load: pause"), (210, "load: 3 of 3 workers"),
    ]  # fmt: skip
    power = run.frame["cpu.package.power_w"]
    steps = [power.loc[a + 30 : a + 55].mean() for a in (30, 120, 210)]
    assert steps[0] < steps[1] < steps[2]
    assert power.loc[95:118].mean() < steps[0]


PROGRAM = (
    "import subprocess, sys, time\n"
    "subprocess.Popen([sys.executable, '-c', 'import time; time.sleep(99.5)'], start_new_session=True)\n"
    "time.sleep(0.1)\nprint('frames: 120, score 41.5 points')\n"
)


def sleepers():
    return [
        p for p in psutil.process_iter(["cmdline"]) if "time.sleep(99.5)" in str(p.info["cmdline"])
    ]


def test_the_testers_own_program_is_repeated_and_leaves_no_process():
    spec = LoadSpec(
        name="command", command=(sys.executable, "-c", PROGRAM), score=r"score ([\d.]+) points"
    )
    bench = MachineBench()
    load = bench.load(spec)
    assert "load.program.score_count" in {info.name for info in bench.channels()}
    load.start()
    scores, rates = [], []
    for _ in range(12):
        time.sleep(0.25)
        values = bench.read()
        scores.append(values["load.program.score_count"])
        rates.append(values["load.work.rate_per_s"])
    assert 41.5 in scores
    assert max(rates) > 0
    began = time.monotonic()
    load.stop()
    assert time.monotonic() - began < 10
    assert sleepers() == []


def test_a_program_that_only_fails_ends_the_run_with_its_last_output(tmp_path):
    from gelassen.conduct import RunPlan, plan_phases, record_run

    command = (
        sys.executable,
        "-c",
        "import sys; print('no licence', file=sys.stderr); sys.exit(3)",
    )
    plan = RunPlan(
        phases=plan_phases(0, 20, 0, 0),
        interval_s=0.1,
        load=LoadSpec(name="command", command=command),
    )
    _, outcome = record_run(MachineBench(), plan, tmp_path, label="x")
    assert outcome.status == "failed"
    assert 'ends at once, with status 3: "no licence"' in outcome.text
    with pytest.raises(InputError, match='"no-such-program" is not found'):
        MachineBench().load(LoadSpec(name="command", command=("no-such-program",)))
    with pytest.raises(InputError, match="the score's expression"):
        CommandLoad(["true"], score="(")


def test_the_program_ends_with_the_recorder_even_when_that_is_killed():
    program = (
        "import sys, time\nfrom gelassen.bench.loads.command import CommandLoad\n"
        "load = CommandLoad([sys.executable, '-c', 'import time; time.sleep(99.5)'])\n"
        "load.start()\ntime.sleep(1)\nprint('go', flush=True)\ntime.sleep(60)\n"
    )
    child = subprocess.Popen([sys.executable, "-c", program], stdout=subprocess.PIPE, text=True)
    child.stdout.readline()
    assert len([p for p in sleepers() if p.pid != child.pid]) >= 1
    child.kill()
    child.communicate()
    deadline = time.monotonic() + 5
    while sleepers() and time.monotonic() < deadline:
        time.sleep(0.05)
    assert sleepers() == []


def test_cores_are_named_by_number_or_kind(tmp_path):
    assert cores_for(1) == cores_for(None)[:1]
    assert cores_for(None, "0") == [0]
    for wrong, said in (
        ("900", "cannot be used"),
        ("fast", "names no cores"),
        ("1-", "names no cores"),
    ):
        with pytest.raises(InputError, match=said):
            cores_for(None, wrong)
    assert core_kinds(tmp_path) == {}
    for k, capacity in enumerate((446, 446, 1024, 1024)):
        write(tmp_path, f"devices/system/cpu/cpu{k}/cpu_capacity", capacity)
    assert core_kinds(tmp_path) == {"performance": [2, 3], "efficiency": [0, 1]}
    write(tmp_path, "devices/cpu_core/cpus", "0-2,5")
    write(tmp_path, "devices/cpu_atom/cpus", "8-9")
    assert core_kinds(tmp_path) == {"performance": [0, 1, 2, 5], "efficiency": [8, 9]}
