"""A thousand runs compared, cold and kept, as ratios against plainly reading their files.

Run: python benchmarks/many_runs.py [RUNS]. Half an hour at 1 Hz with 60 channels each, on two coolers and
five power limits: ten runs are simulated, the others vary them by remounting and by noise of their own.
"""

import json
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import pandas as pd

from gelassen import open_study
from gelassen.answers.workers.pool import process_pool
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct import RunPlan, plan_phases, record_run

CHANNELS = 60
POWERS_W = (45, 60, 75, 90, 105)


def made_study(folder: Path, count: int) -> None:
    """Write a study of so many made-up runs."""
    setups = [(cooler, power) for cooler in ("Brise 120", "Kiesel 92") for power in POWERS_W]
    lines = ["format = 1", 'title = "Many runs"', "made_up = true"]
    lines += ["[machine]", 'name = "Playout box"', "limit_c = 95", "[factors.cooler]"]
    lines += [
        'levels = ["Brise 120", "Kiesel 92"]',
        "[factors.watts]",
        f"levels = {list(POWERS_W)}",
    ]
    for cooler, power in setups:
        lines += [f'[setups."{cooler}, {power} W"]', f'cooler = "{cooler}"', f"watts = {power}"]
    (folder / "study.toml").write_text("\n".join(lines) + "\n")
    rng = np.random.default_rng(3)
    for number, (cooler, power) in enumerate(setups):
        bench = SimulatedBench(
            cooler=COOLERS[cooler], curve=CURVES["on-air"], power_limit_w=power, seed=number
        )
        run, _ = record_run(
            bench,
            RunPlan(phases=plan_phases(120, 1200, 420, 60)),
            folder / "simulated",
            label=f"{number}",
            setup=f"{cooler}, {power} W",
            limit_c=95.0,
            power_limit_w=float(power),
            reference="room.air.temp_c",
            made_up=True,
        )
        frame, told = (
            pd.read_parquet(run / "samples.parquet"),
            json.loads((run / "run.json").read_text()),
        )
        for copy in range(number, count, len(setups)):
            place = folder / "runs" / f"{copy + 1:04d}-copy"
            place.mkdir(parents=True)
            varied = frame.copy()
            for name in [n for n in frame.columns if n.startswith("cpu.") and n.endswith("temp_c")]:
                noise = rng.normal(0, 0.3, len(frame)) + rng.normal(0, 0.4)
                varied[name] = (frame[name] + noise).round()
            for k in range(CHANNELS - len(frame.columns)):
                varied[f"board.{k}.temp_c"] = (30 + rng.normal(0, 0.5, len(frame))).round(1)
            varied.to_parquet(place / "samples.parquet")
            (place / "run.json").write_text(json.dumps(told))


def _read(path: Path) -> int:
    return len(pd.read_parquet(path))


def main() -> None:
    """Print the times."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        made_study(folder, count)
        with process_pool() as pool:
            list(pool.map(_read, [next(folder.glob("runs/*/samples.parquet"))] * 4))
            begin = time.perf_counter()
            list(pool.map(_read, sorted(folder.glob("runs/*/samples.parquet")), chunksize=4))
            floor = time.perf_counter() - begin
        for words in ("cold", "kept"):
            begin = time.perf_counter()
            with process_pool() as pool:
                answer = open_study(folder).compare(executor=pool)
            spent = time.perf_counter() - begin
            print(
                f"{count} runs of {CHANNELS} channels compared, {words}: {spent:.1f} s; plain reading: "
                f"{floor:.1f} s; ratio {spent / floor:.2f}; setups {len(answer.setups)}",
                flush=True,
            )


if __name__ == "__main__":
    main()
