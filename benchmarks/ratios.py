"""Speed as ratios against a floor measured in the same run. Run: python benchmarks/ratios.py

Each line: what was measured, its time, the floor it is compared with, and the ratio. The length of
the imported log can be told, in samples; 360000 (ten hours at 10 Hz) if not.
"""

import multiprocessing
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

# One thread of linear algebra a process: the load's workers run so, and so must the floor.
for variable in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS"):
    os.environ[variable] = "1"

import numpy as np
import pandas as pd

from gelassen import read_log, read_run, summarise_run
from gelassen.bench import MachineBench
from gelassen.bench.loads.cores import available_cores
from gelassen.bench.loads.workers import WorkerLoad
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct import RunPlan, plan_phases, record_run
from gelassen.study.disk.run_file import RunFile
from gelassen.study.disk.writer import RunWriter


def line(what: str, value: float, floor_name: str, floor: float, unit: str) -> None:
    """Print one ratio."""
    print(
        f"{what}: {value:.4g} {unit}; {floor_name}: {floor:.4g} {unit}; ratio {value / floor:.2f}"
    )


def recorder(folder: Path) -> None:
    """Compare a recorded sample of 100 channels with bare reads of the same files."""
    folder.mkdir(exist_ok=True)
    tree = folder / "sys/class/hwmon/hwmon0"
    tree.mkdir(parents=True)
    (tree / "name").write_text("bench\n")
    files = [tree / f"temp{k}_input" for k in range(1, 101)]
    for k, file in enumerate(files):
        file.write_text(f"{40000 + 10 * k}\n")
    bench = MachineBench(sysfs=folder)
    names = [info.name for info in bench.channels() if info.readable]
    place = folder / "run"
    place.mkdir()
    writer = RunWriter.create(place, names, RunFile())
    samples = 2000
    start = time.perf_counter()
    for k in range(samples):
        writer.sample(float(k), bench.read())
    recorded = (time.perf_counter() - start) / samples
    writer.close()
    descriptors = [os.open(file, os.O_RDONLY) for file in files]
    start = time.perf_counter()
    for _ in range(samples):
        for descriptor in descriptors:
            int(os.pread(descriptor, 64, 0))
    bare = (time.perf_counter() - start) / samples
    for descriptor in descriptors:
        os.close(descriptor)
    line("recorder, 100 channels, one sample", 1e6 * recorded, "bare reads", 1e6 * bare, "µs")
    print(f"  at 1 Hz that is {100 * recorded:.3f} % of one core")


def _bare_loop(core: int, seconds: float, results: "multiprocessing.Queue[float]") -> None:
    os.sched_setaffinity(0, {core})
    rng = np.random.default_rng(5)
    a, b = rng.standard_normal((512, 512)), rng.standard_normal((512, 512))
    out = np.empty((512, 512))
    np.matmul(a, b, out=out)
    rounds, start = 0, time.perf_counter()
    while time.perf_counter() - start < seconds:
        np.matmul(a, b, out=out)
        rounds += 1
    results.put(rounds / (time.perf_counter() - start))


def load_throughput(seconds: float = 4.0) -> None:
    """Compare the load with the same product in a bare NumPy loop, on all cores, turn by turn."""
    cores = available_cores()
    ours, bare = [], []
    for _ in range(3):
        load = WorkerLoad(cores)
        load.start()
        time.sleep(0.5)
        before, start = load.rounds_and_errors()[0], time.perf_counter()
        time.sleep(seconds)
        rounds = load.rounds_and_errors()[0] - before
        ours.append(rounds / (time.perf_counter() - start))
        load.stop()
        results: multiprocessing.Queue[float] = multiprocessing.Queue()
        workers = [
            multiprocessing.Process(target=_bare_loop, args=(core, seconds, results))
            for core in cores
        ]
        for worker in workers:
            worker.start()
        bare.append(sum(results.get() for _ in cores))
        for worker in workers:
            worker.join()
    line("load, all cores", median(ours), "bare NumPy loop", median(bare), "products/s")


