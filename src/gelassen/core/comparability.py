"""Were runs comparable? What differed besides what was to differ, and which way it pushes."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.errors import InputError
from gelassen.core.result import Result

# Quantity -> what it is called, its unit, the least relative and absolute difference that matters,
# and by which power of it the rise grows (rise in proportion to power; less with more air).
_QUANTITIES: dict[str, tuple[str, str, float, float, float]] = {
    "power_w": ("power", "W", 0.01, 0.3, 1.0),
    "fan_rpm": ("fan speed", "rpm", 0.03, 15.0, -0.4),
    "duty_pct": ("fan duty", "%", 0.03, 1.0, -0.4),
    "clock_mhz": ("clock", "MHz", 0.01, 10.0, 0.0),
    "work_per_s": ("work done", "/s", 0.02, 0.0, 0.0),
    "load_pct": ("load", "%", 0.02, 1.0, 0.0),
    "reference_c": ("reference temperature", "°C", 0.0, 2.0, 0.0),
    "hold_length_s": ("length of the hold", "s", 0.2, 30.0, 0.0),
}
_SIGMAS = 4.0
_LEAST_PEERS = 2


@dataclass(frozen=True, slots=True, kw_only=True)
class Comparability(Result):
    """What differed between runs and between setups.

    Attributes
    ----------
    odd_runs : DataFrame
        run, setup, quantity, value, usual, difference, pushes_k, words: runs that differ from the
        other runs of their own setup. `pushes_k`: about how much warmer that made it, K; NaN where
        no simple rule says.
    pairs : DataFrame
        setup, versus, quantity, value, versus_value, difference, expected, pushes_k, words: what
        differs between two setups beyond the scatter of their runs. `expected` where a factor of the
        study is meant to change it.
    corrected : DataFrame
        setup, mean, corrected_mean, runs, runs_left: the mean as it is and at equal power, and how many
        runs are left without the odd ones, with their mean in `without_odd`.
    """

    odd_runs: pd.DataFrame
    pairs: pd.DataFrame
    corrected: pd.DataFrame
    cautions: tuple[str, ...] = ()

    def __str__(self) -> str:
        lines = [*self.odd_runs["words"], *self.pairs.loc[~self.pairs["expected"], "words"]]
        return "\n".join([*(lines or ["nothing differed beyond its own scatter"]), *self.cautions])


def comparability(runs: pd.DataFrame, *, expected: Sequence[str] = ()) -> Comparability:
    """Look for what differed besides the setup.

    Parameters
    ----------
    runs : DataFrame
        One row a run: run, setup, value (the rise in K), and any of power_w, fan_rpm, duty_pct,
        clock_mhz, work_per_s, load_pct, reference_c, hold_length_s, at_limit, power_share, thermal_share,
        started, sensors.
    expected : sequence of str
        Quantities that a factor of the study is meant to change.

    Raises
    ------
    InputError
        The columns run, setup or value are missing.

    Notes
    -----
    A run is odd where it lies beyond four standard deviations (by the median of absolute deviations of
    all runs from their setup's median) and beyond what can matter, a per cent of the power, three of
    the fan speed. How it pushes: rise in proportion to power, and to fan speed to the power of about
    -0.4, as forced convection between plates gives it. These are rules of thumb, for the direction and
    the size; the correction to equal power is the only one that is applied.
    """
    for column in ("run", "setup", "value"):
        if column not in runs.columns:
            raise InputError(f'runs has no column "{column}"')
    table = runs.reset_index(drop=True)
    odd: list[dict[str, object]] = []
    pairs: list[dict[str, object]] = []
    for quantity in _QUANTITIES:
        if quantity in table.columns and table[quantity].notna().any():
            odd += _odd_runs(table, quantity)
            pairs += _pairs(table, quantity, expected)
    odd += _odd_flags(table)
    pairs += _pair_texts(table)
    odd_frame = pd.DataFrame(
        odd,
        columns=["run", "setup", "quantity", "value", "usual", "difference", "pushes_k", "words"],
    )
    pair_frame = pd.DataFrame(
        pairs,
        columns=[
            "setup",
            "versus",
            "quantity",
            "value",
            "versus_value",
            "difference",
            "expected",
            "pushes_k",
            "words",
        ],
    )
    pair_frame["expected"] = pair_frame["expected"].astype(bool)
    return Comparability(
        odd_runs=odd_frame, pairs=pair_frame, corrected=_corrected(table, set(odd_frame["run"]))
    )


def _odd_runs(table: pd.DataFrame, quantity: str) -> list[dict[str, object]]:
    name, unit, relative, least, power_of = _QUANTITIES[quantity]
    values = table[quantity].astype(float)
    found = []
    # The scatter is that of the others: one odd run of three would hide itself in its own.
    for k in table.index[values.notna()]:
        same = (table["setup"] == table.loc[k, "setup"]) & values.notna()
        others = values[same & (table.index != k)]
        if len(others) < _LEAST_PEERS:
            continue
        usual = float(others.median())
        elsewhere = values[table.index != k]
        centred = (elsewhere - elsewhere.groupby(table["setup"]).transform("median")).dropna()
        scatter = (
            1.4826 * float(centred[centred != 0].abs().median()) if (centred != 0).any() else 0.0
        )
        difference = float(values[k]) - usual
        if abs(difference) <= max(_SIGMAS * scatter, 2 * relative * abs(usual), least):
            continue
        pushes = _push(float(table.loc[k, "value"]), float(values[k]), usual, power_of)
        found.append(
            {
                "run": table.loc[k, "run"], "setup": table.loc[k, "setup"], "quantity": quantity,
                "value": float(values[k]), "usual": usual, "difference": difference, "pushes_k": pushes,
                "words": f"{table.loc[k, 'run']}: {name} {values[k]:.4g} {unit}, {abs(difference):.3g} "
                f"{'more' if difference > 0 else 'less'} than in the other runs of {table.loc[k, 'setup']}"
                + _push_words(pushes),
            }
        )  # fmt: skip
    return found


def _push(value: float, own: float, usual: float, power_of: float) -> float:
    if not power_of or own <= 0 or usual <= 0:
        return float("nan")
    return value - value * (usual / own) ** power_of


def _push_words(pushes: float) -> str:
    if not np.isfinite(pushes) or abs(pushes) < 0.05:
        return ""
    return f"; that made it look about {abs(pushes):.1f} K {'warmer' if pushes > 0 else 'cooler'}"


def _pairs(table: pd.DataFrame, quantity: str, expected: Sequence[str]) -> list[dict[str, object]]:
    name, unit, relative, least, power_of = _QUANTITIES[quantity]
    values = table[quantity].astype(float)
    groups = values.groupby(table["setup"], sort=False)
    middles, counts = groups.median(), groups.count()
    left = values - groups.transform("mean")
    freedom = int(counts.sum() - (counts > 0).sum())
    scatter = float(np.sqrt((left**2).sum() / freedom)) if freedom else 0.0
    rises = table.groupby("setup", sort=False)["value"].mean()
    names = [n for n in middles.index if np.isfinite(middles[n])]
    found = []
    for i, a in enumerate(names):
        for b in names[:i]:
            difference = float(middles[a] - middles[b])
            error = scatter * float(np.sqrt(1 / counts[a] + 1 / counts[b]))
            size = max(abs(float(middles[a])), abs(float(middles[b])))
            if abs(difference) <= max(_SIGMAS * error, relative * size, least):
                continue
            pushes = _push(float(rises[a]), float(middles[a]), float(middles[b]), power_of)
            more = "more" if difference > 0 else "less"
            found.append(
                {
                    "setup": a, "versus": b, "quantity": quantity, "value": float(middles[a]),
                    "versus_value": float(middles[b]), "difference": difference,
                    "expected": quantity in expected,
                    "pushes_k": pushes,
                    "words": f"{a} had {abs(difference):.3g} {unit} {more} {name} than {b}" + _push_words(pushes),
                }
            )  # fmt: skip
    return found


def _odd_flags(table: pd.DataFrame) -> list[dict[str, object]]:
    """Return runs that were held back where the other runs of their setup were not."""
    found = []
    for column, words in (("power_share", "its power limit"), ("thermal_share", "heat")):
        if column not in table.columns:
            continue
        shares = table[column].astype(float)
        for k in table.index[shares > 0.05]:
            others = shares[(table["setup"] == table.loc[k, "setup"]) & (table.index != k)].dropna()
            if len(others) and float(others.median()) < 0.01:
                found.append(
                    {
                        "run": table.loc[k, "run"], "setup": table.loc[k, "setup"], "quantity": column,
                        "value": float(shares[k]), "usual": float(others.median()),
                        "difference": float(shares[k] - others.median()), "pushes_k": float("nan"),
                        "words": f"{table.loc[k, 'run']} was held back by {words} in {100 * shares[k]:.0f} % of the "
                        f"load, the other runs of {table.loc[k, 'setup']} were not",
                    }
                )  # fmt: skip
    return found


def _pair_texts(table: pd.DataFrame) -> list[dict[str, object]]:
    """Return pairs that differ in day or in what was logged."""
    found: list[dict[str, object]] = []
    empty = {
        "value": float("nan"),
        "versus_value": float("nan"),
        "difference": float("nan"),
        "pushes_k": float("nan"),
    }
    names = list(dict.fromkeys(table["setup"]))
    if "started" in table.columns:
        days = {n: set(table.loc[table["setup"] == n, "started"].dropna().str[:10]) for n in names}
        for i, a in enumerate(names):
            for b in names[:i]:
                if days[a] and days[b] and not days[a] & days[b]:
                    words = (
                        f"{a} and {b} were run on different days ({min(days[a])}, {min(days[b])})"
                    )
                    found.append(
                        {
                            "setup": a,
                            "versus": b,
                            "quantity": "day",
                            "expected": False,
                            "words": words,
                            **empty,
                        }
                    )
    if "sensors" in table.columns:
        sets = {n: set().union(*table.loc[table["setup"] == n, "sensors"]) for n in names}
        for i, a in enumerate(names):
            for b in names[:i]:
                apart = sorted(sets[a] ^ sets[b])
                if apart and sets[a] & sets[b]:
                    shown = ", ".join(apart[:3]) + (
                        f" and {len(apart) - 3} more" if len(apart) > 3 else ""
                    )
                    words = f"{a} and {b} did not log the same channels ({shown})"
                    found.append(
                        {
                            "setup": a,
                            "versus": b,
                            "quantity": "sensors",
                            "expected": False,
                            "words": words,
                            **empty,
                        }
                    )
    return found


def _corrected(table: pd.DataFrame, odd: set[object]) -> pd.DataFrame:
    rows = []
    powers = (
        table["power_w"].astype(float)
        if "power_w" in table.columns
        else pd.Series(np.nan, index=table.index)
    )
    common = float(powers.median()) if powers.notna().any() else float("nan")
    for name, runs in table.groupby("setup", sort=False):
        good = runs[~runs["run"].isin(odd)]
        at_equal = runs["value"].astype(float) * common / powers[runs.index]
        rows.append(
            (
                name, float(runs["value"].mean()), float(at_equal.mean()), len(runs), len(good),
                float(good["value"].mean()) if len(good) else float("nan"),
            )
        )  # fmt: skip
    return pd.DataFrame(
        rows, columns=["setup", "mean", "corrected_mean", "runs", "runs_left", "without_odd"]
    )
