"""Analyses a second on 1, 2 and 4 workers of a Dask scheduler on this machine, and what limits them.

``python cluster.py [--seeds RUNS] [--write]``: copies of one run of half an hour at 1 Hz, none of them
analysed before. The floor is the same work in this process, without any pool.
"""

import shutil
import tempfile
import time
from pathlib import Path

from distributed import Client, LocalCluster
from tables import main

from gelassen import open_study
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct import RunPlan, plan_phases, record_run
from gelassen.study.disk.cache import CACHE
from gelassen.study.file.new_study import ensure_setup


def made(folder: Path, runs: int) -> Path:
    """Make a study of equal runs."""
    ensure_setup(folder, "tower", limit_c=95.0, new_setup=True, made_up=True)
    bench = SimulatedBench(cooler=COOLERS["Brise 120"], curve=CURVES["on-air"], seed=1)
    plan = RunPlan(phases=plan_phases(120, 1800, 300, 180), interval_s=1.0)
    first, _ = record_run(bench, plan, folder / "runs", label="tower", setup="tower")
    for number in range(2, runs + 1):
        shutil.copytree(first, first.parent / f"{number:03d}-tower")
    return folder


def seconds(study: Path, executor: object = None) -> tuple[float, float]:
    """Analyse all runs; return wall-clock seconds and those of this process."""
    (study / CACHE).unlink(missing_ok=True)
    began, busy = time.perf_counter(), time.process_time()
    rows, left_out = open_study(study).rows(executor=executor)
    assert rows
    assert not left_out
    return time.perf_counter() - began, time.process_time() - busy


def cluster_table(runs: int) -> None:
    """Print how many runs are analysed a second."""
    print("| where | runs a second | against alone | this process, a run |")
    print("|:---|---:|---:|---:|")
    with tempfile.TemporaryDirectory() as place:
        study = made(Path(place) / "study", runs)
        seconds(study)  # modules are loaded, files are in memory
        alone, _ = seconds(study)
        print(f"| this process alone | {runs / alone:.1f} | 1.00 | – |")
        for count in (1, 2, 4):
            options = {"threads_per_worker": 1, "processes": True, "dashboard_address": None}
            with LocalCluster(n_workers=count, **options) as local, Client(local) as client:
                seconds(study, client)
                took, busy = seconds(study, client)
            name = "1 worker" if count == 1 else f"{count} workers"
            print(
                f"| {name} | {runs / took:.1f} | {alone / took:.2f} | {1000 * busy / runs:.0f} ms |"
            )


if __name__ == "__main__":
    main(__doc__, {"cluster": cluster_table}, seeds=48)
