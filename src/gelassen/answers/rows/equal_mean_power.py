"""Loads that come and go draw another mean power in each run: their mean rises, at one power.

A game is played differently every time. Coolers are compared by what they do with the same heat.
"""

import math
from collections.abc import Sequence
from dataclasses import replace
from itertools import combinations
from statistics import fmean, median

from gelassen.answers.rows.run_row import RunRow
from gelassen.answers.thresholds import MeanPower
from gelassen.core.foundation.distributions import t_quantile


def at_equal_mean_power(rows: Sequence[RunRow]) -> list[RunRow]:
    """Return rows in which means under one load are those at the median of their mean powers.

    The mean rise is taken to be proportional to the mean power. What that leaves over shows as scatter
    of the repeats, and so widens what is said of the setups. Three kinds of rows stay as they are:
    those of steady loads; those of a load under which setups differ in power by more than their runs
    scatter, as that power belongs to the setup; and those of a load under which nothing was repeated, as
    then nobody can tell.

    Parameters
    ----------
    rows : sequence of RunRow
        The runs that are compared.
    """
    common: dict[str | None, float] = {}
    for load in {row.load for row in rows if _varies(row)}:
        powers: dict[str, list[float]] = {}
        for row in rows:
            if row.load == load and _varies(row) and row.power_w is not None:
                powers.setdefault(row.setup, []).append(row.power_w)
        if _by_chance(list(powers.values())):
            common[load] = median(power for own in powers.values() for power in own)
    return [
        _moved(row, common[row.load]) if _varies(row) and row.load in common else row
        for row in rows
    ]


def _varies(row: RunRow) -> bool:
    """Return whether a row is a mean rise that follows its power."""
    return (
        row.uneven and not row.at_limit and not row.levels and row.unit == "K"
        and row.value is not None and (row.power_w or 0.0) > 0
    )  # fmt: skip


def _by_chance(setups: Sequence[Sequence[float]]) -> bool:
    """Return whether mean powers differ between setups by no more than between runs of one setup."""
    logs = [[math.log(power) for power in own] for own in setups]
    freedom = sum(len(own) - 1 for own in logs)
    if not freedom:
        return False
    scatter = math.sqrt(sum((one - fmean(own)) ** 2 for own in logs for one in own) / freedom)
    pairs = list(combinations(logs, 2))
    t = float(t_quantile(1 - MeanPower.BY_CHANCE / 2 / max(len(pairs), 1), freedom))
    return all(
        abs(fmean(a) - fmean(b)) <= t * scatter * math.sqrt(1 / len(a) + 1 / len(b))
        for a, b in pairs
    )


def _moved(row: RunRow, power_w: float) -> RunRow:
    if row.value is None or row.power_w is None:
        return row
    ratio = power_w / row.power_w
    value, low, high, error = (
        None if number is None else number * ratio
        for number in (row.value, row.low, row.high, row.standard_error)
    )
    return replace(
        row, value=value, low=low, high=high, standard_error=error,
        power_w=power_w, settled_w=power_w, moved_k=(ratio - 1) * row.value,
    )  # fmt: skip