def analysis(folder: Path) -> None:
    """Compare the summary of a 30-minute run with reading it by pandas."""
    bench = SimulatedBench(cooler=COOLERS["Brise 120"], curve=CURVES["on-air"], power_limit_w=95)
    plan = RunPlan(phases=plan_phases(120, 1200, 420, 60))
    start = time.perf_counter()
    run, _ = record_run(bench, plan, folder, label="half-hour")
    print(f"simulated half hour, recorded: {time.perf_counter() - start:.2f} s")
    bench.load("matrix").start()
    start = time.perf_counter()
    for _ in range(1800):
        bench.sleep(1)
        bench.read()
    print(f"simulated half hour, bench alone: {time.perf_counter() - start:.2f} s")
    recording = read_run(run)
    csv = folder / "half-hour.csv"
    recording.frame.to_csv(csv)
    ours, floor = [], []
    for _ in range(5):
        start = time.perf_counter()
        summarise_run(recording, limit_c=95)
        ours.append(time.perf_counter() - start)
        start = time.perf_counter()
        pd.read_csv(csv)
        floor.append(time.perf_counter() - start)
    line(
        "analysis of a 30-minute run",
        1e3 * median(ours),
        "pandas.read_csv",
        1e3 * median(floor),
        "ms",
    )


def imports(folder: Path, rows: int) -> None:
    """Compare reading a foreign log of 200 columns with `pandas.read_csv` on its plain form."""
    rng = np.random.default_rng(7)
    names = ["CPU Package [°C]", *(f"Core {k} [°C]" for k in range(198))]
    plain, awkward = folder / "plain.csv", folder / "awkward.csv"
    with plain.open("w") as one, awkward.open("w") as other:
        one.write(",".join(["Time [s]", *names]) + "\n")
        other.write("made-up sample data\n\n" + ";".join(["Time [s]", *names]) + "\n")
        for start in range(0, rows, 20_000):
            count = min(20_000, rows - start)
            block = np.round(50 + 10 * rng.random((count, 199)), 2)
            for k, row in enumerate(block.tolist()):
                text = ",".join([f"{(start + k) / 10:.1f}", *(f"{x:.2f}" for x in row)])
                one.write(text + "\n")
                other.write(text.replace(",", ";").replace(".", ",") + "\n")
    floor, ours, hard = [], [], []
    for _ in range(3):
        for times, read in (
            (floor, lambda: pd.read_csv(plain)),
            (ours, lambda: read_log(plain)),
            (hard, lambda: read_log(awkward)),
        ):
            begin = time.perf_counter()
            read()
            times.append(time.perf_counter() - begin)
    size = plain.stat().st_size / 1e6
    line(f"plain log, {size:.0f} MB", median(ours), "pandas.read_csv", median(floor), "s")
    line("the same with ; and decimal comma", median(hard), "pandas.read_csv", median(floor), "s")
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    print(f"  most memory so far: {memory:.1f} GB")
    small = folder / "small.csv"
    with plain.open() as stream:
        small.write_text("".join(stream.readline() for _ in range(1801)))
    begin = time.perf_counter()
    read_log(small)
    print(f"half an hour at 1 Hz, 200 columns, imported: {time.perf_counter() - begin:.2f} s")


def start_up() -> None:
    """Compare `gelassen --help` with importing NumPy."""

    def timed(command: list[str]) -> float:
        times = []
        for _ in range(7):
            start = time.perf_counter()
            subprocess.run(command, capture_output=True, check=True)
            times.append(time.perf_counter() - start)
        return median(times)

    ours = timed([sys.executable, "-c", "from gelassen.cli import main; main()", "--help"])
    floor = timed([sys.executable, "-c", "import numpy"])
    line("gelassen --help", 1e3 * ours, "python -c 'import numpy'", 1e3 * floor, "ms")


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as place:
        recorder(Path(place) / "recorder")
        analysis(Path(place))
        imports(Path(place), int(sys.argv[1]) if len(sys.argv) > 1 else 360_000)
    load_throughput()
    start_up()
