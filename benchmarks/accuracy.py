"""Accuracy on simulated logs with known truth, many seeds. Run: python benchmarks/accuracy.py --seeds 100

Prints Markdown tables; docs/accuracy.md keeps them. "Ten-minute mean" is today's habit: the mean rise
over the last ten minutes, with the interval of independent readings.
"""

import argparse
from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.bench.simulated import (
    CASES,
    COOLERS,
    CURVES,
    FanCurve,
    Processor,
    Room,
    SimulatedBench,
)
from gelassen.core import compare_setups, find_steps, steady_state, sustainable_power
from gelassen.study.parallel import process_pool

FIXED = FanCurve(name="fixed", temperatures_c=(20.0, 100.0), duties_pct=(55.0, 55.0))
IDLE_S = 120


@dataclass(frozen=True)
class Scenario:
    """One kind of run."""

    name: str
    cooler: str
    minutes: int
    power_w: float = 95.0
    fixed_fan: bool = False
    room_wave_k: float = 0.5
    warm_start: bool = False


SCENARIOS = (
    Scenario("tower, fixed fan, 30 min", "Brise 120", 30, fixed_fan=True),
    Scenario("tower, fan on curve, 30 min", "Brise 120", 30),
    Scenario("tower, fan on curve, 10 min", "Brise 120", 10),
    Scenario("low-profile, room drifts by 2 K, 30 min", "Kiesel 92", 30, room_wave_k=1.5),
    Scenario("low-profile, starts warm, 20 min", "Kiesel 92", 20, warm_start=True),
    Scenario("liquid loop, 45 min", "Tarn 240", 45),
    Scenario("liquid loop, 12 min", "Tarn 240", 12),
    Scenario("passive, 45 min", "Steg", 45, power_w=60.0),
    Scenario("passive, 20 min", "Steg", 20, power_w=60.0),
)


def one_run(job: tuple[Scenario, int]) -> dict[str, float]:
    """Simulate one run and analyse it."""
    scenario, seed = job
    rng = np.random.default_rng(seed)
    bench = SimulatedBench(
        cooler=COOLERS[scenario.cooler],
        curve=FIXED if scenario.fixed_fan else CURVES["on-air"],
        case=CASES["open" if seed % 2 else "closed"],
        power_limit_w=scenario.power_w,
        room=Room(
            mean_c=float(rng.uniform(17, 27)),
            wave_k=scenario.room_wave_k,
            wave_s=float(rng.uniform(3600, 9000)),
            phase=float(rng.random()),
        ),
        seed=seed,
    )
    load = bench.load("matrix")
    if scenario.warm_start:
        load.start()
        bench.sleep(float(rng.uniform(120, 600)))
        load.stop()
        bench.sleep(60)
    rows, begin = [], bench.now()
    for second in range(IDLE_S + 60 * scenario.minutes):
        if second == IDLE_S:
            load.start()
        rows.append(bench.read())
        bench.sleep(1)
    frame = pd.DataFrame(rows)
    time_s = np.arange(len(frame)) + begin
    cores = [
        name for name in frame.columns if name.startswith("cpu.core") and name.endswith("temp_c")
    ]
    hottest = str(frame[cores].iloc[-300:].mean().idxmax())
    rise = frame[hottest] - frame["room.air.temp_c"]
    answer = steady_state(
        time_s,
        frame[hottest],
        reference_c=frame["room.air.temp_c"],
        power_w=frame["cpu.package.power_w"],
    )
    loaded = time_s >= begin + IDLE_S
    # Rise depends a little on the room (fans on curves, leakage): the truth is that of the mean room.
    truth = bench.truth(room_c=float(frame["room.air.temp_c"][loaded].mean())).rise_k
    last = rise.iloc[-600:]
    habit_error = 1.96 * float(last.std()) / np.sqrt(len(last))
    return {
        "error": answer.value - truth,
        "covered": answer.low <= truth <= answer.high,
        "width": answer.high - answer.low,
        "reached": answer.reached,
        "habit": float(last.mean()) - truth,
        "habit_covered": abs(float(last.mean()) - truth) <= habit_error,
        "steps": len(find_steps(time_s[loaded], rise[loaded])),
    }


