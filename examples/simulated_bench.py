"""From a plan to an answer on a simulated bench, in a few lines. All of it is made-up data."""

import tempfile
from pathlib import Path

from gelassen import summarise_run
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct import RunPlan, plan_phases, record

bench = SimulatedBench(
    cooler=COOLERS["Kiesel 92"], curve=CURVES["off-air"], power_limit_w=95, seed=7
)
plan = RunPlan(phases=plan_phases(idle=120, soak=900, hold=300, cooldown=120))

with tempfile.TemporaryDirectory() as folder:
    recording = record(bench, plan, Path(folder))

summary = summarise_run(recording, limit_c=95)
print("made-up sample data")
print(summary)
print(f"truth of the simulation: {bench.truth().rise_k:.1f} K")
