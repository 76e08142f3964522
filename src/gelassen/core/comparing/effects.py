"""The effect of each factor by itself, and how it depends on another factor."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import combinations, product

import numpy as np
import pandas as pd

from gelassen.core.comparing.fit_runs import RUN_COLUMNS, Beside, fit_runs
from gelassen.core.comparing.joint import Joint, joint_differences, matching
from gelassen.core.comparing.setup_means import SetupFit
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.distributions import t_beyond, t_quantile
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats, as_confidence
from gelassen.core.foundation.result import Result
from gelassen.core.foundation.spelling import nearest


@dataclass(frozen=True, slots=True, kw_only=True)
class Effects(Result):
    """The effects of factors, in the unit of the values.

    Attributes
    ----------
    main : DataFrame
        factor, level, versus, effect, low, high, p_value, distinguishable, depends, least, most: what
        changing the factor from `versus` to `level` does, averaged evenly over the combinations of the
        other factors that were run with both. If it `depends` on them beyond chance, the interval holds
        the effects of all combinations, which go from `least` to `most`. The intervals of each factor hold
        together for all of its levels, and for the number of factors.
    interactions : DataFrame
        factor, level, versus, other, other_level, other_versus, effect, low, high, p_value,
        distinguishable: by how much that change does more at `other_level` than at `other_versus`.
    conditional : DataFrame
        factor, level, versus, where, other_levels, effect, low, high, p_value, distinguishable: the same
        change at one combination of the other factors, in words and as a tuple. Its interval holds for
        all pairs of combinations, as in a comparison of these.
    spread
        Standard deviation between runs of one combination; NaN if it could not be found.
    room_effect, room_c
        As in `Comparison`.
    """

    main: pd.DataFrame
    interactions: pd.DataFrame
    conditional: pd.DataFrame
    spread: float
    freedom: float
    confidence: float
    cautions: tuple[Caution, ...] = ()
    room_effect: tuple[float, float, float] | None = None
    room_c: float = float("nan")

    def __str__(self) -> str:
        lines = [
            f"{row.factor}: {row.level} instead of {row.versus}: {row.effect:+.1f} "
            f"({row.low:+.1f} to {row.high:+.1f})"
            for row in self.main.itertuples()
        ]
        return "\n".join([*lines, *(f"  caution: {text}" for text in self.cautions)])


_VERDICT = ["effect", "low", "high", "p_value", "distinguishable"]


def factor_effects(
    runs: pd.DataFrame,
    factors: Sequence[str],
    *,
    value: str = "value",
    confidence: float = 0.95,
    repeatability: tuple[float, float] | None = None,
    usual_spread: tuple[float, float] | None = None,
    day_spread: float | None = None,
    room_effect: tuple[float, float] | None = None,
) -> Effects:
    """Find main effects and interactions.

    Parameters
    ----------
    runs : DataFrame
        One row a run: a column with the value and one with the level of each factor. Combinations
        may have different numbers of runs. `at_limit` (if there is that column) marks runs whose value is
        a lower bound. What else is known of the runs stands in columns as in `fit_runs`: standard_error,
        mount, day and so on.
    factors : sequence of str
        Columns of the factors.
    value : str
        Column of the value.
    confidence : float
        For all intervals.
    repeatability, usual_spread, day_spread, room_effect
        As in `compare_setups`.

    Raises
    ------
    InputError
        Unknown columns, a factor with one level, no run.

    Notes
    -----
    Means of all combinations from the fit that also compares setups (`fit_runs.py`). Effects are
    contrasts of these means with equal weights (Yates' weighted squares of means [1]_), so that unequal
    numbers of runs do not tilt them. Where combinations are empty, the others tell: effects are means
    over those that were run with both levels. If there are none, effects are taken to add up, and that
    is said. Runs that were all at their limit (`at_limit`) are lower bounds.

    Intervals and verdicts come from the procedure that judges setups (`joint.py`): over the levels of
    each factor for main effects, at a level divided by the number of factors (Bonferroni), and over all
    combinations for the effects at one of them. Interactions are judged in steps (Holm). Where runs share
    mountings, what another mounting adds is a part of its own (`core/comparing/mounting.py`): effects of
    what was changed on one mounting are free of it.

    References
    ----------
    .. [1] F. Yates, J. Am. Stat. Assoc. 29, 51 (1934).
    """
    level = as_confidence(confidence)
    table, cautions = _checked(runs, factors, value)
    levels = {factor: list(dict.fromkeys(table[factor])) for factor in factors}
    free = table[~table["at_limit"]].reset_index(drop=True)
    bounds = _bounds(table, factors, value)
    every = list(product(*levels.values()))
    filled = {tuple(map(str, row)) for row in free[list(factors)].to_numpy()}
    filled_in_order = [cell for cell in every if cell in filled]
    empty = [cell for cell in every if cell not in filled]
    if not filled_in_order:
        raise InputError("every run was at its limit: there is no effect to tell")
    table_of = _Cells(levels, filled_in_order, additive=False)
    lone = [change for change in table_of.changes() if not table_of.shared(*change)]
    additive = bool(lone) and len(lone) == len(list(table_of.changes()))
    if additive:
        table_of = _Cells(levels, filled_in_order, additive=True)
    if empty:
        shown = "; ".join(", ".join(cell) for cell in empty[:3]) + (" …" if len(empty) > 3 else "")
        code = "effects_add_up" if additive else "empty_combinations"
        cautions.append(caution(code, count=len(empty), all=len(every), shown=shown))
    beside = Beside(
        repeatability=repeatability, usual_spread=usual_spread, day_spread=day_spread,
        room_effect=room_effect,
    )  # fmt: skip
    fit, said = _fit_cells(free, factors, value, table_of, beside)
    cautions += said
    model = _Fit(fit, level)
    conditional = pd.DataFrame(
        [] if additive or len(factors) < 2 else _conditional(table_of, model, bounds),
        columns=["factor", "level", "versus", "where", "other_levels", *_VERDICT],
    )
    main = _main(table_of, model, conditional)
    return Effects(
        main=main, interactions=_interactions(table_of, model), conditional=conditional,
        spread=fit.spread, freedom=float(fit.degrees),
        confidence=level,
        cautions=tuple(cautions),
        room_effect=fit.room_effect(level), room_c=fit.room_c,
    )  # fmt: skip


def _bounds(
    table: pd.DataFrame, factors: Sequence[str], value: str
) -> dict[tuple[str, ...], tuple[float, float]]:
    """Return the combinations whose runs were all at their limit: the mean they reached, and the least."""
    groups = table.groupby(list(factors), sort=False)
    limited = groups["at_limit"].all()
    reached = groups[value].agg(["mean", "min"])
    return {
        _key(k): (float(reached.loc[k, "mean"]), float(reached.loc[k, "min"]))
        for k, held in limited.items()
        if held
    }


def _checked(
    runs: pd.DataFrame, factors: Sequence[str], value: str
) -> tuple[pd.DataFrame, list[Caution]]:
    if not factors:
        raise InputError("name at least one factor")
    for column in (value, *factors):
        if column not in runs.columns:
            known = [str(name) for name in runs.columns]
            raise InputError(
                f'there is no column "{column}" ({", ".join(known)}).' + nearest(column, known)
            )
    at_limit = runs["at_limit"].astype(bool) if "at_limit" in runs.columns else False
    known = [name for name in RUN_COLUMNS if name in runs.columns and name not in factors]
    table = runs[[value, *factors, *known]].assign(at_limit=at_limit)
    table[value] = table[value].astype(float)
    lost = ~np.isfinite(table[value]) | table[list(factors)].isna().any(axis=1)
    table = table[~lost]
    for factor in factors:
        table[factor] = table[factor].map(_level_text)
    cautions = [caution("runs_without_level", count=int(lost.sum()))] if lost.any() else []
    if table.empty:
        raise InputError("there is no run with a value and all levels")
    for factor in factors:
        if table[factor].nunique() < 2:
            raise InputError(
                f'the factor "{factor}" has one level only ({table[factor].iloc[0]}): there is '
                f"nothing to compare"
            )
    return table, cautions


def _level_text(level: object) -> str:
    return f"{level:g}" if isinstance(level, (int, float)) else str(level)


def _key(key: object) -> tuple[str, ...]:
    return tuple(str(k) for k in key) if isinstance(key, tuple) else (str(key),)


@dataclass(frozen=True, slots=True)
class _Cells:
    """The combinations of levels that have runs, and the differences between them."""

    levels: dict[str, list[str]]
    all: list[tuple[str, ...]]
    additive: bool

    def row(self, cell: tuple[str, ...]) -> Floats:
        """Return the row of the design for one combination."""
        if not self.additive:
            return np.array([float(cell == other) for other in self.all])
        row = [1.0]
        for name, own in zip(self.levels, cell, strict=True):
            row += [float(own == level) for level in self.levels[name][1:]]
        return np.array(row)

    def shared(self, factor: str, a: str, b: str) -> list[tuple[tuple[str, ...], Floats]]:
        """Return the combinations of the other factors that were run at both levels, with contrasts."""
        place = list(self.levels).index(factor)
        found = []
        for where in self.others(factor):
            first, second = ((*where[:place], level, *where[place:]) for level in (a, b))
            if self.additive or (first in self.all and second in self.all):
                found.append((where, self.row(first) - self.row(second)))
        return found

    def others(self, factor: str) -> list[tuple[str, ...]]:
        """Return the combinations of the levels of the other factors."""
        return list(product(*(own for name, own in self.levels.items() if name != factor)))

    def place_of(self, factor: str, other: str) -> int:
        """Return the place of another factor among those besides `factor`."""
        return [name for name in self.levels if name != factor].index(other)

    def changes(self) -> Iterator[tuple[str, str, str]]:
        """Yield factor, level, and the level it is set against."""
        for factor, levels in self.levels.items():
            for before, after in combinations(levels, 2):
                yield factor, after, before


def _fit_cells(
    table: pd.DataFrame, factors: Sequence[str], value: str, cells: _Cells, beside: Beside
) -> tuple[SetupFit, list[Caution]]:
    """Fit the means of combinations, and say what is not known of the scatter."""
    design = np.array([cells.row(tuple(cell)) for cell in table[list(factors)].to_numpy(str)])
    if np.linalg.matrix_rank(design) < design.shape[1]:
        raise InputError(
            "the combinations that were run do not let the factors be told apart: two of them "
            "always change together"
        )
    fit, _ = fit_runs(table, table[value].to_numpy(dtype=float), design, beside)
    if fit.degrees < 1 or not fit.spread_known:
        return fit, [caution("effects_without_repeats")]
    repeated = table.duplicated(list(factors)).any()
    known = repeated or beside.repeatability is not None
    return fit, [] if known else [caution("scatter_from_additivity")]


def _main(cells: _Cells, model: "_Fit", conditional: pd.DataFrame) -> pd.DataFrame:
    """Return the main effects, with intervals and verdicts that allow for their number and agree."""
    every = [change for change in cells.changes() if cells.shared(*change)]
    factors = list(dict.fromkeys(factor for factor, _, _ in every))
    rows = []
    for factor in factors:
        changes = [change for change in every if change[0] == factor]
        found = _joint_effects(cells, model, changes, len(factors))
        for k, change in enumerate(changes):
            effect, low, high = (float(x[k]) for x in (found.difference, found.low, found.high))
            p_value = min(float(found.p_value[k]) * len(factors), 1.0)
            told, depends, least, most = bool(found.distinguishable[k]), False, effect, effect
            own = conditional[
                (conditional[["factor", "level", "versus"]] == list(change)).all(axis=1)
            ]
            depends = _depends(cells, model, change)
            depends |= bool((own["low"] > high).any() or (own["high"] < low).any())
            if depends and len(own):
                least, most = float(own["effect"].min()), float(own["effect"].max())
                low, high = min(low, float(own["low"].min())), max(high, float(own["high"].max()))
                told = low > 0 or high < 0
            rows.append((*change, effect, low, high, p_value, told, depends, least, most))
    columns = ["factor", "level", "versus", *_VERDICT, "depends", "least", "most"]
    return pd.DataFrame(rows, columns=columns)


def _joint_effects(
    cells: _Cells, model: "_Fit", changes: Sequence[tuple[str, str, str]], factors: int
) -> Joint:
    """Return the main effects of one factor, judged together."""
    levels = cells.levels[changes[0][0]]
    contrasts = np.array(
        [np.mean([one for _, one in cells.shared(*change)], axis=0) for change in changes]
    )
    pairs = [(levels.index(a), levels.index(b)) for _, a, b in changes]
    return joint_differences(
        model.fit, contrasts, pairs, len(levels), 1 - (1 - model.level) / factors
    )


def _depends(cells: _Cells, model: "_Fit", change: tuple[str, str, str]) -> bool:
    """Return whether an effect differs between combinations of the other factors beyond chance."""
    if cells.additive:
        return False
    pairs = list(combinations([one for _, one in cells.shared(*change)], 2))
    p_values = [model.verdict(a - b)[3] for a, b in pairs]
    return bool(pairs) and min(p_values) * len(pairs) < 1 - model.level


def _interactions(cells: _Cells, model: "_Fit") -> pd.DataFrame:
    """Return by how much each change does more at one level of another factor, judged together."""
    names: list[tuple[str, ...]] = []
    contrasts: list[Floats] = []
    order = list(cells.levels)
    for factor, a, b in () if cells.additive else cells.changes():
        for other, c, d in cells.changes():
            if order.index(other) <= order.index(factor):
                continue
            place = cells.place_of(factor, other)
            at = dict(cells.shared(factor, a, b))
            both = [
                contrast - at[there]
                for where, contrast in at.items()
                if where[place] == c and (there := (*where[:place], d, *where[place + 1 :])) in at
            ]
            if both:
                names.append((factor, a, b, other, c, d))
                contrasts.append(np.asarray(np.mean(both, axis=0)))
    wide = replace(model, level=1 - (1 - model.level) / max(len(names), 1))
    alone = [wide.verdict(contrast) for contrast in contrasts]
    effect, low, high, p_value = (np.array([one[k] for one in alone]) for k in range(4))
    p_value = _holm(p_value)
    told = p_value < 1 - model.level
    low, high = matching(effect, (high - low) / 2, told)
    frame = pd.DataFrame(
        names, columns=["factor", "level", "versus", "other", "other_level", "other_versus"]
    )
    return frame.assign(effect=effect, low=low, high=high, p_value=p_value, distinguishable=told)


def _conditional(
    cells: _Cells, model: "_Fit", bounds: dict[tuple[str, ...], tuple[float, float]]
) -> list[tuple[object, ...]]:
    """Return the effects at each combination of the others, and bounds where one side was at its limit.

    They are differences between two combinations, judged as setups are: among all pairs.
    """
    pairs = list(combinations(range(len(cells.all)), 2))
    contrasts = np.array([cells.row(cells.all[a]) - cells.row(cells.all[b]) for a, b in pairs])
    found = joint_differences(
        model.fit, contrasts.reshape(len(pairs), len(cells.all)), pairs, len(cells.all), model.level
    )
    at = {pair: k for k, pair in enumerate(pairs)}
    rows: list[tuple[object, ...]] = []
    order = list(cells.levels)
    for factor, a, b in cells.changes():
        place = order.index(factor)
        for where in cells.others(factor):
            first, second = ((*where[:place], level, *where[place:]) for level in (a, b))
            told: tuple[float, float, float, float, bool] | None = None
            if first in cells.all and second in cells.all:
                told = _of_pair(found, at, cells.all.index(first), cells.all.index(second))
            elif first in bounds and second in cells.all:
                told = model.bound(cells.row(second), bounds[first], above=True)
            elif second in bounds and first in cells.all:
                told = model.bound(cells.row(first), bounds[second], above=False)
            if told is not None:
                rows.append((factor, a, b, ", ".join(where), where, *told))
    return rows


def _of_pair(
    found: Joint, at: dict[tuple[int, int], int], first: int, second: int
) -> tuple[float, float, float, float, bool]:
    """Return the difference of one pair, whichever way round it was judged."""
    k = at[(min(first, second), max(first, second))]
    effect, low, high = (float(x[k]) for x in (found.difference, found.low, found.high))
    if first > second:
        effect, low, high = -effect, -high, -low
    return effect, low, high, float(found.p_value[k]), bool(found.distinguishable[k])


@dataclass(frozen=True, slots=True)
class _Fit:
    fit: SetupFit
    level: float

    def verdict(self, contrast: Floats) -> tuple[float, float, float, float, bool]:
        effect = float(contrast @ self.fit.first(contrast.size))
        error, freedom = float(self.fit.errors(contrast[None])[0]), self.fit.freedom_of(contrast)
        if freedom < 1 or not np.isfinite(error):
            return effect, -np.inf, np.inf, float("nan"), False
        half = float(t_quantile((1 + self.level) / 2, freedom)) * error
        p_value = float(2 * t_beyond(abs(effect) / error, freedom)) if error > 0 else float("nan")
        return effect, effect - half, effect + half, p_value, False

    def bound(
        self, row: Floats, reached: tuple[float, float], *, above: bool
    ) -> tuple[float, float, float, float, bool]:
        """Return the bound of an effect, where one of the two combinations was at its limit."""
        mean, _, high, _, _ = self.verdict(row)
        if above:  # the limited combination is the level: the effect is at least this
            low = reached[1] - high
            return reached[0] - mean, low, np.inf, float("nan"), low > 0
        high -= reached[1]
        return mean - reached[0], -np.inf, high, float("nan"), high < 0


def _holm(p_values: Floats) -> Floats:
    """Return the p values that allow for their number, by Holm's steps."""
    order = np.argsort(p_values)
    steps = p_values[order] * np.arange(p_values.size, 0, -1)
    adjusted = np.empty(p_values.size)
    adjusted[order] = np.minimum(np.maximum.accumulate(steps), 1.0)
    return adjusted
