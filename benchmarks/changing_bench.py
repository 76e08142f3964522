"""Runs of the simulated bench whose conditions change in mid-run: door, fans, cores. All is logged."""

from dataclasses import dataclass, replace

import numpy as np
import pandas as pd
from furnished import furnished

from gelassen.bench.simulated import CASES, COOLERS, CURVES, FanCurve, SimulatedBench
from gelassen.core import Recording, summarise_run

KINDS = (
    "door opened",
    "door closed",
    "fan slowed down",
    "fan stopped",
    "four cores fewer",
    "seven cores more",
)
# Within so many seconds of its moment, a change is found.
IN_TIME_S = 15.0


@dataclass(frozen=True, slots=True)
class ChangedRun:
    """One such run, and what is true of it."""

    recording: Recording
    change_s: float
    size_k: float  # by how much the steady rise changed
    rise_k: float  # after the change
    at_limit: bool  # the limit holds it there


def changed_bench(kind: str, cooler: str, seed: int) -> ChangedRun:
    """Make one run of 30 to 60 minutes."""
    rng = np.random.default_rng([seed, KINDS.index(kind), list(COOLERS).index(cooler)])
    duty = rng.uniform(40, 100)
    steady = FanCurve(name="steady", duties_pct=(duty,) * 4)
    limit_w = rng.uniform(45, 110) if cooler != "Steg" else rng.uniform(25, 60)
    fans_move = kind.startswith("fan") or rng.random() < 0.5
    bench = SimulatedBench(
        cooler=COOLERS[cooler],
        curve=steady if fans_move else CURVES["on-air"],
        power_limit_w=limit_w,
        case=furnished(CASES["open" if kind == "door closed" else "closed"], seed),
        seed=seed,
    )
    end_s = rng.uniform(1800, 3600)
    change_s = 120 + (end_s - 120) * rng.uniform(0.4, 0.6)
    interval_s = rng.choice([1.0, 1.0, 2.0, 5.0])
    load = bench.load("matrix", workers=5 if kind == "seven cores more" else 12)
    rows: list[dict[str, float]] = []
    times: list[float] = []

    def log_until(until_s: float) -> None:
        while bench.now() < until_s:
            bench.sleep(interval_s)
            times.append(bench.now())
            rows.append(dict(bench.read()))

    log_until(120)
    load.start()
    log_until(change_s)
    change_s, before = bench.now(), bench.truth()
    if kind.startswith("door"):
        door = kind.removeprefix("door ").replace("opened", "open")
        bench.change(case=furnished(CASES[door], seed))
    elif kind.startswith("fan"):
        slower = duty * rng.uniform(0.4, 0.8) if kind == "fan slowed down" else 0.0
        bench.change(curve=replace(steady, duties_pct=(slower,) * 4))
    else:
        bench.work_on(8 if kind == "four cores fewer" else 12)
    after = bench.truth()
    log_until(end_s)
    frame = pd.DataFrame(rows, index=pd.Index(times, name="t_s"))
    recording = Recording(frame=frame, limit_c=95.0, made_up=True)
    size_k = after.rise_k - before.rise_k
    return ChangedRun(recording, change_s, size_k, after.rise_k, after.at_limit)


def changed_bench_row(job: tuple[str, str, int]) -> dict[str, object]:
    """Summarise one such run and say what was found."""
    run = changed_bench(*job)
    summary = summarise_run(run.recording)
    away = [step.at_s - run.change_s for step in summary.steps]
    steady = summary.steady
    assert steady is not None
    at_limit = summary.throttling is not None and summary.throttling.at_limit
    return {
        "kind": job[0],
        "size": abs(run.size_k),
        "found": any(abs(one) <= IN_TIME_S for one in away),
        "false": sum(abs(one) > 90 for one in away),
        # Where it would rest is not where the limit will hold it, though the log ends before that.
        "free": not at_limit and not run.at_limit,
        "error": steady.value - run.rise_k,
        "covered": steady.low <= run.rise_k <= steady.high,
    }