def steady_table(seeds: int) -> None:
    """Print how well the steady rise is found."""
    print("### Steady rise of the hottest core over room air\n")
    print(
        "| runs | RMS error K | bias K | 95 % interval covers | median width K | reached said | "
        "false steps a run | ten-minute mean: RMS error K | covers |"
    )
    print("|:---|---:|---:|---:|---:|---:|---:|---:|---:|")
    with process_pool() as pool:
        for scenario in SCENARIOS:
            jobs = [(scenario, seed) for seed in range(seeds)]
            table = pd.DataFrame(pool.map(one_run, jobs, chunksize=4))
            rms = float(np.sqrt((table["error"] ** 2).mean()))
            habit = float(np.sqrt((table["habit"] ** 2).mean()))
            print(
                f"| {scenario.name} | {rms:.2f} | {table['error'].mean():+.2f} | "
                f"{100 * table['covered'].mean():.0f} % | {table['width'].median():.2f} | "
                f"{100 * table['reached'].mean():.0f} % | {table['steps'].mean():.2f} | {habit:.2f} | "
                f"{100 * table['habit_covered'].mean():.0f} % |",
                flush=True,
            )


def difference_table(seeds: int) -> None:
    """Print how often setups are told apart, rightly and wrongly."""
    print("\n### Differences between setups (three runs each, spread 0.3 to 0.8 K)\n")
    print("| setups | true difference K | studies that claim any | told apart | intervals cover |")
    print("|---:|---:|---:|---:|---:|")
    for setups, gap in ((2, 0.0), (4, 0.0), (6, 0.0), (2, 1.0), (4, 1.0), (2, 2.0), (4, 2.0)):
        rng = np.random.default_rng(setups)
        claims, told, covered = [], [], []
        for _ in range(4 * seeds):
            spread, base = rng.uniform(0.3, 0.8), rng.uniform(40, 65)
            means = [base + (gap if k == 1 else 0.0) for k in range(setups)]
            runs = pd.DataFrame(
                [
                    {"setup": str(k), "value": mean + rng.normal(0, spread), "standard_error": 0.15}
                    for k, mean in enumerate(means)
                    for _ in range(3)
                ]
            )
            rows = compare_setups(runs).differences
            claims.append(rows["distinguishable"].any())
            for row in rows.itertuples():
                true = means[int(row.setup)] - means[int(row.versus)]
                covered.append(row.low <= true <= row.high)
                if {row.setup, row.versus} == {"0", "1"}:
                    told.append(row.distinguishable)
        print(
            f"| {setups} | {gap:g} | {100 * np.mean(claims):.0f} % | {100 * np.mean(told):.0f} % | "
            f"{100 * np.mean(covered):.0f} % |"
        )


def capacity_table(seeds: int) -> None:
    """Print how well the capacity is found from four levels of a simulated cooler."""
    print("\n### Capacity from four power levels (rises known to 0.3 K, room 25 °C, limit 95 °C)\n")
    print(
        "| cooler | truth W | RMS error | 95 % interval covers | median width | straight line: RMS |"
    )
    print("|:---|---:|---:|---:|---:|---:|")
    cases = (
        ("Brise 120", True, (45.0, 65.0, 95.0, 125.0)),
        ("Brise 120", False, (45.0, 65.0, 95.0, 125.0)),
        ("Steg", True, (20.0, 35.0, 50.0, 65.0)),
    )
    for cooler, fixed, levels in cases:

        def rise(power_w: float, cooler: str = cooler, fixed: bool = fixed) -> tuple[float, float]:
            truth = SimulatedBench(
                cooler=COOLERS[cooler],
                curve=FIXED if fixed else CURVES["on-air"],
                power_limit_w=power_w,
                room=Room(mean_c=25.0),
                processor=Processor(effective_capacitance_nf=2.4),
                remount_spread=0.0,
            ).truth()
            return truth.power_w, truth.rise_k

        points = np.array([rise(level) for level in levels])
        truth = rise(400.0)[0]  # no limit but the temperature's
        rng = np.random.default_rng(1)
        errors, covered, widths, lines = [], [], [], []
        for _ in range(2 * seeds):
            seen = points[:, 1] + rng.normal(0, 0.3, len(points))
            answer = sustainable_power(
                points[:, 0], seen, rise_se_k=np.full(len(points), 0.3), limit_c=95
            )
            errors.append(answer.power_w / truth - 1)
            covered.append(answer.low_w <= truth <= answer.high_w)
            widths.append((answer.high_w - answer.low_w) / truth)
            slope, level = np.polyfit(points[:, 0], seen, 1)
            lines.append((70 - level) / slope / truth - 1)
        fan = "fixed fan" if fixed else "fan on curve"
        print(
            f"| {cooler}, {'passive' if cooler == 'Steg' else fan} | {truth:.0f} | "
            f"{100 * np.sqrt(np.mean(np.square(errors))):.1f} % | {100 * np.mean(covered):.0f} % | "
            f"{100 * np.median(widths):.1f} % | {100 * np.sqrt(np.mean(np.square(lines))):.1f} % |"
        )


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seeds", type=int, default=100)
    arguments = parser.parse_args()
    steady_table(arguments.seeds)
    difference_table(arguments.seeds)
    capacity_table(arguments.seeds)
