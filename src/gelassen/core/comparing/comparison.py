"""Which setup is better, by how much, and how sure that is."""

from dataclasses import dataclass
from itertools import combinations

import numpy as np
import pandas as pd

from gelassen.core.comparing.fit_runs import Beside, fit_runs
from gelassen.core.comparing.joint import Joint, joint_differences
from gelassen.core.comparing.letters import letters
from gelassen.core.comparing.mounting import mounts_of
from gelassen.core.comparing.multiplicity import quantile
from gelassen.core.comparing.priors import Comparison as At
from gelassen.core.comparing.priors import Spread
from gelassen.core.comparing.setup_means import SetupFit
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.counted import counted
from gelassen.core.foundation.distributions import (
    equal_spreads_chance,
    noncentral_t_beyond,
    normal_beyond,
)
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats, as_confidence, as_positive
from gelassen.core.foundation.result import Result
from gelassen.core.foundation.spelling import nearest


@dataclass(frozen=True, slots=True, kw_only=True)
class Comparison(Result):
    """Means of setups, and their differences.

    Attributes
    ----------
    setups : DataFrame
        setup, mean, low, high, runs, group; sorted by mean. Setups that share a letter in `group`
        cannot be told apart.
    differences : DataFrame
        setup, versus, difference, low, high, single_low, single_high, p_value, distinguishable,
        runs_needed, smallest. `difference` is the value of `setup` minus the value of `versus`. Interval,
        `p_value` and `distinguishable` allow for the number of differences looked at, and agree: the
        interval leaves out zero, and the p value is below 1 - confidence, if and only if the two are told
        apart. single_low and single_high are the interval of this difference alone. `alike`: not told
        apart, and the interval lies within the smallest difference that matters. `runs_needed`: further
        runs of each of the two with which a difference that matters is found 4 times in 5; 0 if it is
        told apart, NaN if alike, more than 50, or unknown.
        `smallest`: the true difference that these runs would find 4 times in 5.
    repeatability
        Standard deviation between runs of one setup, remounting included; NaN if unknown.
    repeatability_freedom
        How many degrees of freedom it is known with.
    room_effect, room_c
        By how much a value changes with each kelvin of the room, with its interval, and the room that
        setups are compared in; None and NaN where the room was not allowed for.
    """

    setups: pd.DataFrame
    differences: pd.DataFrame
    repeatability: float
    baseline: str | None
    confidence: float
    cautions: tuple[Caution, ...] = ()
    repeatability_freedom: float = float("nan")
    room_effect: tuple[float, float, float] | None = None
    room_c: float = float("nan")

    def __str__(self) -> str:
        lines = []
        for row in self.setups.itertuples():
            interval = _interval_text(float(row.low), float(row.high))
            lines.append(f"{row.setup}: {row.mean:.1f} {interval}, {counted(row.runs, 'run')}")
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
    room_effect: tuple[float, float] | None = None,
    day_spread: float | None = None,
    matters: float = 1.0,
) -> Comparison:
    """Compare setups by one number a run.

    Parameters
    ----------
    runs : DataFrame
        Columns setup and value; if known, standard_error, block, mount, scale, room_c, day, setup_error.
        One row a run.
        `standard_error` is what the run itself leaves open; `block` names what runs shared besides the
        setup (a day, a room); runs with the same `mount` were not remounted between, and one that names
        none had its own; `scale` is how large the scatter of such a run is beside the spread that is
        known or found, such as its power over the usual one; `room_c` is the room it was made in; `day`
        is the day it was made on. `setup_error` is the part of `standard_error` that is the same in
        all runs of a setup.
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
        stands in for them. With it goes that spreads of setups differ by a seventh or so.
    room_effect : (float, float), optional
        By how much a value usually changes with each kelvin of the room, and the standard deviation
        of that: setups are then compared at the mean of all rooms, by what the runs say of it and what
        is usual (`core/thermal/room_effect.py`). For runs of scale 1, in proportion to the scale of others.

    day_spread : float, optional
        What is thought that a day moves all of its runs by, as a standard deviation. Runs that can tell
        days from setups say more of it (`core/comparing/days.py`).
    matters : float
        The smallest difference that matters, in the unit of the values.

    Raises
    ------
    InputError
        Missing columns, no run, an unknown baseline, values that are not numbers.

    Notes
    -----
    A linear model with a mean for each setup (and each block). The spread between runs is estimated
    together over all setups, since few runs a setup say little about it; each run weighs by that
    spread and its own standard error (Paule and Mandel [1]_). Runs of one mounting are not repeats of
    remounting: where mounts are named and shared, what another mounting adds is a part of its own
    (`core/comparing/mounting.py`), which differences on one mounting are free of. Intervals are
    Student's t for one difference. Verdicts allow for the number of differences: Tukey and Kramer for
    all pairs [2]_, Dunnett's distribution by simulation for differences to a baseline [3]_; verdicts go
    on in steps from there (`core/comparing/multiplicity.py`). Without repeats the spread is unknown,
    and no interval is given. Not yet done: spreads that differ between setups.

    References
    ----------
    .. [1] R. C. Paule and J. Mandel, J. Res. Natl. Bur. Stand. 87, 377 (1982).
    .. [2] C. Y. Kramer, Biometrics 12, 307 (1956).
    .. [3] C. W. Dunnett, J. Am. Stat. Assoc. 50, 1096 (1955).
    """
    confidence = as_confidence(confidence)
    table, cautions = _checked(runs, baseline)
    names = list(dict.fromkeys(table["setup"]))
    beside = Beside(
        repeatability=repeatability, usual_spread=usual_spread, day_spread=day_spread,
        room_effect=room_effect,
    )  # fmt: skip
    model, said = _fitted(table, names, confidence, beside)
    cautions += said
    setups = _setup_rows(model)
    pairs = (
        [(name, baseline) for name in names if name != baseline]
        if baseline is not None
        else list(combinations(setups["setup"], 2))
    )
    matters = as_positive("matters", matters, "of the unit of the values")
    differences = _differences(model, pairs, matters, against_one=baseline is not None)
    if len(names) < 2:
        cautions.append(caution("one_setup"))
    setups["group"] = letters(
        list(setups["setup"]), _told_apart(model, setups, differences, baseline)
    )
    return Comparison(
        setups=setups,
        differences=differences,
        repeatability=model.fit.spread,
        repeatability_freedom=model.fit.spread_degrees,
        baseline=baseline,
        confidence=confidence,
        cautions=tuple(cautions),
        room_effect=model.fit.room_effect(confidence),
        room_c=model.fit.room_c,
    )


