"""How often the further runs that a comparison asks for settle it."""

import numpy as np
import pandas as pd

from gelassen.answers.workers.pool import process_pool
from gelassen.core import compare_setups
from gelassen.core.comparing.priors import Spread

_MATTERS_K = 1.0
_DRAWN = 400  # runs made up for each setup: more than are ever asked for


def further_runs(seed: int) -> tuple[float, str]:
    """Return the scatter of a rig, and what became of two setups that lie 1 K apart."""
    rng = np.random.default_rng(seed)
    count, runs = int(rng.integers(2, 7)), int(rng.integers(2, 4))
    spread = float(rng.choice([0.1, 0.3, 0.5, 1.0, 1.5]))
    true = np.concatenate([[0.0, _MATTERS_K], rng.uniform(-3, 3, count - 2)])
    values = 50 + true[:, None] + rng.normal(0, spread, (count, _DRAWN))

    def first_two(each: list[int]) -> pd.Series:
        table = pd.DataFrame(
            {
                "setup": np.repeat([f"setup {k}" for k in range(count)], each),
                "value": np.concatenate([values[k, :n] for k, n in enumerate(each)]),
                "standard_error": 0.05,
            }
        )
        rows = compare_setups(table, usual_spread=Spread.STANDS_IN_K).differences
        pair = {"setup 0", "setup 1"}
        return rows[
            [{a, b} == pair for a, b in zip(rows["setup"], rows["versus"], strict=True)]
        ].iloc[0]

    row = first_two([runs] * count)
    if row["distinguishable"]:
        return spread, "told already"
    if not np.isfinite(row["runs_needed"]):
        return spread, "none is said"
    more = runs + int(row["runs_needed"])
    settled = first_two([more, more, *[runs] * (count - 2)])["distinguishable"]
    return spread, "settled" if settled else "not settled"


def further_table(seeds: int) -> None:
    """Print how often the further runs settle it, by the scatter of the rig."""
    print(
        "| runs of a setup scatter by | told already | no number is said | further runs settle it |"
    )
    print("|:---|---:|---:|---:|")
    with process_pool() as pool:
        made = pool.map(further_runs, range(10 * seeds), chunksize=20)
        table = pd.DataFrame(made, columns=["spread", "became"])
    parts = [(f"{spread:g} K", part) for spread, part in table.groupby("spread")]
    for words, part in [*parts, ("all", table)]:
        shares = part["became"].value_counts(normalize=True)
        asked = part[part["became"].isin(["settled", "not settled"])]
        settled = f"{100 * (asked['became'] == 'settled').mean():.0f} %" if len(asked) > 20 else "–"
        print(
            f"| {words} | {100 * shares.get('told already', 0):.0f} % | "
            f"{100 * shares.get('none is said', 0):.0f} % | {settled} |"
        )
