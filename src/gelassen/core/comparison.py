"""Which setup is better, by how much, and how sure that is."""

from dataclasses import dataclass
from itertools import combinations

import numpy as np
import pandas as pd
from numpy.typing import NDArray
from scipy.stats import bartlett, nct, norm

from gelassen.core.errors import InputError
from gelassen.core.inputs import Floats, as_confidence
from gelassen.core.multiplicity import AgainstOne, AllPairs, critical_size, quantile
from gelassen.core.result import Result
from gelassen.core.spelling import nearest

_MOST_RUNS = 50
_POWER = 0.8  # runs are counted so that they settle the question 4 times in 5


@dataclass(frozen=True, slots=True, kw_only=True)
class Comparison(Result):
    """Means of setups, and their differences.

    Attributes
    ----------
    setups : DataFrame
        setup, mean, low, high, runs, group; sorted by mean. Setups that share a letter in `group`
        cannot be told apart.
    differences : DataFrame
        setup, versus, difference, low, high, p_value, distinguishable, runs_needed,
        smallest. `difference` is
        the value of `setup` minus the value of `versus`; low and high are its own interval. `p_value`
        and `distinguishable` allow for the number of differences looked at: the p value in a single
        step, the verdict in several, so that it may tell apart what the p value alone does not.
        `runs_needed`: further
        runs of each of the two that would settle it 4 times in 5; NaN if more than 50 or unknown.
        `smallest`: the true difference that these runs would find 4 times in 5.
    repeatability
        Standard deviation between runs of one setup, remounting included; NaN if unknown.
    """

    setups: pd.DataFrame
    differences: pd.DataFrame
    repeatability: float
    baseline: str | None
    confidence: float
    cautions: tuple[str, ...] = ()

    def __str__(self) -> str:
        lines = []
        for row in self.setups.itertuples():
            plural = "" if row.runs == 1 else "s"
            interval = _interval_text(float(row.low), float(row.high))
            lines.append(f"{row.setup}: {row.mean:.1f} {interval}, {row.runs} run{plural}")
        for row in self.differences.itertuples():
            interval = _interval_text(float(row.low), float(row.high), sign="+")
            verdict = "" if row.distinguishable else "cannot tell: "
            lines.append(
                f"{verdict}{row.setup} minus {row.versus}: {row.difference:+.1f} {interval}"
            )
        return "\n".join([*lines, *(f"  caution: {text}" for text in self.cautions)])


def _interval_text(low: float, high: float, sign: str = "") -> str:
    if not (np.isfinite(low) and np.isfinite(high)):
        return "(no interval)"
    return f"({low:{sign}.1f} to {high:{sign}.1f})"


