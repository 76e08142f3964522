"""Accuracy on simulated logs with known truth, many seeds. Run: python benchmarks/accuracy.py --seeds 300

Prints Markdown tables; with --write they take the place of those in docs/accuracy. "Ten-minute mean" is the
usual habit: the mean rise over the last ten minutes, with the interval of independent readings.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
import pandas as pd
from changing_bench import KINDS, changed_bench_row
from comparing import (
    days_table,
    difference_table,
    effects_table,
    mountings_table,
    rooms_table,
    spreads_table,
)
from distributed_bodies import beyond_table, distributed_table
from furnished import KINDS as COOLER_KINDS
from furnished import another, furnished
from further_runs import further_table
from governed_chip import Governed, governed
from late_fans import late_fans_table
from other_chip import other
from random_machines import IDLE_S as MACHINE_IDLE_S
from random_machines import Levels, Run, levels, runs
from scipy.ndimage import binary_dilation
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
from gelassen.core import (
    Recording,
    find_steps,
    find_throttling,
    steady_state,
    summarise_run,
    sustainable_power,
)

FIXED = FanCurve(name="fixed", temperatures_c=(20.0, 100.0), duties_pct=(55.0, 55.0))
IDLE_S = 120


@dataclass(frozen=True)
class Scenario:
    """One kind of run."""

    name: str
    cooler: str
    minutes: int
    power_w: float = 95.0  # at most
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
# The quick and the slow among passive blocks and loops.
MORE_SCENARIOS = (
    Scenario("large liquid loop, 20 min", "large loop", 20),
    Scenario("small passive fins, 20 min", "small fins", 20, power_w=30.0),
    Scenario("passive case, 45 min", "finned case", 45, power_w=60.0),
)


def one_run(job: tuple[Scenario, int]) -> dict[str, float]:
    """Simulate one run and analyse it."""
    scenario, seed = job
    rng = np.random.default_rng(seed)
    power_w, mean_c = float(scenario.power_w * rng.uniform(0.6, 1.0)), float(rng.uniform(17, 27))
    room = Room(
        mean_c=mean_c,
        wave_k=scenario.room_wave_k,
        wave_s=float(rng.uniform(3600, 9000)),
        phase=float(rng.random()),
    )
    warm_s = float(rng.uniform(120, 600)) if scenario.warm_start else 0.0
    bench, frame, begin = _logged(scenario, seed, power_w, room, warm_s)
    time_s = np.arange(len(frame)) + begin
    hottest = _hottest(frame)
    rise = frame[hottest] - frame["room.air.temp_c"]
    # How far it had come is that of the same machine in a room that keeps still.
    still = replace(room, wave_k=0.0, wander_k=0.0)
    twin, calm, _ = _logged(scenario, seed, power_w, still, warm_s)
    came_to = float((calm[_hottest(calm)] - calm["room.air.temp_c"]).iloc[-60:].mean())
    answer = steady_state(
        time_s,
        frame[hottest],
        reference_c=frame["room.air.temp_c"],
        power_w=frame["cpu.package.power_w"],
    )
    loaded = time_s >= begin + IDLE_S
    half = frame[time_s <= begin + IDLE_S + 30 * scenario.minutes]
    early = steady_state(
        time_s[: len(half)],
        half[hottest],
        reference_c=half["room.air.temp_c"],
        power_w=half["cpu.package.power_w"],
    )
    # Rise depends a little on the room (fans on curves, leakage): the truth is that of the mean room.
    truth = bench.truth(room_c=float(frame["room.air.temp_c"][loaded].mean())).rise_k
    last = rise.iloc[-600:]
    habit_error = 1.96 * float(last.std()) / np.sqrt(len(last))
    return {
        "error": answer.value - truth,
        "covered": answer.low <= truth <= answer.high,
        "width": answer.high - answer.low,
        "settled": abs(twin.truth().rise_k - came_to) <= 0.5,
        "reached": answer.reached,
        "half_error": early.value - truth,
        "half_covered": early.low <= truth <= early.high,
        "half_width": early.high - early.low,
        "habit": float(last.mean()) - truth,
        "habit_covered": abs(float(last.mean()) - truth) <= habit_error,
        "steps": len(find_steps(time_s[loaded], rise[loaded])),
    }


def _logged(
    scenario: Scenario, seed: int, power_w: float, room: Room, warm_s: float
) -> tuple[SimulatedBench, pd.DataFrame, float]:
    """Return a machine after its load, its log, and when that began."""
    bench = SimulatedBench(
        cooler=another(COOLER_KINDS[scenario.cooler], seed),
        curve=FIXED if scenario.fixed_fan else CURVES["on-air"],
        case=furnished(CASES["open" if seed % 2 else "closed"], seed),
        power_limit_w=power_w,
        room=room,
        seed=seed,
    )
    load = bench.load("matrix")
    if warm_s:
        load.start()
        bench.sleep(warm_s)
        load.stop()
        bench.sleep(60)
    rows, begin = [], bench.now()
    for second in range(IDLE_S + 60 * scenario.minutes):
        if second == IDLE_S:
            load.start()
        rows.append(bench.read())
        bench.sleep(1)
    return bench, pd.DataFrame(rows), begin


def _hottest(frame: pd.DataFrame) -> str:
    cores = [
        name for name in frame.columns if name.startswith("cpu.core") and name.endswith("temp_c")
    ]
    return str(frame[cores].iloc[-300:].mean().idxmax())


def _steady_row(name: str, table: pd.DataFrame) -> None:
    print(
        f"| {name} | {_rms(table['error']):.2f} | {table['error'].mean():+.2f} | "
        f"{100 * table['covered'].mean():.1f} % | {table['width'].median():.2f} | "
        f"{100 * (table['reached'] == table['settled']).mean():.1f} % | "
        f"{100 * (table['reached'] & ~table['settled']).mean():.1f} % | {table['steps'].mean():.2f} | "
        f"{_rms(table['habit']):.2f} | {100 * table['habit_covered'].mean():.0f} % |",
        flush=True,
    )


def steady_table(seeds: int) -> None:
    """Print how well the steady rise is found."""
    print("### Steady rise of the hottest core over room air\n")
    _steady_rows(SCENARIOS, seeds)


def kinds_table(seeds: int) -> None:
    """Print the same for passive blocks and loops of other sizes."""
    print("\n### Passive blocks and loops of other sizes\n")
    _steady_rows(MORE_SCENARIOS, seeds)


def _steady_rows(scenarios: Sequence[Scenario], seeds: int) -> None:
    print(
        "| runs | RMS error K | bias K | 95 % interval covers | median width K | reached: right | "
        "said wrongly | false steps a run | ten-minute mean: RMS error K | covers |"
    )
    print("|:---|---:|---:|---:|---:|---:|---:|---:|---:|---:|")
    done = []
    with process_pool() as pool:
        for scenario in scenarios:
            jobs = [(scenario, seed) for seed in range(seeds)]
            done.append(pd.DataFrame(pool.map(one_run, jobs, chunksize=4)))
            _steady_row(scenario.name, done[-1])
    half = pd.concat(done)
    _steady_row("all that settle in the log", half[half["settled"]])
    _steady_row("all that do not", half[~half["settled"]])
    _steady_row("all", half)
    known = half["half_width"] <= 2
    early = _rms(half.loc[known, "half_error"])
    print(
        f"\nFrom the first half of the load alone, all {len(half)} runs: covered "
        f"{100 * half['half_covered'].mean():.1f} %, known to ±1 K {100 * known.mean():.0f} %, their RMS "
        f"error {early:.2f} K."
    )


def random_run(job: tuple[Run, bool]) -> dict[str, object]:
    """Analyse one random machine's log, whole or only the first half of its load."""
    run, half = job
    length = run.time_s[-1] - MACHINE_IDLE_S
    use = run.time_s <= (MACHINE_IDLE_S + length / 2 if half else np.inf)
    answer = steady_state(
        run.time_s[use],
        run.temperature_c[use],
        reference_c=run.room_c[use],
        power_w=run.power_w[use],
    )
    late = run.time_s >= max(run.time_s[-1] - 600, MACHINE_IDLE_S + 60)
    rise = run.temperature_c - run.room_c
    settled = abs(run.missing_k) <= 0.5
    kind = "first half of the load only" if half else "settled in the log" if settled else "not"
    return {
        "kind": kind,
        "fan on a curve": run.on_curve,
        "passive": run.kind == "passive",
        "starts warm": run.warm,
        "error": answer.value - run.rise_k,
        "covered": answer.low <= run.rise_k <= answer.high,
        "width": answer.high - answer.low,
        "right": answer.reached == settled,
        "wrong_yes": answer.reached and not settled,
        "habit": float(rise[late].mean()) - run.rise_k,
        "steps": 0 if half else len(find_steps(run.time_s, rise)),
    }