def _fitted(
    table: pd.DataFrame, names: list[str], confidence: float, beside: Beside
) -> tuple["_Model", list[Caution]]:
    """Fit the means of setups, and say what is not known of their scatter."""
    blocks = _blocks(table)
    values = table["value"].to_numpy(dtype=float)
    fit, cautions = fit_runs(table, values, _design(table, names, blocks), beside)
    cautions += _spread_cautions(table) if fit.spread_known and fit.mounted is None else []
    counts = table.groupby("setup").size()
    mountings = table.groupby("setup")["mount"].agg(lambda own: own.nunique() + own.isna().sum())
    model = _Model(
        names=names,
        contrasts=_contrasts(len(names), len(blocks)),
        fit=fit,
        runs=[int(counts[name]) for name in names],
        mountings=[int(mountings[name]) for name in names],
        confidence=confidence,
    )
    if beside.repeatability is None:
        cautions += _mounting_cautions(model, beside.usual_spread)
    return model, cautions


def _checked(runs: pd.DataFrame, baseline: str | None) -> tuple[pd.DataFrame, list[Caution]]:
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
        scale = runs["scale"] if "scale" in runs.columns else 1.0
        table["scale"] = pd.Series(scale, index=runs.index).astype(float)
    except (TypeError, ValueError, OverflowError) as problem:
        raise InputError(f"runs holds something that is not a number: {problem}") from None
    rooms = runs["room_c"] if "room_c" in runs.columns else np.nan
    table["room_c"] = pd.to_numeric(pd.Series(rooms, index=runs.index), errors="coerce").astype(
        float
    )
    table["block"] = runs["block"].astype(str) if "block" in runs.columns else ""
    table["mount"] = mounts_of(runs)
    days = runs["day"] if "day" in runs.columns else pd.Series(None, index=runs.index, dtype=object)
    table["day"] = days.astype(object).where(days.notna(), None)
    table["setup_error"] = (
        runs["setup_error"].astype(float).fillna(0.0) if "setup_error" in runs.columns else 0.0
    )
    if not (np.isfinite(table["scale"]) & (table["scale"] > 0)).all():
        raise InputError("scale must be a number above zero for every run")
    cautions: list[Caution] = []
    known = np.isfinite(table["value"]) & np.isfinite(table["standard_error"])
    lost = sorted(set(table["setup"]) - set(table.loc[known, "setup"]))
    if (~known).any():
        cautions.append(caution("runs_without_value", count=int((~known).sum()), all=len(table)))
    if lost:
        cautions.append(caution("setups_without_run", setups=", ".join(lost)))
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