def compare_setups(
    runs: pd.DataFrame,
    *,
    baseline: str | None = None,
    confidence: float = 0.95,
    repeatability: tuple[float, float] | None = None,
    usual_spread: tuple[float, float] | None = None,
) -> Comparison:
    """Compare setups by one number a run.

    Parameters
    ----------
    runs : DataFrame
        Columns setup, value[, standard_error][, block]; one row a run. `standard_error` is what the
        run itself leaves open; `block` names what runs shared besides the setup (a day, a room).
    baseline : str, optional
        Compare every setup against this one; without it, every pair once.
    confidence : float
        Share of such intervals that should cover the truth.
    repeatability : (float, float), optional
        What the rig is known to scatter by between runs of one setup: standard deviation, and the
        degrees of freedom it was found with. It stands in where nothing was repeated, and is joined
        to the scatter of these runs where something was.
    usual_spread : (float, float), optional
        The same for rigs of this kind in general. It steadies the estimate of few repeats, and never
        stands in for them.

    Raises
    ------
    InputError
        Missing columns, no run, an unknown baseline, values that are no numbers.

    Notes
    -----
    A linear model with a mean for each setup (and each block). The spread between runs is estimated
    together over all setups, since few runs a setup say little about it; each run weighs by that
    spread and its own standard error (Paule and Mandel [1]_). Intervals are Student's t for one
    difference. Verdicts allow for the number of differences: Tukey and Kramer for all pairs [2]_,
    Dunnett's distribution by simulation for differences to a baseline [3]_; verdicts go on in steps
    from there (`core/multiplicity.py`). Without repeats the
    spread is unknown, and no interval is given. Not yet done: spreads that differ between setups.

    References
    ----------
    .. [1] R. C. Paule and J. Mandel, J. Res. Natl. Bur. Stand. 87, 377 (1982).
    .. [2] C. Y. Kramer, Biometrics 12, 307 (1956).
    .. [3] C. W. Dunnett, J. Am. Stat. Assoc. 50, 1096 (1955).
    """
    confidence = as_confidence(confidence)
    table, cautions = _checked(runs, baseline)
    names = list(dict.fromkeys(table["setup"]))
    blocks = _blocks(table)
    design = _design(table, names, blocks)
    values = table["value"].to_numpy(dtype=float)
    own = table["standard_error"].to_numpy(dtype=float) ** 2
    freedom = int(len(values) - np.linalg.matrix_rank(design))
    between = _between_variance(values, design, own, freedom)
    between, degrees = _with_known(between, freedom, repeatability, usual_spread)
    spread_known = degrees > 0 and between is not None
    if freedom < 1 and repeatability is not None:
        cautions.append(
            f"no setup was run twice: the rig's known repeatability of {repeatability[0]:.2f} stands in"
        )
    elif freedom < 1:
        cautions.append(
            "no setup was run twice: how much a repeat or a remount moves the result is unknown, so "
            "nothing can be told apart. Run each setup at least twice, better three times"
        )
    elif not spread_known:
        cautions.append("repeats agree to the last digit: were they copied? No interval is given")
    variance = own + (between or 0.0)
    if not spread_known:
        variance = np.ones_like(own)
    cautions += _spread_cautions(table) if spread_known else []

    means, covariance = _estimate(values, design, variance)
    counts = table.groupby("setup").size()
    model = _Model(
        names=names,
        contrasts=_contrasts(len(names), design.shape[1], len(blocks)),
        means=means,
        covariance=covariance,
        freedom=degrees,
        spread_known=spread_known,
        runs=[int(counts[name]) for name in names],
        confidence=confidence,
    )
    setups = _setup_rows(model)
    pairs = (
        [(name, baseline) for name in names if name != baseline]
        if baseline is not None
        else list(combinations(setups["setup"], 2))
    )
    differences = _differences(model, pairs, against_one=baseline is not None)
    if len(names) < 2:
        cautions.append("there is one setup only: nothing to compare it with")
    setups["group"] = _groups(setups, differences, baseline)
    scatter = float(np.sqrt(between)) if spread_known and between is not None else float("nan")
    return Comparison(
        setups=setups,
        differences=differences,
        repeatability=scatter,
        baseline=baseline,
        confidence=confidence,
        cautions=tuple(cautions),
    )


def _checked(runs: pd.DataFrame, baseline: str | None) -> tuple[pd.DataFrame, list[str]]:
    if not isinstance(runs, pd.DataFrame):
        raise InputError("runs must be a DataFrame with columns setup and value, one row a run")
    for column in ("setup", "value"):
        if column not in runs.columns:
            found = ", ".join(map(str, runs.columns)) or "none"
            raise InputError(f'runs has no column "{column}" (found: {found})')
    table = pd.DataFrame({"setup": runs["setup"].astype(str)})
    try:
        table["value"] = runs["value"].astype(float)
        error = runs["standard_error"] if "standard_error" in runs.columns else 0.0
        table["standard_error"] = np.abs(pd.Series(error, index=runs.index).astype(float)).fillna(
            0.0
        )
    except (TypeError, ValueError) as problem:
        raise InputError(f"runs holds something that is no number: {problem}") from None
    table["block"] = runs["block"].astype(str) if "block" in runs.columns else ""
    cautions = []
    known = np.isfinite(table["value"]) & np.isfinite(table["standard_error"])
    lost = sorted(set(table["setup"]) - set(table.loc[known, "setup"]))
    if (~known).any():
        cautions.append(
            f"{int((~known).sum())} of {len(table)} runs have no usable value: left out"
        )
    if lost:
        cautions.append("no run left of: " + ", ".join(lost))
    table = table[known].reset_index(drop=True)
    if table.empty:
        raise InputError("there is no run with a value to compare")
    names = list(dict.fromkeys(table["setup"]))
    if baseline is not None and baseline not in names:
        raise InputError(
            f'baseline "{baseline}" is not among the setups ({", ".join(names)}).'
            + nearest(baseline, names)
        )
    return table, cautions


def _blocks(table: pd.DataFrame) -> list[str]:
    return list(dict.fromkeys(table["block"]))


