"""Groups of setups at one point of a scale: a table of values and of differences to the least."""

from collections.abc import Mapping
from itertools import combinations
from typing import Protocol, Self, TypeVar

import pandas as pd


class Place(Protocol):
    """What is known of one group at the point."""

    @property
    def value(self) -> float:
        """The value; NaN where the group does not reach that far."""
        ...

    @property
    def levels(self) -> int:
        """How many levels of the scale, or runs, it rests on."""
        ...

    def half(self, confidence: float) -> float:
        """Return half the width of the interval."""
        ...

    def minus(self, other: Self) -> Self:
        """Return the difference to another group."""
        ...


P = TypeVar("P", bound=Place)


def equal_table(
    places: Mapping[str, P], loads: Mapping[str, str], at: float, confidence: float
) -> pd.DataFrame:
    """Return a row a group, with the difference to the group with the least value under the same load.

    Intervals of differences hold for all pairs together (Bonferroni), so the verdict is whether the
    interval leaves out 0.

    Returns
    -------
    DataFrame
        group, at, value, low, high, levels, difference, difference_low, difference_high, distinguishable.
    """
    known: dict[str, dict[str, P]] = {}
    for group, place in places.items():
        if place.value == place.value:  # not NaN
            known.setdefault(loads.get(group, ""), {})[group] = place
    pairs = max(sum(len(list(combinations(alike, 2))) for alike in known.values()), 1)
    rows = []
    for group, place in places.items():
        half = place.half(confidence)
        row = {
            "group": group, "at": at, "value": place.value, "low": place.value - half,
            "high": place.value + half, "levels": place.levels, "difference": float("nan"),
            "difference_low": float("nan"), "difference_high": float("nan"), "distinguishable": False,
        }  # fmt: skip
        alike = known.get(loads.get(group, ""), {})
        least = min(alike, key=lambda name: alike[name].value, default=None)
        if group == least:
            row["difference"] = 0.0
        elif group in alike and least is not None:
            apart = place.minus(alike[least])
            half = apart.half(1 - (1 - confidence) / pairs)
            row.update(
                difference=apart.value, difference_low=apart.value - half,
                difference_high=apart.value + half, distinguishable=abs(apart.value) > half,
            )  # fmt: skip
        rows.append(row)
    return pd.DataFrame(rows)
