"""Waiting until it is known, and climbing to the capacity, on simulated machines with known truth.

Run: python benchmarks/conducting.py --seeds 60. Prints Markdown tables; with --write they
take the place of those in docs/accuracy.
"Fixed" is 30 minutes of soak and 10 of hold, answered by the mean of the hold.
"""

import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pandas as pd
from furnished import another, furnished
from tables import main

from gelassen.answers.workers.pool import process_pool
from gelassen.bench.simulated import (
    CASES,
    COOLERS,
    CURVES,
    FanCurve,
    Processor,
    Room,
    SimulatedBench,
)
from gelassen.conduct import PlannedPhase, RunPlan, record_run
from gelassen.conduct.planning.climb_plan import ClimbPlan
from gelassen.conduct.watching.judged import Judged
from gelassen.core import summarise_run
from gelassen.study import read_run
from gelassen.study.file.gate import Gate

FIXED_FAN = FanCurve(name="fixed", temperatures_c=(20.0, 100.0), duties_pct=(55.0, 55.0))
SOAK = Gate(until="known", within_k=0.5, at_least=300, at_most=2280)
HOLD_S = 120.0


@dataclass(frozen=True)
class Scenario:
    """One kind of machine."""

    name: str
    cooler: str
    power_w: float
    fixed_fan: bool = False
    limit_c: float = 95.0


SCENARIOS = (
    Scenario("tower, fixed fan", "Brise 120", 95.0, fixed_fan=True, limit_c=80.0),
    Scenario("tower, fan on curve", "Brise 120", 95.0, limit_c=80.0),
    Scenario("low-profile, fan on curve", "Kiesel 92", 65.0),
    Scenario("liquid loop", "Tarn 240", 95.0, limit_c=70.0),
    Scenario("passive", "Steg", 60.0),
)


def bench_of(scenario: Scenario, seed: int, power_w: float) -> SimulatedBench:
    """Return a machine of this kind, in a room of its own."""
    rng = np.random.default_rng(seed)
    return SimulatedBench(
        cooler=another(COOLERS[scenario.cooler], seed),
        curve=FIXED_FAN if scenario.fixed_fan else CURVES["on-air"],
        case=furnished(CASES["open" if seed % 2 else "closed"], seed),
        power_limit_w=power_w,
        processor=Processor(limit_c=95.0),
        room=Room(
            mean_c=float(rng.uniform(18, 26)), wave_s=float(rng.uniform(3600, 9000)),
            phase=float(rng.random()),
        ),
        seed=seed,
    )  # fmt: skip


def recorded(bench: SimulatedBench, plan: RunPlan, limit_c: float, kind: str = "steady"):
    """Carry a plan out; return the recording."""
    with tempfile.TemporaryDirectory(prefix="gelassen-") as folder:
        run, _ = record_run(bench, plan, Path(folder), label="x", limit_c=limit_c, kind=kind,
                            reference="room.air.temp_c")  # fmt: skip
        return read_run(run)


def waiting(job: tuple[Scenario, int]) -> dict[str, float]:
    """Soak until it is known, hold for two minutes; and the same machine for fixed times."""
    scenario, seed = job
    found = {}
    for gate in (SOAK, None):
        bench = bench_of(scenario, seed, scenario.power_w)
        lengths = (60.0, 2280.0 if gate else 1800.0, HOLD_S if gate else 600.0)
        phases = tuple(
            PlannedPhase(name, length, gate if name == "soak" else None)
            for name, length in zip(("idle", "soak", "hold"), lengths, strict=True)
        )
        run = recorded(bench, RunPlan(phases=phases), 95.0)
        room = run.frame["room.air.temp_c"]
        for label, end_s in (("stop", run.phases[1].end_s), ("end", run.phases[2].end_s)):
            if gate is None and label == "stop":
                continue
            # The moment the soak ended is judged as if the load had ended with it.
            frame = run.frame.loc[:end_s]
            cut = run if label == "end" else _until(run, frame, end_s)
            summary = summarise_run(cut, look_for_steps=False)
            truth = bench.truth(room_c=float(room.loc[60:end_s].mean())).rise_k
            steady = summary.steady
            key = f"{'gate' if gate else 'fixed'}_{label}"
            found[key] = steady.value - truth
            found[f"{key}_in"] = steady.low <= truth <= steady.high
        if gate is None:
            hold = run.frame.loc[run.phases[2].start_s : run.phases[2].end_s]
            found["habit"] = float((hold[summary.channel] - hold["room.air.temp_c"]).mean()) - truth
        else:
            found["minutes"] = (run.phases[2].end_s - 60) / 60
            found["limit"] = run.phases[1].ended_by.startswith("time limit")
    return found


def _until(run, frame: pd.DataFrame, end_s: float):
    from dataclasses import replace

    from gelassen.core.recording.recording import Phase

    ended_by = run.phases[1].ended_by
    return replace(run, frame=frame, phases=(run.phases[0], Phase("soak", 60.0, end_s, ended_by)))


