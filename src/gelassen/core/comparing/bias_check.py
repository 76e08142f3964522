"""Differences with the effect of unlike conditions taken out: as if the runs had been alike."""

from collections.abc import Hashable, Mapping
from typing import Any

import numpy as np
import pandas as pd

from gelassen.core.comparing.comparability import Comparability
from gelassen.core.comparing.priors import Bias

# Fan speed and duty describe the same air. Work and load describe the same heat.
_SAME_PUSH = {"duty_pct": "fan_rpm", "load_pct": "work_per_s"}
_COLUMNS = (
    "setup", "versus", "difference", "low", "high", "pushed_k", "corrected", "corrected_low",
    "corrected_high", "without_odd", "may_be_that_alone", "may_hide", "by_odd_runs", "what",
)  # fmt: skip


def without_bias(differences: pd.DataFrame, found: Comparability) -> pd.DataFrame:
    """Return the differences between setups with the effect of unlike conditions taken out.

    Parameters
    ----------
    differences : DataFrame
        setup, versus, difference, low, high, distinguishable: as in `core.Comparison`.
    found : Comparability
        What differed besides the setups.

    Returns
    -------
    DataFrame
        setup, versus, difference, low, high; pushed_k, by how much the conditions are thought to have
        moved the difference; corrected, corrected_low, corrected_high, the difference without that: its
        interval allows for a push of anything from nothing to twice its size; without_odd, the difference
        without the runs that differ from others of their setup;
        may_be_that_alone, true where a difference that was told apart is not any more; may_hide, true where
        one that was not might be; by_odd_runs, true where only leaving out odd runs makes it so; what, what
        differed between the setups.
    """
    means = found.corrected.set_index("setup")
    pairs = _by_pair(found.pairs)
    rows = []
    for row in differences.to_dict("records"):
        a, b, difference = row["setup"], row["versus"], float(row["difference"])
        half = (float(row["high"]) - float(row["low"])) / 2
        if not np.isfinite(half):
            continue  # a setup at its limit, or nothing known of the scatter
        pushed, words = _pushed(pairs, a, b)
        odd = difference + _moved_by_odd(means, a) - _moved_by_odd(means, b)
        if not words and odd == difference:
            continue
        corrected, wider = difference - pushed, float(np.hypot(half, Bias.DOUBT * pushed))
        if row["distinguishable"]:
            by_push = abs(corrected) < wider or corrected * difference < 0
            by_odd = odd != difference and abs(odd) < half
        else:
            clear = max(half, abs(difference))
            by_push, by_odd = abs(corrected) > clear, abs(odd) > clear
        moved, told = by_push or by_odd, bool(row["distinguishable"])
        rows.append(
            (a, b, difference, row["low"], row["high"], pushed, corrected, corrected - wider,
             corrected + wider, odd, moved and told, moved and not told, by_odd and not by_push,
             " and ".join(words))
        )  # fmt: skip
    table = pd.DataFrame(rows, columns=list(_COLUMNS))
    return table.astype({"may_be_that_alone": bool, "may_hide": bool, "by_odd_runs": bool})


def _by_pair(pairs: pd.DataFrame) -> dict[frozenset[object], list[dict[Hashable, Any]]]:
    """Return what differed between each two setups and moves a rise."""
    found: dict[frozenset[object], list[dict[Hashable, Any]]] = {}
    for row in pairs.to_dict("records"):
        if not row["expected"] and np.isfinite(row["pushes_k"]):
            found.setdefault(frozenset((row["setup"], row["versus"])), []).append(row)
    return found


def _pushed(
    pairs: Mapping[frozenset[object], list[dict[Hashable, Any]]], a: object, b: object
) -> tuple[float, list[str]]:
    """Return by how much unlike conditions made `a` warmer than `b`, and which conditions."""
    ways = {(a, b): 1.0, (b, a): -1.0}
    total, words = 0.0, []
    mine = {row["quantity"]: row for row in pairs.get(frozenset((a, b)), [])}
    for quantity, row in mine.items():
        if _SAME_PUSH.get(quantity) in mine:
            continue
        total += ways[row["setup"], row["versus"]] * float(row["pushes_k"])
        words.append(str(row["what"]))
    return total, words


def _moved_by_odd(means: pd.DataFrame, setup: object) -> float:
    """Return how far a setup's mean moves without its odd runs; 0 if no run would remain."""
    if setup not in means.index or not means.loc[setup, "runs_left"]:
        return 0.0
    return float(means.loc[setup, "without_odd"] - means.loc[setup, "mean"])
