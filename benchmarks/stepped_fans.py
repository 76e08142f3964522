"""How well a curve is predicted from one run whose fan goes through five duties, on the simulated bench."""

import math
import tempfile
from pathlib import Path

import numpy as np
import pandas as pd

from gelassen.answers import CurveQuestion, open_study
from gelassen.answers.workers.pool import process_pool
from gelassen.bench.simulated import COOLERS, CURVES, FanCurve, Room, SimulatedBench
from gelassen.conduct import RunPlan, plan_phases, record_run
from gelassen.conduct.planning.plan import FanSteps
from gelassen.core import InputError
from gelassen.core.fans.curve import FanCurve as TriedCurve
from gelassen.study.file.new_study import ensure_setup

_POWERS_W = {"Brise 120": 95.0, "Kiesel 92": 80.0, "Tarn 240": 95.0}
_ROOM_C, _CURVES_EACH = 22.0, 4
_DUTIES_PCT, _STEP_S = (100.0, 80.0, 60.0, 45.0, 35.0), 480.0


def one_run(seed: int) -> list[dict[str, object]]:
    """Make one stepped run, and predict some curves from it; each beside the truth."""
    rng = np.random.default_rng(seed)
    cooler = str(rng.choice(list(_POWERS_W)))
    power_w = _POWERS_W[cooler]
    room = Room(mean_c=float(rng.uniform(19, 26)), phase=float(rng.uniform(0, 6)))
    bench = SimulatedBench(cooler=COOLERS[cooler], curve=CURVES["on-air"], seed=seed, room=room)
    found: list[dict[str, object]] = []
    with tempfile.TemporaryDirectory() as place:
        study = Path(place) / "study"
        ensure_setup(study, "tower", limit_c=95.0, new_setup=True, made_up=True)
        plan = RunPlan(
            phases=plan_phases(60, len(_DUTIES_PCT) * _STEP_S, 0, 300), interval_s=2.0,
            settings={"cpu.package.power_limit_w": power_w},
            fan_steps=FanSteps("fan.cpu.duty_pct", _DUTIES_PCT, _STEP_S),
        )  # fmt: skip
        record_run(bench, plan, study / "runs", label="tower", setup="tower", power_limit_w=power_w)
        bench.actuators()["cpu.package.power_limit_w"].set(power_w)
        for _ in range(_CURVES_EACH):
            low, high = sorted(rng.uniform(_DUTIES_PCT[-1] + 1, 99, 2))
            middle = rng.uniform(50, 75)
            points = {"temperatures_c": (middle - 8, middle + 8), "duties_pct": (low, high)}
            bench.change(curve=FanCurve(name="tried", **points))
            truth = bench.truth(room_c=_ROOM_C)
            if truth.at_limit or abs(truth.power_w - power_w) > 1:
                continue
            asked = CurveQuestion(tried=TriedCurve(**points), powers_w=[power_w], rooms_c=[_ROOM_C])
            row: dict[str, object] = {
                "cooler": cooler,
                "off_k": math.nan,
                "covered": False,
                "rpm": math.nan,
            }
            try:
                point = open_study(study).curves(asked).points.iloc[0]
            except InputError:  # nothing is said: it counts as not covered
                found.append(row)
                continue
            found.append(
                row
                | {
                    "off_k": point["temp_c"] - truth.hottest_core_c,
                    "covered": point["low_c"] <= truth.hottest_core_c <= point["high_c"],
                    "rpm": point["rpm"] / truth.fan_rpm - 1,
                }
            )
    return found


def stepped_table(seeds: int) -> None:
    """Print how near the predictions come."""
    print("| cooler | curves | within 1.0 K | its 95 % interval covers | within 3 % of rpm |")
    print("|:---|---:|---:|---:|---:|")
    with process_pool() as pool:
        rows = [row for part in pool.map(one_run, range(seeds)) for row in part]
    table = pd.DataFrame(rows)
    parts = [*table.groupby("cooler"), ("all", table)]
    for name, part in parts:
        print(
            f"| {name} | {len(part)} | {100 * (part['off_k'].abs() <= 1).mean():.0f} % | "
            f"{100 * part['covered'].mean():.0f} % | {100 * (part['rpm'].abs() <= 0.03).mean():.0f} % |"
        )