def _spread_cautions(table: pd.DataFrame) -> list[Caution]:
    """Return whether the spreads differ by more than chance (Bartlett's test at 1 %)."""
    scaled = table["value"] / table["scale"]
    groups = {name: own.to_numpy() for name, own in scaled.groupby(table["setup"]) if len(own) >= 3}
    # Runs that agree to a millionth of a kelvin have no spread to test.
    groups = {name: values for name, values in groups.items() if np.ptp(values) > 1e-6}
    if len(groups) < 2 or equal_spreads_chance(list(groups.values())) > Spread.UNEQUAL:
        return []
    worst = max(groups, key=lambda name: groups[name].std())
    return [caution("spreads_differ", setup=worst)]


def _mounting_cautions(model: "_Model", usual_spread: tuple[float, float] | None) -> list[Caution]:
    """Say what is unknown or assumed where no setup was mounted twice."""
    if model.fit.mounted is None or max(model.mountings) > 1:
        return []
    pairs = [model.contrast(a, b) for a, b in combinations(model.names, 2)]
    if not pairs or not (model.fit.between(np.array(pairs)) > 0).any():
        return []
    if usual_spread is None:
        return [caution("never_remounted")]
    return [caution("usual_remounting", usual_k=usual_spread[0])]


@dataclass(frozen=True, slots=True, kw_only=True)
class _Model:
    """The fitted means, and all that a difference between them needs."""

    names: list[str]
    contrasts: Floats  # one row a setup: its mean at the average block
    fit: SetupFit
    runs: list[int]
    mountings: list[int]
    confidence: float

    def contrast(self, a: str, b: str) -> Floats:
        """Return the contrast of setup `a` minus setup `b`."""
        first, second = self.names.index(a), self.names.index(b)
        return np.asarray(self.contrasts[first] - self.contrasts[second])

    def repeats(self, name: str, *, between: bool) -> int:
        """Return how often a setup was repeated: remounted, or just run."""
        return (self.mountings if between else self.runs)[self.names.index(name)]


def _contrasts(setups: int, blocks: int) -> Floats:
    # Setups are compared at the average block.
    return np.hstack([np.eye(setups), np.full((setups, blocks - 1), 1 / blocks)])


def _setup_rows(model: _Model) -> pd.DataFrame:
    level = model.contrasts @ model.fit.first(model.contrasts.shape[1])
    half = model.fit.halves(model.contrasts, model.confidence)
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