def _design(table: pd.DataFrame, names: list[str], blocks: list[str]) -> Floats:
    """Return one column a setup, and one a block but the first."""
    setup = np.array([[name == s for name in names] for s in table["setup"]], dtype=float)
    block = np.array([[b == name for name in blocks[1:]] for b in table["block"]], dtype=float)
    return np.hstack([setup, block.reshape(len(table), len(blocks) - 1)])


def _estimate(values: Floats, design: Floats, variance: Floats) -> tuple[Floats, Floats]:
    weighted = design / variance[:, None]
    covariance: Floats = np.asarray(np.linalg.pinv(design.T @ weighted), dtype=float)
    return covariance @ (weighted.T @ values), covariance


def _between_variance(values: Floats, design: Floats, own: Floats, freedom: int) -> float | None:
    """Return the variance between runs that makes the weighted residuals as large as expected."""
    if freedom < 1:
        return None

    def excess(between: float) -> float:
        variance = own + between
        means, _ = _estimate(values, design, variance)
        left = values - design @ means
        return float((left**2 / variance).sum()) - freedom

    plain, _ = _estimate(values, design, np.ones_like(own))
    largest = float(((values - design @ plain) ** 2).sum()) / freedom
    if largest < 1e-18:
        return None if own.max(initial=0.0) == 0 else 0.0
    tiny = 1e-9 * largest
    if excess(tiny) <= 0 and own.min() > 0:
        return 0.0  # the runs' own errors explain all of the scatter
    low, high = tiny, 4 * largest * max(freedom, 1) + float(own.max())
    for _ in range(200):
        middle = np.sqrt(low * high)
        low, high = (middle, high) if excess(middle) > 0 else (low, middle)
    return float(np.sqrt(low * high))


def _with_known(
    between: float | None,
    freedom: int,
    repeatability: tuple[float, float] | None,
    usual_spread: tuple[float, float] | None,
) -> tuple[float | None, float]:
    """Join the variance between these runs to what is known of the rig; each weighs by its freedom."""
    known = []
    for given in (repeatability, usual_spread if freedom >= 1 and between is not None else None):
        if given is None:
            continue
        spread, degrees = float(given[0]), float(given[1])
        if not (spread > 0 and degrees > 0):
            raise InputError(
                f"a repeatability needs a spread and degrees of freedom above zero, found {given}"
            )
        known.append((spread**2, degrees))
    if between is not None and freedom >= 1:
        known.append((between, float(freedom)))
    total = sum(degrees for _, degrees in known)
    if not total:
        return between, float(freedom)
    return sum(variance * degrees for variance, degrees in known) / total, total


def _spread_cautions(table: pd.DataFrame) -> list[str]:
    """Say if spreads differ more than chance would have it (Bartlett's test at 1 %)."""
    groups = {name: g["value"].to_numpy() for name, g in table.groupby("setup") if len(g) >= 3}
    # Runs that agree to a millionth of a kelvin have no spread that could be tested.
    groups = {name: values for name, values in groups.items() if np.ptp(values) > 1e-6}
    if len(groups) < 2 or bartlett(*groups.values()).pvalue > 0.01:
        return []
    worst = max(groups, key=lambda name: groups[name].std())
    return [
        f"runs of {worst} scatter more than those of other setups, beyond chance; one common spread "
        "is assumed: look at its runs"
    ]


@dataclass(frozen=True, slots=True, kw_only=True)
class _Model:
    """The fitted means, and what is needed for any difference between them."""

    names: list[str]
    contrasts: Floats  # one row a setup: its mean at the average block
    means: Floats
    covariance: Floats
    freedom: float
    spread_known: bool
    runs: list[int]
    confidence: float

    @property
    def factor(self) -> float:
        """Half width of an interval in standard errors."""
        if not self.spread_known:
            return float("inf")
        return quantile((1 + self.confidence) / 2, self.freedom)

    def contrast(self, a: str, b: str) -> Floats:
        """Return the contrast of setup `a` minus setup `b`."""
        first, second = self.names.index(a), self.names.index(b)
        return np.asarray(self.contrasts[first] - self.contrasts[second])


def _contrasts(setups: int, columns: int, blocks: int) -> Floats:
    # Setups are compared at the average block.
    average = np.full((setups, columns - setups), 1 / blocks)
    return np.hstack([np.eye(setups), average])


