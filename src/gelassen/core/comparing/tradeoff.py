"""Two goals at once, such as cool and quiet, and the setups that no other setup beats in both."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.comparing.priors import Work
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Bools, Floats, SeriesLike, as_series
from gelassen.core.foundation.result import Result


@dataclass(frozen=True, slots=True, kw_only=True)
class Tradeoff(Result):
    """Setups judged by two goals.

    Attributes
    ----------
    table : DataFrame
        setup, x, y, y_low, y_high, y_per_x, unbeaten, beaten_by, no_gain_over, less_work, x_per_gain;
        sorted by x. `beaten_by` names a setup that is no worse in x and surely better in y;
        `no_gain_over` one that is better in x while nothing shows that this one is better in y. Neither
        is called unbeaten, nor is a setup that does less work (`less_work`). `x_per_gain` is what each
        unit of y gained over the baseline costs in x; NaN without a gain.
    x_name, y_name
        What is traded, each in words with its unit.
    more_y
        Whether more of y is better.
    x_words
        What x says where it is a place on a scale of words, from 1: a difference then has no size.
    """

    table: pd.DataFrame
    x_name: str
    y_name: str
    more_y: bool = False
    cautions: tuple[Caution, ...] = ()
    baseline: str | None = None
    x_words: tuple[str, ...] = ()

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
    groups: Sequence[str] | None = None,
    work: SeriesLike | None = None,
    baseline: str | None = None,
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
    groups : sequence of str, optional
        Letters of a comparison of `y`: setups that share one cannot be told apart. They decide in
        place of the intervals.
    work : array_like, optional
        What each setup did, such as its power: one that did clearly less is not called unbeaten.
    baseline : str, optional
        The setup that gains are counted from.

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

    def better(j: int, k: int) -> bool:
        """Return whether `j` is surely better in y than `k`."""
        if groups is None:
            return bool(best_high[j] < best_low[k])
        return not set(groups[j]) & set(groups[k]) and bool(side_y * ys[j] < side_y * ys[k])

    worth = _Worth(names, side_x * xs, side_y * ys, better, _does_less(work, len(names)))
    base = names.index(baseline) if baseline in names else None
    traded = [int(k) for k in np.flatnonzero(known)]
    rows = []
    for k in traded:
        per = ys[k] / xs[k] if xs[k] else float("nan")
        rows.append((names[k], xs[k], ys[k], low[k], high[k], per, *worth.of(k, traded, base)))
    table = pd.DataFrame(
        rows,
        columns=["setup", "x", "y", "y_low", "y_high", "y_per_x", "unbeaten", "beaten_by",
                 "no_gain_over", "less_work", "x_per_gain"],
    )  # fmt: skip
    return Tradeoff(
        table=table.sort_values("x", kind="stable").reset_index(drop=True), x_name=x_name, y_name=y_name,
        more_y=more_y, cautions=tuple(cautions), baseline=baseline if base is not None else None,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Worth:
    """What a setup is worth beside the others; of both goals, less is better here."""

    names: list[str]
    x: Floats
    y: Floats
    better: Callable[[int, int], bool]
    lazy: Bools

    def of(
        self, k: int, traded: Sequence[int], base: int | None
    ) -> tuple[bool, str, str, bool, float]:
        """Return unbeaten, beaten_by, no_gain_over, less_work and x_per_gain."""
        others = [j for j in traded if j != k and not self.lazy[j]]
        beaten = [j for j in others if self.x[j] <= self.x[k] and self.better(j, k)]
        no_gain = [j for j in others if self.x[j] < self.x[k] and not self.better(k, j)]
        lazy = bool(self.lazy[k])
        per_gain = float("nan")
        if base is not None and not lazy and self.better(k, base) and self.y[base] > self.y[k]:
            per_gain = float((self.x[k] - self.x[base]) / (self.y[base] - self.y[k]))
        named = [self.names[found[0]] if found else "" for found in (beaten, no_gain)]
        return not (beaten or no_gain or lazy), named[0], named[1], lazy, per_gain


def _does_less(work: SeriesLike | None, count: int) -> Bools:
    """Return which setups did clearly less work than most did."""
    if work is None:
        return np.zeros(count, dtype=bool)
    done = as_series("work", work)
    if not np.isfinite(done).any():
        return np.zeros(count, dtype=bool)
    return np.asarray(done < (1 - Work.ALIKE) * np.nanmax(done))