def _differences(
    model: _Model, pairs: list[tuple[str, str]], matters: float, *, against_one: bool
) -> pd.DataFrame:
    rows = pd.DataFrame(pairs, columns=["setup", "versus"], dtype=object)
    vectors = np.array([model.contrast(a, b) for a, b in pairs]).reshape(
        len(pairs), model.contrasts.shape[1]
    )
    places = [(model.names.index(a), model.names.index(b)) for a, b in pairs]
    found = joint_differences(
        model.fit, vectors, places, len(model.names), model.confidence, against_one=against_one
    )
    for name in (
        "difference", "low", "high", "single_low", "single_high", "p_value", "distinguishable",
    ):  # fmt: skip
        rows[name] = getattr(found, name)
    rows["alike"] = (rows["low"] > -matters) & (rows["high"] < matters) & ~found.distinguishable
    rows["runs_needed"] = rows["smallest"] = np.full(len(pairs), np.nan)
    known = np.isfinite(found.errors)
    if known.any():
        power = np.array([quantile(At.POWER, float(f)) for f in found.freedom])
        rows["smallest"] = np.where(known, (found.critical + power) * found.errors, np.nan)
        # How much larger a difference must be because it is one of many hardly changes with the runs.
        more = found.critical / np.array(
            [quantile((1 + model.confidence) / 2, float(f)) for f in found.freedom]
        )
        rows["runs_needed"] = _runs_for_each(model, rows, vectors, found, matters / more)
    return rows


def _told_apart(
    model: _Model, setups: pd.DataFrame, differences: pd.DataFrame, baseline: str | None
) -> set[frozenset[str]]:
    """Return the pairs that are told apart: against a baseline by that verdict, else among all pairs."""
    every = differences
    if baseline is not None:
        every = _differences(model, list(combinations(setups["setup"], 2)), 1.0, against_one=False)
        every = every[(every["setup"] != baseline) & (every["versus"] != baseline)]
        every = pd.concat([every, differences])
    told = every[every["distinguishable"].astype(bool)]
    return {frozenset(pair) for pair in zip(told["setup"], told["versus"], strict=True)}


def _runs_for_each(
    model: _Model,
    rows: pd.DataFrame,
    vectors: Floats,
    found: Joint,
    asked: Floats,
) -> list[float]:
    """Return how many more runs would find a difference that matters; 0 if told apart, NaN if unknown.

    `asked` is the size of that difference, less as each is one of many.
    """
    remounted = model.fit.between(vectors) > 0.5
    of_rooms, error = model.fit.room_errors(vectors), found.errors
    needed = []
    for k, row in enumerate(rows.itertuples()):
        if not np.isfinite(error[k]) or row.alike:
            needed.append(float("nan"))
        elif row.distinguishable:
            needed.append(0.0)
        else:
            between = bool(remounted[k])
            repeats = tuple(model.repeats(n, between=between) for n in (row.setup, row.versus))
            needed.append(
                _runs_needed(
                    float(asked[k]), float(error[k]), (repeats[0], repeats[1]),
                    float(found.freedom[k]), model.confidence, float(of_rooms[k]),
                )
            )  # fmt: skip
    return needed


def _runs_needed(
    difference: float,
    error: float,
    runs: tuple[int, int],
    freedom: float,
    confidence: float,
    stays: float,
) -> float:
    """Return how many further runs of each of the two would find such a difference 4 times in 5.

    `stays` is the part of the error that further runs in the same rooms do not shrink.
    """
    per_run = np.sqrt(max(error**2 - stays**2, 0.0) / (1 / runs[0] + 1 / runs[1]))
    further = np.arange(1, At.MOST_RUNS + 1)
    then = np.hypot(per_run * np.sqrt(1 / (runs[0] + further) + 1 / (runs[1] + further)), stays)
    degrees = freedom + 2 * further
    critical = np.array([quantile((1 + confidence) / 2, float(one)) for one in degrees])
    # The rest cannot be settled by any number of runs, so most pairs need no integral.
    hopeless = abs(difference) / then[-1] < critical[-1] - 1.0
    if hopeless:
        return float("nan")
    chance = noncentral_t_beyond(critical, degrees, abs(difference) / then)
    chance = np.where(np.isfinite(chance), chance, normal_beyond(critical - abs(difference) / then))
    enough = np.flatnonzero(chance >= At.POWER)
    return float(further[enough[0]]) if enough.size else float("nan")
