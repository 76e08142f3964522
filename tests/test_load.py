import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from gelassen.bench import MachineBench
from gelassen.bench.loads.matrix import MatrixKernel
from gelassen.bench.loads.workers import WorkerLoad
from gelassen.core import InputError


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
    time.sleep(0.6)
    rounds, errors = load.rounds_and_errors()
    assert rounds > 5
    assert errors == 0
    assert load.problem() == ""
    (worker,) = load._workers
    began = time.monotonic()
    load.stop()
    assert time.monotonic() - began < 1
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
    with pytest.raises(InputError, match='"matrx" is no load.*mean "matrix"'):
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
        if samples.exists() and samples.read_text().count("\n") > 12:
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
