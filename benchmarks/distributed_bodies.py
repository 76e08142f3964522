"""Tables of steady states and capacities on machines of distributed bodies."""

import numpy as np
import pandas as pd
from distributed_machines import IDLE_S, Log, capacities, logs

from gelassen.answers.workers.pool import process_pool
from gelassen.core import steady_state, sustainable_power


def _answered(job: tuple[Log, float]) -> dict[str, object]:
    """Analyse one log, whole or the first part of its load."""
    log, share = job
    use = log.time_s <= IDLE_S + share * (log.time_s[-1] - IDLE_S)
    answer = steady_state(
        log.time_s[use],
        log.temperature_c[use],
        reference_c=log.room_c[use],
        power_w=None if log.power_w is None else log.power_w[use],
    )
    return {
        "load": log.load if log.load != "irregular" or log.power_w is not None else "not logged",
        "by": log.cooled_by,
        "cabinet": log.in_cabinet,
        "share": share,
        "error": answer.value - log.rise_k,
        "covered": answer.low <= log.rise_k <= answer.high,
        "width": answer.high - answer.low,
    }


def distributed_table(seeds: int) -> None:
    """Print how well steady states are found on machines of another model."""
    print("\n### Machines of distributed bodies, in rooms that are lived in\n")
    print("| runs | how many | median error K | covers | median width K |")
    print("|:---|---:|---:|---:|---:|")
    made = [log for seed in range(max(seeds // 100, 1)) for log in logs(seed, min(seeds, 100))]
    jobs = [
        (log, share)
        for share in (1.0, 0.5, 0.25)
        for log in made
        if share == 1 or log.load != "irregular"  # the mean of a part is another one
    ]
    with process_pool() as pool:
        table = pd.DataFrame(pool.map(_answered, jobs, chunksize=8))
    whole, constant = table["share"] == 1, table["load"] == "constant"
    parts = {
        "constant load": whole & constant,
        "constant load, in a cabinet": whole & constant & table["cabinet"],
        "constant load, fan in steps": whole & constant & (table["by"] == "stepped fan"),
        "constant load, first half": (table["share"] == 0.5) & constant,
        "constant load, first quarter": (table["share"] == 0.25) & constant,
        "periodic load": whole & (table["load"] == "periodic"),
        "irregular load": whole & (table["load"] == "irregular"),
        "irregular load, power not logged": whole & (table["load"] == "not logged"),
    }
    for name, rows in parts.items():
        part = table[rows]
        print(
            f"| {name} | {len(part)} | {part['error'].abs().median():.2f} | "
            f"{100 * part['covered'].mean():.1f} % | {part['width'].median():.2f} |",
            flush=True,
        )


def beyond_table(seeds: int) -> None:
    """Print how well capacities are found from levels that end far below them."""
    print("\n### Capacity of machines whose heat pipes dry out\n")
    print(
        "| highest level, share of the capacity | how many | median error | covers | below the interval |"
    )
    print("|:---|---:|---:|---:|---:|")
    rows = []
    for machine in capacities(2, seeds):
        found = sustainable_power(
            machine.power_w, machine.rise_k, rise_se_k=np.full(4, 0.3), limit_c=95.0
        )
        truth = machine.capacity_w
        rows.append(
            {
                "top": machine.power_w.max() / truth,
                "error": abs(found.power_w / truth - 1),
                "covered": found.low_w <= truth <= found.high_w,
                "below": truth < found.low_w,
            }
        )
    table = pd.DataFrame(rows)
    for low, high in ((0.0, 0.65), (0.65, 0.8), (0.8, 1.0), (0.0, 1.0)):
        part = table[(table["top"] > low) & (table["top"] <= high)]
        print(
            f"| {100 * low:.0f} to {100 * high:.0f} % | {len(part)} | "
            f"{100 * part['error'].median():.1f} % | "
            f"{100 * part['covered'].mean():.0f} % | {100 * part['below'].mean():.0f} % |"
        )
