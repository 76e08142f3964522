"""Runs analysed on the workers of a real Dask scheduler, in processes of their own."""

import os
import shutil
import signal
import socket
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor

import pytest
from distributed import Client

from command_line import gelassen, ok
from gelassen import open_study
from gelassen.answers.workers import cluster
from gelassen.core import InputError
from small_study import small_study

QUIET = {**os.environ, "DASK_DISTRIBUTED__LOGGING__DISTRIBUTED": "error"}
ALIVE_S = 60


def start(*arguments):
    command = [sys.executable, "-m", "distributed.cli." + arguments[0], *arguments[1:]]
    return subprocess.Popen(command, env=QUIET, stderr=subprocess.DEVNULL)


@pytest.fixture(scope="module")
def scheduler():
    """Start a scheduler with two workers; give its address and the processes of the workers."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    address = f"tcp://127.0.0.1:{port}"
    one = start("dask_scheduler", "--host", "127.0.0.1", "--port", str(port), "--no-dashboard")
    alone = ("--nthreads", "1", "--no-nanny", "--no-dashboard")
    workers = [start("dask_worker", address, *alone) for _ in range(2)]
    try:
        with Client(address, timeout=ALIVE_S, set_as_default=False) as client:
            client.wait_for_workers(2, timeout=ALIVE_S)
        yield address, workers
    finally:
        for process in (*workers, one):
            process.kill()
            process.wait()


@pytest.fixture(scope="module")
def analysed_here(tmp_path_factory):
    study = small_study(tmp_path_factory.mktemp("cluster") / "study")
    bare = study.parent / "bare"
    shutil.copytree(study, bare)  # no analysis is kept in it
    return bare, open_study(study).compare()


@pytest.fixture
def bare(analysed_here, tmp_path):
    shutil.copytree(analysed_here[0], tmp_path / "study")
    return tmp_path / "study"


@pytest.mark.xdist_group("cluster")
def test_workers_say_the_same_to_the_last_digit(scheduler, analysed_here, bare):
    address, _ = scheduler
    with Client(address, set_as_default=False) as client:
        there = open_study(bare).compare(executor=client)
    assert there.to_dict() == analysed_here[1].to_dict()


@pytest.mark.xdist_group("cluster")
def test_every_question_takes_an_executor_and_refuses_what_is_none(bare):
    study = open_study(bare)
    with ThreadPoolExecutor(2) as pool:
        assert study.repeatability(executor=pool).runs == 4
        assert study.drift("tower", executor=pool).runs == 2
    with pytest.raises(InputError, match="executor is a str"):
        study.compare(executor="four workers")


@pytest.mark.xdist_group("cluster")
def test_the_command_uses_the_scheduler_and_says_what_is_wrong_with_one(
    scheduler, bare, monkeypatch
):
    address, _ = scheduler
    assert "tower" in ok("compare", bare, "--scheduler", address, "--no-figure")
    nobody = gelassen("compare", bare, "--scheduler", "tcp://127.0.0.1:1")
    assert nobody.returncode == 2
    assert "no scheduler answers at tcp://127.0.0.1:1" in nobody.stderr
    monkeypatch.setattr(cluster, "__version__", "9.9")
    with (
        pytest.raises(InputError, match=r"worker tcp://.* has Gelassen 0\.1\.0, and this is 9\.9"),
        cluster.cluster(address),
    ):
        pass


@pytest.mark.xdist_group("cluster")
def test_a_worker_that_is_killed_loses_no_run(scheduler, analysed_here, bare):
    address, workers = scheduler

    def kill(done, _):
        if done == 1:
            workers[0].send_signal(signal.SIGKILL)

    with Client(address, set_as_default=False) as client:
        study = open_study(bare)
        rows, left_out = study.rows(executor=client, progress=kill)
    assert not left_out
    assert len(rows) == 4
    assert study.compare().to_dict() == analysed_here[1].to_dict()
