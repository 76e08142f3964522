"""A small made-up study to be attacked: two coolers, two short runs each."""

from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct import RunPlan, plan_phases, record_run
from gelassen.study.file.new_study import ensure_setup


def small_study(folder):
    for cooler, setup in (("Brise 120", "tower"), ("Kiesel 92", "low")):
        ensure_setup(folder, setup, limit_c=95.0, new_setup=True, made_up=True)
        for seed in (1, 2):
            bench = SimulatedBench(cooler=COOLERS[cooler], curve=CURVES["off-air"], seed=seed)
            plan = RunPlan(phases=plan_phases(30, 300, 60, 0), interval_s=5.0)
            record_run(bench, plan, folder / "runs", label=setup, setup=setup, power_limit_w=95)
    return folder
