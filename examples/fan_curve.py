"""A quiet fan curve from one run: five duties, a suggestion, and the run that proves it.

All of it happens on the simulated bench, in made-up time.
"""

import tempfile
from pathlib import Path

from gelassen import open_study, summarise_run
from gelassen.answers import CurveQuestion
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct import RunPlan, plan_phases, record_run
from gelassen.conduct.planning.plan import FanSteps
from gelassen.core.fans.curve import parse_curve
from gelassen.show.curve_text import curve_text
from gelassen.study import read_run
from gelassen.study.file.new_study import ensure_setup

LIMIT = {"cpu.package.power_limit_w": 95}


def main() -> None:
    """Measure, choose, prove."""
    with tempfile.TemporaryDirectory() as place:
        study = Path(place) / "quiet"
        ensure_setup(study, "Brise 120", limit_c=95.0, new_setup=True, made_up=True)
        bench = SimulatedBench(cooler=COOLERS["Brise 120"], curve=CURVES["off-air"], seed=5)
        steps = FanSteps("fan.cpu.duty_pct", (100.0, 80.0, 60.0, 45.0, 33.0), step_s=480.0)
        plan = RunPlan(
            phases=plan_phases(60, 2400, 0, 300), interval_s=4.0, settings=LIMIT, fan_steps=steps
        )
        record_run(bench, plan, study / "runs", label="Brise 120", setup="Brise 120")

        found = open_study(study).curves(
            CurveQuestion(powers_w=[95], rooms_c=[22], quietest_below_c=72)
        )
        print(curve_text(found))

        curve = parse_curve(found.curves["points"][0], "the suggestion")
        plan = RunPlan(
            phases=plan_phases(60, 1200, 300, 60), interval_s=4.0, settings=LIMIT,
            fan_curves={"fan.cpu.duty_pct": curve},
        )  # fmt: skip
        run, _ = record_run(bench, plan, study / "runs", label="proof", setup="Brise 120")
        print("\nthe proof:", summarise_run(read_run(run)).steady)


if __name__ == "__main__":
    main()
