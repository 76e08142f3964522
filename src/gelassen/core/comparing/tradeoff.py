"""Two goals at once, such as cool and quiet, and the setups that no other setup beats in both."""

from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import SeriesLike, as_series
from gelassen.core.foundation.result import Result


@dataclass(frozen=True, slots=True, kw_only=True)
class Tradeoff(Result):
    """Setups judged by two goals.

    Attributes
    ----------
    table : DataFrame
        setup, x, y, y_low, y_high, y_per_x, unbeaten, beaten_by; sorted by x. `beaten_by` names a setup
        that is no worse in x and, beyond its interval, better in y.
    x_name, y_name
        What is traded, each in words with its unit.
    more_y
        Whether more of y is better.
    """

    table: pd.DataFrame
    x_name: str
    y_name: str
    more_y: bool = False
    cautions: tuple[Caution, ...] = ()

    def __str__(self) -> str:
        best = ", ".join(self.table.loc[self.table["unbeaten"], "setup"])
        return "\n".join(
            [f"nothing beats: {best}", *(f"  caution: {text}" for text in self.cautions)]
        )


def tradeoff(
    setup: SeriesLike,
    x: SeriesLike,
    y: SeriesLike,
    *,
    y_low: SeriesLike | None = None,
    y_high: SeriesLike | None = None,
    x_name: str = "x",
    y_name: str = "y",
    more_x: bool = False,
    more_y: bool = False,
) -> Tradeoff:
    """Mark the setups that no other setup beats in both goals.

    Parameters
    ----------
    setup, x, y : array_like, shape (n,)
        One entry a setup. Of `x` and `y` less is better, unless `more_x` or `more_y`.
    y_low, y_high : array_like, optional
        The interval of `y`: a setup counts as beaten only where the other's whole interval is better
        than its own.
    x_name, y_name : str
        What is traded.

    Raises
    ------
    InputError
        Lengths that differ, or no setup with both.
    """
    names = [str(name) for name in np.asarray(setup, dtype=object)]
    xs = as_series("x", x)
    ys = as_series("y", y, like=xs)
    low = ys if y_low is None else np.where(np.isnan(a := np.asarray(y_low, dtype=float)), ys, a)
    high = ys if y_high is None else np.where(np.isnan(b := np.asarray(y_high, dtype=float)), ys, b)
    if len(names) != xs.size:
        raise InputError(f"setup has {len(names)} entries, x has {xs.size}")
    known = np.isfinite(xs) & np.isfinite(ys)
    cautions: list[Caution] = []
    if not known.any():
        raise InputError(f"no setup has both {x_name} and {y_name}")
    lost = [name for name, good in zip(names, known, strict=True) if not good]
    if lost:
        cautions.append(caution("not_traded", x_name=x_name, y_name=y_name, setups=", ".join(lost)))
    side_x, side_y = -1.0 if more_x else 1.0, -1.0 if more_y else 1.0
    best_low, best_high = (low, high) if side_y > 0 else (-high, -low)
    rows = []
    for k in np.flatnonzero(known):
        beaten = [
            names[j] for j in np.flatnonzero(known)
            if j != k and side_x * xs[j] <= side_x * xs[k] and best_high[j] < best_low[k]
        ]  # fmt: skip
        per = ys[k] / xs[k] if xs[k] else float("nan")
        rows.append(
            (names[k], xs[k], ys[k], low[k], high[k], per, not beaten, beaten[0] if beaten else "")
        )
    table = pd.DataFrame(
        rows,
        columns=["setup", "x", "y", "y_low", "y_high", "y_per_x", "unbeaten", "beaten_by"],
    )
    return Tradeoff(
        table=table.sort_values("x", kind="stable").reset_index(drop=True), x_name=x_name, y_name=y_name,
        more_y=more_y, cautions=tuple(cautions),
    )  # fmt: skip
