"""Loads that come and go draw another mean power in each run: their mean rises at one power.

A game is played differently every time. Coolers are compared by what they do with the same heat.
"""

import math
from collections.abc import Sequence
from dataclasses import replace
from statistics import median

from gelassen.answers.rows.run_row import RunRow
from gelassen.answers.thresholds import MeanPower


def at_equal_mean_power(rows: Sequence[RunRow]) -> list[RunRow]:
    """Return rows in which means under one load are those at the median of their mean powers.

    The mean rise is taken to be proportional to the mean power. Rows of steady loads stay as they are.
    """
    common: dict[str | None, float] = {}
    for load in {row.load for row in rows if _varies(row)}:
        powers = [row.power_w for row in rows if row.load == load and _varies(row)]
        common[load] = median(power for power in powers if power is not None)
    return [_moved(row, common[row.load]) if _varies(row) else row for row in rows]


def _varies(row: RunRow) -> bool:
    """Return whether a row is a mean rise that follows its power."""
    return (
        row.uneven and not row.at_limit and not row.levels and row.unit == "K"
        and row.value is not None and (row.power_w or 0.0) > 0
    )  # fmt: skip


def _moved(row: RunRow, power_w: float) -> RunRow:
    if row.value is None or row.power_w is None:
        return row
    if abs(math.log(power_w / row.power_w)) > MeanPower.MOST:
        return row
    ratio = power_w / row.power_w
    move_k = (ratio - 1) * row.value
    doubt_k = MeanPower.DOUBT * abs(move_k)
    value = row.value + move_k
    half = [None if end is None else abs(end - row.value) * ratio for end in (row.low, row.high)]
    low, high = (
        None if one is None else math.hypot(one, MeanPower.SIGMAS_95 * doubt_k) for one in half
    )
    error = row.standard_error
    return replace(
        row, value=value, power_w=power_w, settled_w=power_w, moved_k=move_k,
        low=None if low is None else value - low, high=None if high is None else value + high,
        standard_error=None if error is None else math.hypot(error * ratio, doubt_k),
    )  # fmt: skip