def climbing(job: tuple[Scenario, int]) -> dict[str, float]:
    """Climb to the capacity."""
    scenario, seed = job
    bench = bench_of(scenario, seed, 125.0)
    climb = ClimbPlan(
        channel="cpu.package.power_limit_w", from_w=30.0, to_w=150.0, limit_c=scenario.limit_c
    )
    peak = _Peak(bench)
    plan = RunPlan(
        phases=(PlannedPhase("idle", 60.0), PlannedPhase("soak", climb.at_most_s)), climb=climb,
        judged=Judged(reference="room.air.temp_c", limit_c=scenario.limit_c),
    )  # fmt: skip
    run = recorded(peak, plan, scenario.limit_c, "capacity")
    answer = summarise_run(run).climb
    truth = true_capacity(bench, scenario.limit_c, answer.ambient_c)
    return {
        "error": answer.power_w / truth - 1,
        "in": answer.low_w <= truth <= answer.high_w,
        "width": (answer.high_w - answer.low_w) / truth,
        "minutes": (run.phases[1].end_s - 60) / 60,
        "over": peak.hottest_c - scenario.limit_c,
        "drawn": truth >= 0.98 * most_drawn(bench),
    }


class _Peak:
    """Passes a bench on and remembers the hottest true temperature."""

    def __init__(self, bench: SimulatedBench) -> None:
        self._bench, self.hottest_c = bench, 0.0

    def __getattr__(self, name: str):
        return getattr(self._bench, name)

    def read(self):
        self.hottest_c = max(self.hottest_c, self._bench._heat.hottest_c)
        return self._bench.read()


def most_drawn(bench: SimulatedBench) -> float:
    """Return what the chip draws with no limit but its own."""
    bench._governor.power_limit_w = 400.0
    return bench.truth(room_c=20.0).power_w


def true_capacity(bench: SimulatedBench, limit_c: float, room_c: float) -> float:
    """Return the power at which the true steady temperature meets the limit."""
    low, high = 5.0, 400.0
    for _ in range(30):
        bench._governor.power_limit_w = middle = (low + high) / 2
        truth = bench.truth(room_c=room_c)
        if truth.hottest_core_c >= limit_c - 1e-3 or truth.at_limit:
            high = middle
        elif truth.power_w < middle - 1:
            return truth.power_w
        else:
            low = middle
    return low


def waiting_table(seeds: int) -> None:
    """Print how well and how fast the steady rise is known."""
    print("### Waiting until it is known to ±0.5 K, then a hold of 2 minutes\n")
    print(
        "| machine | minutes of load: median, longest | RMS error K | interval covers | when the soak "
        "ended: RMS K | covers | fixed 30 + 10 minutes, mean of the hold: RMS K |"
    )
    print("|:---|---:|---:|---:|---:|---:|---:|")
    with process_pool() as pool:
        for scenario in SCENARIOS:
            jobs = [(scenario, seed) for seed in range(seeds)]
            table = pd.DataFrame(pool.map(waiting, jobs, chunksize=2))
            print(
                f"| {scenario.name} | {table['minutes'].median():.0f}, {table['minutes'].max():.0f} | "
                f"{rms(table['gate_end']):.2f} | {100 * table['gate_end_in'].mean():.0f} % | "
                f"{rms(table['gate_stop']):.2f} | {100 * table['gate_stop_in'].mean():.0f} % | "
                f"{rms(table['habit']):.2f} |",
                flush=True,
            )


def climbing_table(seeds: int) -> None:
    """Print how well and how fast the capacity is known."""
    print("\n### Capacity from one climb\n")
    print(
        "| machine | minutes of load: median, longest | RMS error | within ±3 % | covers | median width "
        "| most above the limit K |"
    )
    print("|:---|---:|---:|---:|---:|---:|---:|")
    with process_pool() as pool:
        for scenario in SCENARIOS:
            jobs = [(scenario, seed) for seed in range(seeds)]
            table = pd.DataFrame(pool.map(climbing, jobs, chunksize=2))
            # Where the chip cannot draw what would heat it to the limit, there is no capacity to find.
            real = table[~table["drawn"].astype(bool)]
            print(
                f"| {scenario.name} | {table['minutes'].median():.0f}, {table['minutes'].max():.0f} | "
                f"{100 * rms(real['error']):.1f} % | {100 * (real['error'].abs() <= 0.03).mean():.0f} % | "
                f"{100 * real['in'].mean():.0f} % | {100 * real['width'].median():.1f} % | "
                f"{table['over'].max():+.1f} |",
                flush=True,
            )


def rms(errors: pd.Series) -> float:
    """Return the root mean square."""
    return float(np.sqrt((errors**2).mean()))


if __name__ == "__main__":
    main(__doc__, {"waiting": waiting_table, "climbing": climbing_table}, seeds=20)
