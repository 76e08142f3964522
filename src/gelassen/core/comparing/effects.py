"""The effect of each factor by itself, and how it depends on another factor."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations, product

import numpy as np
import pandas as pd
from scipy.stats import t as student_t

from gelassen.core.comparing.mounting import mounts_of
from gelassen.core.comparing.setup_means import SetupFit, or_mounted
from gelassen.core.comparing.spread import as_repeatability
from gelassen.core.foundation.caution import Caution, caution
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
        factor, level, versus, effect, low, high, p_value, distinguishable: what changing the factor
        from `versus` to `level` does, averaged evenly over the levels of the other factors.
    interactions : DataFrame
        factor, level, versus, other, other_level, other_versus, effect, low, high, p_value,
        distinguishable: by how much that change does more at `other_level` than at `other_versus`.
    conditional : DataFrame
        factor, level, versus, where, other_levels, effect, low, high, p_value, distinguishable: the same
        change at one combination of the other factors, in words and as a tuple.
    spread
        Standard deviation between runs of one combination; NaN if it could not be found.
    """

    main: pd.DataFrame
    interactions: pd.DataFrame
    conditional: pd.DataFrame
    spread: float
    freedom: float
    confidence: float
    cautions: tuple[Caution, ...] = ()

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
) -> Effects:
    """Find main effects and interactions.

    Parameters
    ----------
    runs : DataFrame
        One row a run: a column with the value and one with the level of each factor. Combinations
        may have different numbers of runs. Runs with the same `mount` (if there is that column) were not
        remounted between; `shared_error` (likewise) is what one standard deviation of an error that all
        runs share moves each of them by.
    factors : sequence of str
        Columns of the factors.
    value : str
        Column of the value.
    confidence : float
        For all intervals.
    repeatability : (float, float), optional
        Known standard deviation between runs and its degrees of freedom, for data without repeats.
    usual_spread : (float, float), optional
        The same for rigs in general, where runs share mountings.

    Raises
    ------
    InputError
        Unknown columns, a factor with one level, no run.

    Notes
    -----
    Means of all combinations with one common spread between runs; effects are contrasts of these
    means with equal weights (Yates' weighted squares of means [1]_), so that unequal numbers of runs
    do not tilt them. Where combinations are empty, effects are taken to add up, interactions are not
    given, and that is said. p values of several levels or factors are not adjusted for their number;
    `distinguishable` is (Holm). Where runs share mountings, what another mounting adds is a part of its own
    (`core/comparing/mounting.py`): effects of what was changed on one mounting are free of it.

    References
    ----------
    .. [1] F. Yates, J. Am. Stat. Assoc. 29, 51 (1934).
    """
    level = as_confidence(confidence)
    table, cautions = _checked(runs, factors, value)
    levels = {factor: list(dict.fromkeys(table[factor])) for factor in factors}
    cells = list(product(*levels.values()))
    filled = {tuple(map(str, row)) for row in table[list(factors)].to_numpy()}
    empty = [cell for cell in cells if cell not in filled]
    additive = bool(empty)
    if empty:
        shown = "; ".join(", ".join(cell) for cell in empty[:3]) + (" …" if len(empty) > 3 else "")
        cautions.append(
            caution("empty_combinations", count=len(empty), all=len(cells), shown=shown)
        )
    table_of = _Cells(levels, cells, additive)
    fit, moved, said = _fit_cells(table, factors, value, table_of, repeatability)
    cautions += said
    of_runs = np.array([table_of.row(tuple(cell)) for cell in table[list(factors)].to_numpy(str)])
    values = table[value].to_numpy(dtype=float)
    shared = table["shared_error"].to_numpy(dtype=float)
    fit = or_mounted(
        fit, moved, values=values, design=of_runs, mounts=table["mount"], shared=shared,
        repeatability=repeatability, usual_spread=usual_spread,
    )  # fmt: skip
    model = _Fit(fit, level)
    main = pd.DataFrame(_main(table_of, model), columns=["factor", "level", "versus", *_VERDICT])
    interactions = pd.DataFrame(
        [] if additive else _interactions(table_of, model),
        columns=["factor", "level", "versus", "other", "other_level", "other_versus", *_VERDICT],
    )
    conditional = pd.DataFrame(
        [] if additive or len(factors) < 2 else _conditional(table_of, model),
        columns=["factor", "level", "versus", "where", "other_levels", *_VERDICT],
    )
    for frame in (main, interactions, conditional):
        frame["distinguishable"] = _holm(frame["p_value"].to_numpy(dtype=float), 1 - level)
    return Effects(
        main=main, interactions=interactions, conditional=conditional,
        spread=fit.spread, freedom=float(fit.degrees),
        confidence=level,
        cautions=tuple(cautions),
    )  # fmt: skip


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
    shared = runs["shared_error"].astype(float) if "shared_error" in runs.columns else 0.0
    table = runs[[value, *factors]].assign(mount=mounts_of(runs), shared_error=shared)
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


def _solve(design: Floats, weight: Floats, means: Floats) -> tuple[Floats, Floats]:
    weighted = design * weight[:, None]
    covariance = np.asarray(np.linalg.inv(design.T @ weighted), dtype=float)
    return covariance @ (weighted.T @ means), covariance