def _setup_rows(model: _Model) -> pd.DataFrame:
    level = model.contrasts @ model.means
    error = np.sqrt(np.einsum("ij,jk,ik->i", model.contrasts, model.covariance, model.contrasts))
    half = model.factor * error
    rows = pd.DataFrame(
        {
            "setup": model.names,
            "mean": level,
            "low": level - half,
            "high": level + half,
            "runs": model.runs,
        }
    )
    return rows.sort_values("mean", kind="stable").reset_index(drop=True)


def _differences(model: _Model, pairs: list[tuple[str, str]], *, against_one: bool) -> pd.DataFrame:
    rows = pd.DataFrame(pairs, columns=["setup", "versus"])
    vectors = np.array([model.contrast(a, b) for a, b in pairs]).reshape(
        len(pairs), model.means.size
    )
    rows["difference"] = vectors @ model.means
    for name, unknown in (("low", -np.inf), ("high", np.inf), ("p_value", np.nan)):
        rows[name] = unknown
    rows["distinguishable"] = False
    rows["runs_needed"] = rows["smallest"] = np.nan
    if not model.spread_known or not pairs:
        return rows
    shared = vectors @ model.covariance @ vectors.T
    error = np.sqrt(np.diag(shared))
    rows["low"] = rows["difference"] - model.factor * error
    rows["high"] = rows["difference"] + model.factor * error
    sizes = rows["difference"].to_numpy(dtype=float) / error
    adjust = (
        AgainstOne(shared, model.freedom)
        if against_one
        else AllPairs(len(model.names), model.freedom)
    )
    places = [(model.names.index(a), model.names.index(b)) for a, b in pairs]
    level = 1 - model.confidence
    rows["p_value"] = [adjust.p_value(size) for size in sizes]
    rows["distinguishable"] = adjust.told(places, sizes, level)
    critical = critical_size(adjust.p_value, model.freedom, level)
    rows["smallest"] = (critical + quantile(_POWER, model.freedom)) * error
    # How much more a difference needs for being one of many; it hardly changes with the runs.
    more = critical / model.factor
    rows["runs_needed"] = [
        0.0
        if row.distinguishable
        else _runs_needed(
            float(row.difference) / more,
            float(error[k]),
            (model.runs[places[k][0]], model.runs[places[k][1]]),
            model.freedom,
            model.confidence,
        )
        for k, row in enumerate(rows.itertuples())
    ]
    return rows


def _runs_needed(
    difference: float, error: float, runs: tuple[int, int], freedom: float, confidence: float
) -> float:
    """Return how many further runs of each of the two would settle the difference 4 times in 5."""
    per_run = error / np.sqrt(1 / runs[0] + 1 / runs[1])
    further = np.arange(1, _MOST_RUNS + 1)
    then = per_run * np.sqrt(1 / (runs[0] + further) + 1 / (runs[1] + further))
    degrees = freedom + 2 * further
    critical = np.array([quantile((1 + confidence) / 2, float(one)) for one in degrees])
    # No number of runs reaches the rest: most pairs need no integral.
    hopeless = abs(difference) / then[-1] < critical[-1] - 1.0
    if hopeless:
        return float("nan")
    chance = nct.sf(critical, degrees, abs(difference) / then)
    chance = np.where(np.isfinite(chance), chance, norm.sf(critical - abs(difference) / then))
    enough = np.flatnonzero(chance >= _POWER)
    return float(further[enough[0]]) if enough.size else float("nan")


def _groups(setups: pd.DataFrame, differences: pd.DataFrame, baseline: str | None) -> list[str]:
    """Return letters: setups that share one cannot be told apart.

    Against a baseline only those differences are known, so a setup shares the baseline's letter or
    has none.
    """
    names = list(setups["setup"])
    same = {
        frozenset((r.setup, r.versus)) for r in differences.itertuples() if not r.distinguishable
    }
    if baseline is not None:
        return ["a" if n == baseline or frozenset((n, baseline)) in same else "" for n in names]
    spans: list[tuple[int, int]] = []
    for first in range(len(names)):
        last = first
        while last + 1 < len(names) and all(
            frozenset((names[k], names[last + 1])) in same for k in range(first, last + 1)
        ):
            last += 1
        if not spans or last > spans[-1][1]:
            spans.append((first, last))
    letters = [chr(ord("a") + k % 26) for k in range(len(spans))]
    member: NDArray[np.bool_] = np.array(
        [[a <= k <= b for a, b in spans] for k in range(len(names))]
    )
    return ["".join(np.array(letters)[row]) for row in member]