def over_coolant(run: Run) -> dict[str, object]:
    """Analyse one loop's rise over its coolant, which warms by far more than a room does."""
    answer = steady_state(
        run.time_s, run.temperature_c, reference_c=run.coolant_c, power_w=run.power_w
    )
    late = run.time_s >= max(run.time_s[-1] - 600, MACHINE_IDLE_S + 60)
    return {
        "error": answer.value - run.over_coolant_k,
        "covered": answer.low <= run.over_coolant_k <= answer.high,
        "width": answer.high - answer.low,
        "habit": float((run.temperature_c - run.coolant_c)[late].mean()) - run.over_coolant_k,
    }


def random_table(seeds: int) -> None:
    """Print how well the steady rise of machines of many kinds is found."""
    print(
        "\n### Steady rise on random machines (fast and slow, fans, curves, passive, warm starts)\n"
    )
    print(
        "| runs | how many | RMS error K | bias K | covers | median width K | known to ±1 K | their RMS "
        "error K | reached: right | said wrongly | false steps a run | ten-minute mean: RMS error K |"
    )
    print("|:---|" + "---:|" * 11)
    logs = [run for part in range(max(seeds // 100, 1)) for run in runs(part, min(3 * seeds, 300))]
    with process_pool() as pool:
        jobs = [(run, half) for half in (False, True) for run in logs]
        table = pd.DataFrame(pool.map(random_run, jobs, chunksize=8))
        loops = [run for run in logs if run.kind == "liquid"]
        coolant = pd.DataFrame(pool.map(over_coolant, loops, chunksize=8))
    whole = table["kind"] != "first half of the load only"
    parts = {
        "settled in the log": table["kind"] == "settled in the log",
        "not settled in the log": table["kind"] == "not",
        **{f"both: {kind}": whole & table[kind] for kind in ("fan on a curve", "passive")},
        "both: starts warm": whole & table["starts warm"],
        "first half of the load only": ~whole,
    }
    for name, rows in parts.items():
        part = table[rows]
        known = part["width"] <= 2
        half = name.startswith("first half")
        print(
            f"| {name} | {len(part)} | {_rms(part['error']):.2f} | {part['error'].mean():+.2f} | "
            f"{100 * part['covered'].mean():.1f} % | {part['width'].median():.2f} | "
            f"{100 * known.mean():.0f} % | {_rms(part.loc[known, 'error']):.2f} | "
            + (
                "| | | |"
                if half
                else f"{100 * part['right'].mean():.1f} % | {100 * part['wrong_yes'].mean():.1f} % | "
                f"{part['steps'].mean():.2f} | {_rms(part['habit']):.2f} |"
            ),
            flush=True,
        )
    known = coolant["width"] <= 2
    print(
        f"| liquid loops over their coolant | {len(coolant)} | {_rms(coolant['error']):.2f} | "
        f"{coolant['error'].mean():+.2f} | {100 * coolant['covered'].mean():.1f} % | "
        f"{coolant['width'].median():.2f} | {100 * known.mean():.0f} % | "
        f"{_rms(coolant.loc[known, 'error']):.2f} | | | | {_rms(coolant['habit']):.2f} |",
        flush=True,
    )


def _rms(errors: "pd.Series[float]") -> float:
    return float(np.sqrt((errors.astype(float) ** 2).mean()))


def changed_run(job: tuple[str, Run]) -> dict[str, object]:
    """Look for a change of power or air in mid-run, in the rise alone or in a whole run with its power."""
    what, run = job
    if what.endswith(", logged"):
        found = summarise_run(_recorded(run)).steps
    else:
        found = find_steps(run.time_s, run.temperature_c - run.room_c)
    away = min((abs(step.at_s - run.change_s) for step in found), default=np.inf)
    around_s = min(run.change_s - MACHINE_IDLE_S, run.time_s[-1] - run.change_s)
    return {
        "what": what,
        "size": abs(run.change_k),
        "shows": around_s >= 2 * run.slow_s,
        "found": away <= max(15, run.slow_s / 10),
        "covered": any(step.low_s <= run.change_s <= step.high_s for step in found),
        "false": len(found) - (away <= max(60, run.slow_s / 5)),
    }


def _recorded(run: Run) -> Recording:
    frame = pd.DataFrame(
        {
            "cpu.package.temp_c": run.temperature_c,
            "room.air.temp_c": run.room_c,
            "cpu.package.power_w": run.power_w,
        },
        index=pd.Index(run.time_s, name="t_s"),
    )
    return Recording(frame=frame)


def steps_table(seeds: int) -> None:
    """Print how often changes of power and of the way of the air are found."""
    print("\n### Changes in mid-run (random machines whose power does not wander by 2 %)\n")
    print(
        "Found: within 15 s, or a tenth of the slowest time constant. In time: two of these time "
        "constants of load before the change, and two after it.\n"
    )
    print("| what changed, by how much | runs | found | interval covers | false ones a run |")
    print("|:---|---:|---:|---:|---:|")
    jobs = [
        (what, run)
        for what in ("power", "air")
        for run in runs(7, 2 * seeds, change=what)
        if run.wander < 0.01
    ]
    jobs += [(f"{what}, logged", run) for what, run in jobs]
    with process_pool() as pool:
        table = pd.DataFrame(pool.map(changed_run, jobs, chunksize=8))
    for what, words in (
        ("power", "power (fast)"),
        ("power, logged", "power that was logged"),
        ("air", "way of the air (slow)"),
        ("air, logged", "way of the air, power logged"),
    ):
        mine = table[table["what"] == what]
        parts = {"2 K or more, in time": (mine["size"] >= 2) & mine["shows"]}
        for low, high in ((0, 2), (2, 4), (4, 8), (8, 1000)):
            name = f"{low} to {high} K" if high < 1000 else f"{low} K or more"
            parts[name] = (mine["size"] >= low) & (mine["size"] < high)
        for name, chosen in parts.items():
            part = mine[chosen]
            print(
                f"| {words}: {name} | {len(part)} | {100 * part['found'].mean():.0f} % | "
                f"{100 * part['covered'].mean():.0f} % | {part['false'].mean():.2f} |"
            )


def bench_steps_table(seeds: int) -> None:
    """Print how often changes on the simulated bench are found, all channels logged."""
    print("\n### Changes in mid-run on the simulated bench (whole runs, all channels logged)\n")
    print(
        "Found: within 15 s. Covered: where it settles after the change, of runs not at their limit.\n"
    )
    print(
        "| what changed, by 2 K or more | runs | found | false ones a run | where it settles: covered |"
    )
    print("|:---|---:|---:|---:|---:|")
    jobs = [
        (kind, cooler, seed)
        for kind in KINDS
        for cooler in COOLERS
        for seed in range(max(seeds // len(COOLERS) // len(KINDS), 2))
        if not (cooler == "Steg" and kind.startswith("fan"))
    ]
    with process_pool() as pool:
        table = pd.DataFrame(pool.map(changed_bench_row, jobs, chunksize=4))
    large = table[table["size"] >= 2]
    for kind in (*KINDS, "all"):
        part = large if kind == "all" else large[large["kind"] == kind]
        free = part[part["free"]]
        covered = f"{100 * free['covered'].mean():.0f} %" if len(free) else "–"
        print(
            f"| {kind} | {len(part)} | {100 * part['found'].mean():.0f} % | {part['false'].mean():.2f} | "
            f"{covered} |"
        )


def governed_run(job: tuple[int, bool, Callable[[int], Governed]]) -> dict[str, object]:
    """Count right and wrong samples, 5 s of tolerance at the edges."""
    seed, told, make = job
    chip = make(seed)
    limit = {"power_limit_w": chip.power_limit_w} if told and chip.power_limit_w < 1e6 else {}
    answer = find_throttling(**chip.log, **limit)
    counts: dict[str, object] = {"case": chip.case, "told": told}
    near = max(round(5 / chip.every_s), 1)
    for name, truth, found in (
        ("heat", chip.by_heat, answer.thermal),
        ("power", chip.by_power, answer.power),
    ):
        counts[f"{name} hit"] = int((found & binary_dilation(truth, iterations=near)).sum())
        counts[f"{name} false"] = int((found & ~binary_dilation(truth, iterations=near)).sum())
        counts[f"{name} missed"] = int((truth & ~binary_dilation(found, iterations=near)).sum())
    counts["loaded"] = int((chip.log["load_pct"] > 50).sum())
    return counts


def throttling_table(seeds: int) -> None:
    """Print how well being held back is told, by cause, and what is flagged wrongly."""
    held_back_table(seeds, governed)


def other_chips_table(seeds: int) -> None:
    """Print the same for chips of a kind on which no constant was chosen."""
    held_back_table(seeds, other)


def held_back_table(seeds: int, make: Callable[[int], Governed]) -> None:
    """Print how well being held back is told for chips of one kind."""
    print("\n### Being held back (made-up governors, per sample, 5 s of tolerance)\n")
    print(
        "| power limit | held back by heat: F1 | by a power limit: F1 | wrongly flagged in free runs |"
    )
    print("|:---|---:|---:|---:|")
    with process_pool() as pool:
        jobs = [(seed, told, make) for seed in range(seeds) for told in (False, True)]
        table = pd.DataFrame(pool.map(governed_run, jobs, chunksize=8))
    early = table["case"].isin(["power", "power loop"])
    for name, part in (
        ("not told, sets in later if at all", table[~table["told"] & ~early]),
        ("not told, from the first second", table[~table["told"] & early]),
        ("told", table[table["told"]]),
    ):
        scores = []
        for cause in ("heat", "power"):
            hit, false, missed = (
                part[f"{cause} {what}"].sum() for what in ("hit", "false", "missed")
            )
            scores.append(f"{2 * hit / (2 * hit + false + missed):.3f}" if hit else "–")
        free = part[part["case"].str.startswith("free")]
        wrong = (free["heat false"] + free["power false"]).sum()
        share = f"{100 * wrong / free['loaded'].sum():.2f} %" if len(free) else "–"
        print(f"| {name} | {scores[0]} | {scores[1]} | {share} |")


def made_levels(seed: int) -> list[Levels]:
    """Return the levels of 250 random coolers: as many take hardly longer than a few."""
    return levels(seed, 250)


def random_capacity_table(seeds: int) -> None:
    """Print how well the capacity of coolers of many kinds is found from four or five levels."""
    print("\n## Capacity of random coolers from four or five levels\n")
    print(
        "Levels from a third of the capacity to 75 to 100 % of it, rises known to 0.3 K, room 25 °C, "
        "limit 95 °C.\n"
    )
    print(
        "| coolers | how many | fan speeds known: RMS error | bias | covers | median width | not known: "
        "RMS error | bias | covers | median width |"
    )
    print("|:---|" + "---:|" * 9)
    with process_pool() as pool:
        made = [
            one
            for part in pool.map(made_levels, range(20, 20 + max(seeds // 150, 1)))
            for one in part
        ]
    rng = np.random.default_rng(1)
    rows = []
    for one in made:
        noisy = one.rise_k + rng.normal(0, 0.3, one.rise_k.size)
        row: dict[str, object] = {"kind": one.kind}
        for known in (True, False):
            answer = sustainable_power(
                one.power_w, noisy, rise_se_k=np.full(noisy.size, 0.3), limit_c=95.0,
                fan_rpm=2000 * one.fan if known else None, full_speed_rpm=2000 if known else None,
            )  # fmt: skip
            row[f"error {known}"] = answer.power_w / one.capacity_w - 1
            row[f"covered {known}"] = answer.low_w <= one.capacity_w <= answer.high_w
            row[f"width {known}"] = (answer.high_w - answer.low_w) / one.capacity_w
        rows.append(row)
    table = pd.DataFrame(rows)
    for name, part in [("all", table), *table.groupby("kind")]:
        cells = [
            f"{100 * _rms(part[f'error {known}']):.1f} % | {100 * part[f'error {known}'].mean():+.1f} % | "
            f"{100 * part[f'covered {known}'].mean():.0f} % | "
            f"{100 * part[f'width {known}'].median():.1f} %"
            for known in (True, False)
        ]
        print(f"| {name} | {len(part)} | {' | '.join(cells)} |", flush=True)


def capacity_table(seeds: int) -> None:
    """Print how well the capacity is found from four levels of a simulated cooler."""
    print("\n### Capacity from four power levels (rises known to 0.3 K, fan speeds known)\n")
    print(
        "| cooler | truth W | RMS error | 95 % interval covers | median width | straight line: RMS |"
    )
    print("|:---|---:|---:|---:|---:|---:|")
    cases = (
        ("Brise 120", True, (45.0, 65.0, 95.0, 125.0)),
        ("Brise 120", False, (45.0, 65.0, 95.0, 125.0)),
        ("Kiesel 92", False, (35.0, 50.0, 70.0, 90.0)),
        ("Tarn 240", False, (65.0, 90.0, 115.0, 140.0)),
        ("Steg", True, (20.0, 35.0, 50.0, 65.0)),
    )
    for cooler, fixed, watts in cases:

        def rise(
            power_w: float, cooler: str = cooler, fixed: bool = fixed
        ) -> tuple[float, float, float]:
            truth = SimulatedBench(
                cooler=COOLERS[cooler],
                curve=FIXED if fixed else CURVES["on-air"],
                power_limit_w=power_w,
                room=Room(mean_c=25.0),
                processor=Processor(effective_capacitance_nf=2.4),
                remount_spread=0.0,
            ).truth()
            return truth.power_w, truth.rise_k, truth.fan_rpm

        points = np.array([rise(level) for level in watts])
        truth = rise(400.0)[0]  # no limit but the temperature's
        rng = np.random.default_rng(1)
        errors, covered, widths, lines = [], [], [], []
        for _ in range(2 * seeds):
            seen = points[:, 1] + rng.normal(0, 0.3, len(points))
            answer = sustainable_power(
                points[:, 0], seen, rise_se_k=np.full(len(points), 0.3), limit_c=95,
                fan_rpm=points[:, 2],
            )  # fmt: skip
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


TABLES = {
    "steady": steady_table,
    "kinds": kinds_table,
    "random": random_table,
    "distributed": distributed_table,
    "late-fans": late_fans_table,
    "steps": steps_table,
    "bench-steps": bench_steps_table,
    "throttling": throttling_table,
    "other chips": other_chips_table,
    "differences": difference_table,
    "spreads": spreads_table,
    "mountings": mountings_table,
    "rooms": rooms_table,
    "days": days_table,
    "effects": effects_table,
    "further": further_table,
    "coolers": random_capacity_table,
    "capacity": capacity_table,
    "beyond": beyond_table,
}

if __name__ == "__main__":
    main(__doc__, TABLES, seeds=100)