@dataclass(frozen=True, slots=True)
class _Cells:
    """All combinations of levels, and the contrasts that give means over some of them."""

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

    def mean(self, at: dict[str, str]) -> Floats:
        """Return the contrast for the mean at these levels, evenly over the other factors."""
        names = list(self.levels)
        wanted = [(names.index(factor), level) for factor, level in at.items()]
        inside = [cell for cell in self.all if all(cell[k] == level for k, level in wanted)]
        return np.asarray(np.mean([self.row(cell) for cell in inside], axis=0), dtype=float)

    def changes(self) -> Iterator[tuple[str, str, str]]:
        """Yield factor, level, and the level it is set against."""
        for factor, levels in self.levels.items():
            for before, after in combinations(levels, 2):
                yield factor, after, before


def _fit_cells(
    table: pd.DataFrame,
    factors: Sequence[str],
    value: str,
    table_of: "_Cells",
    repeatability: tuple[float, float] | None,
) -> tuple[SetupFit, Floats, list[Caution]]:
    """Fit the means of combinations from independent runs.

    Return the fit, the effect of a shared error on it, and what to say of the scatter.
    """
    cautions: list[Caution] = []
    groups = table.groupby(list(factors), sort=False)[value]
    counts = {_key(k): int(n) for k, n in groups.size().items()}
    filled = [cell for cell in table_of.all if cell in counts]
    left = table[value] - groups.transform("mean")
    freedom: float = len(table) - len(filled)
    variance = float((left**2).sum() / freedom) if freedom else 0.0
    if repeatability is not None:
        known, degrees = as_repeatability(repeatability)
        variance = (variance * freedom + known**2 * degrees) / (freedom + degrees)
        freedom += degrees
    design = np.array([table_of.row(cell) for cell in filled])
    average = {_key(k): float(v) for k, v in groups.mean().items()}
    means = np.array([average[cell] for cell in filled])
    weight = np.array([counts[cell] for cell in filled], dtype=float)
    if table_of.additive and np.linalg.matrix_rank(design) < design.shape[1]:
        raise InputError(
            "the combinations that were run do not let the factors be told apart: two of them "
            "always change together"
        )
    estimate, covariance = _solve(design, weight, means)
    if freedom < 1 and table_of.additive and len(filled) > design.shape[1]:
        residual = means - design @ estimate
        freedom = len(filled) - design.shape[1]
        variance = float((weight * residual**2).sum() / freedom)
        cautions.append(caution("scatter_from_additivity"))
    if freedom < 1:
        cautions.append(caution("effects_without_repeats"))
    shared = {
        _key(k): float(v) for k, v in table.groupby(list(factors))["shared_error"].mean().items()
    }
    moved, _ = _solve(design, weight, np.array([shared[cell] for cell in filled]))
    fit = SetupFit(
        means=estimate,
        covariance=covariance * variance,
        degrees=freedom,
        spread=float(np.sqrt(variance)) if freedom >= 1 else float("nan"),
        spread_degrees=freedom,
    )
    return fit, moved, cautions


def _main(cells: _Cells, model: "_Fit") -> list[tuple[object, ...]]:
    return [
        (factor, a, b, *model.verdict(cells.mean({factor: a}) - cells.mean({factor: b})))
        for factor, a, b in cells.changes()
    ]


def _interactions(cells: _Cells, model: "_Fit") -> list[tuple[object, ...]]:
    rows: list[tuple[object, ...]] = []
    order = list(cells.levels)
    for factor, a, b in cells.changes():
        for other, c, d in cells.changes():
            if order.index(other) <= order.index(factor):
                continue
            here = cells.mean({factor: a, other: c}) - cells.mean({factor: b, other: c})
            there = cells.mean({factor: a, other: d}) - cells.mean({factor: b, other: d})
            rows.append((factor, a, b, other, c, d, *model.verdict(here - there)))
    return rows


def _conditional(cells: _Cells, model: "_Fit") -> list[tuple[object, ...]]:
    rows: list[tuple[object, ...]] = []
    for factor, a, b in cells.changes():
        others = {name: levels for name, levels in cells.levels.items() if name != factor}
        for where in product(*others.values()):
            at = dict(zip(others, where, strict=True))
            contrast = cells.mean({**at, factor: a}) - cells.mean({**at, factor: b})
            rows.append((factor, a, b, ", ".join(where), where, *model.verdict(contrast)))
    return rows


@dataclass(frozen=True, slots=True)
class _Fit:
    fit: SetupFit
    level: float

    def verdict(self, contrast: Floats) -> tuple[float, float, float, float, bool]:
        effect = float(contrast @ self.fit.means)
        error, freedom = float(self.fit.errors(contrast[None])[0]), self.fit.freedom_of(contrast)
        if freedom < 1 or not np.isfinite(error):
            return effect, -np.inf, np.inf, float("nan"), False
        half = float(student_t.ppf((1 + self.level) / 2, freedom)) * error
        p_value = (
            float(2 * student_t.sf(abs(effect) / error, freedom)) if error > 0 else float("nan")
        )
        return effect, effect - half, effect + half, p_value, False


def _holm(p_values: Floats, alpha: float) -> list[bool]:
    """Return which of several differences are beyond chance, by Holm's steps."""
    order = np.argsort(p_values)
    told = [False] * p_values.size
    for rank, k in enumerate(order):
        if not p_values[k] <= alpha / (p_values.size - rank):
            break
        told[int(k)] = True
    return told
