"""Runs of a study compared: fair numbers first, then differences, then what stays open."""

from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.comparison import Comparison, compare_setups
from gelassen.core.errors import InputError
from gelassen.core.result import Result
from gelassen.core.spelling import nearest
from gelassen.core.summary import RunSummary


@dataclass(frozen=True, slots=True, kw_only=True)
class StudyComparison(Result):
    """The setups of a study against each other.

    Attributes
    ----------
    setups : DataFrame
        One row a setup, coolest first: setup, rise_k, low_k, high_k, runs, group, at_limit,
        thermal_share, power_share, power_w, clock_mhz, fan_rpm, work_per_s, and against the baseline
        difference_k, difference_low_k, difference_high_k, distinguishable, runs_needed. Infinite
        ends mean "cannot tell": a setup at its temperature limit would be warmer than it shows.
    differences : DataFrame
        As in `core.Comparison`, with bounds where a setup was at its limit.
    runs : DataFrame
        One row a run that was used.
    left_out
        (run, reason) for each run that was not.
    unit
        "K" for rises, "°C" if no reference was logged.
    """

    title: str
    baseline: str | None
    setups: pd.DataFrame
    differences: pd.DataFrame
    runs: pd.DataFrame
    left_out: tuple[tuple[str, str], ...]
    unit: str
    measured: str
    limit_c: float | None
    repeatability_k: float
    confidence: float
    made_up: bool
    cautions: tuple[str, ...] = ()


def compare_runs(
    summaries: list[RunSummary],
    left_out: list[tuple[str, str]],
    *,
    title: str,
    baseline: str | None,
    confidence: float,
    made_up: bool,
) -> StudyComparison:
    """Compare summarised runs; see `Study.compare`."""
    left_out = list(left_out)
    table = _run_table(summaries, left_out)
    if table.empty:
        reasons = "; ".join(f"{name}: {why}" for name, why in left_out)
        raise InputError(f"no run can be compared ({reasons})")
    names = list(dict.fromkeys(table["setup"]))
    if baseline is not None and baseline not in names:
        raise InputError(
            f'the baseline "{baseline}" has no usable run (there are runs of: {", ".join(names)}).'
            + nearest(baseline, names)
        )
    limited = {name for name in names if table.loc[table["setup"] == name, "at_limit"].any()}
    free = table[~table["setup"].isin(limited)]
    cautions: list[str] = []
    # Runs at the limit all read the same, whatever the cooler: their small scatter says nothing.
    base = free if not free.empty else table
    against = baseline if baseline in set(base["setup"]) else None
    comparison = compare_setups(
        base[["setup", "value", "standard_error"]], baseline=against, confidence=confidence
    )
    cautions += comparison.cautions
    # Which setups share a rank is a question of all pairs, whatever the baseline.
    ranks = compare_setups(base[["setup", "value", "standard_error"]], confidence=confidence)
    setups = _setup_table(table, ranks, limited)
    differences = _differences(setups, comparison, limited, baseline)
    setups = _with_baseline(setups, differences, baseline)
    if limited:
        cautions.append(
            "at the temperature limit: "
            + "; ".join(sorted(limited))
            + ". Their temperature cannot "
            "show how much warmer they would get: compare the power and clock they held"
        )
    mixed = {summary.channel_words.split(" (")[0] for summary in summaries if summary.channel}
    if len(mixed) > 1:
        cautions.append("runs differ in what was measured: " + "; ".join(sorted(mixed)))
    units = set(table["unit"])
    if len(units) > 1:
        cautions.append("some runs have no room temperature: their values are not rises")
    cautions += _power_cautions(setups, baseline)
    return StudyComparison(
        title=title,
        baseline=baseline,
        setups=setups,
        differences=differences,
        runs=table,
        left_out=tuple(left_out),
        unit=next(iter(units)) if len(units) == 1 else "mixed",
        measured=sorted(mixed)[0] if mixed else "",
        limit_c=next((s.limit_c for s in summaries if s.limit_c is not None), None),
        repeatability_k=comparison.repeatability if not free.empty else float("nan"),
        confidence=confidence,
        made_up=made_up,
        cautions=tuple(cautions),
    )


def _run_table(summaries: list[RunSummary], left_out: list[tuple[str, str]]) -> pd.DataFrame:
    rows = []
    for summary in summaries:
        if summary.steady is None:
            left_out.append((summary.name, "no temperature to compare"))
            continue
        if not np.isfinite([summary.steady.low, summary.steady.high]).all():
            left_out.append((summary.name, "too short to tell where it settles"))
            continue
        throttling = summary.throttling
        rows.append(
            {
                "run": summary.name,
                "setup": summary.setup or summary.name,
                "value": summary.steady.value,
                "standard_error": summary.steady.standard_error,
                "unit": summary.steady.unit,
                "reached": summary.steady.reached,
                "at_limit": bool(throttling and throttling.at_limit),
                "thermal_share": throttling.thermal_share if throttling else np.nan,
                "power_share": throttling.power_share if throttling else np.nan,
                "power_w": summary.power_w,
                "clock_mhz": summary.clock_mhz,
                "fan_rpm": summary.fan_rpm,
                "work_per_s": summary.work_per_s,
                "reference_c": summary.reference_c,
                "outcome": summary.outcome,
            }
        )
    return pd.DataFrame(rows)


_MEANS = (
    "thermal_share", "power_share", "power_w", "clock_mhz", "fan_rpm", "work_per_s", "reference_c",
)  # fmt: skip


def _setup_table(table: pd.DataFrame, comparison: Comparison, limited: set[str]) -> pd.DataFrame:
    known = comparison.setups.set_index("setup")
    rows = []
    for name, runs in table.groupby("setup", sort=False):
        at_limit = name in limited
        rows.append(
            {
                "setup": name,
                "rise_k": float(runs["value"].mean())
                if at_limit
                else float(known.loc[name, "mean"]),
                "low_k": float(runs["value"].min()) if at_limit else float(known.loc[name, "low"]),
                "high_k": np.inf if at_limit else float(known.loc[name, "high"]),
                "runs": len(runs),
                "group": ""
                if at_limit
                else str(known.loc[name, "group"])
                if name in known.index
                else "",
                "at_limit": at_limit,
                **{column: float(runs[column].mean()) for column in _MEANS},
            }
        )
    order = pd.DataFrame(rows)
    return order.sort_values(["at_limit", "rise_k"], kind="stable").reset_index(drop=True)


def _differences(
    setups: pd.DataFrame, comparison: Comparison, limited: set[str], baseline: str | None
) -> pd.DataFrame:
    """Return the differences between free setups, and bounds where one was at its limit."""
    columns = list(comparison.differences.columns)
    free = comparison.differences
    if baseline is not None:
        free = free[free["versus"] == baseline]
    free = free[~free["setup"].isin(limited) & ~free["versus"].isin(limited)]
    rows = [tuple(row) for row in free.itertuples(index=False)]
    level = setups.set_index("setup")
    names = list(setups["setup"])
    pairs = (
        [(name, baseline) for name in names if name != baseline]
        if baseline is not None
        else [(a, b) for k, a in enumerate(names) for b in names[k + 1 :]]
    )
    for a, b in pairs:
        if a not in limited and b not in limited:
            continue
        difference = float(level.loc[a, "rise_k"] - level.loc[b, "rise_k"])
        low, high = -np.inf, np.inf
        if a in limited and b not in limited:
            low = float(level.loc[a, "low_k"] - level.loc[b, "high_k"])
        elif b in limited and a not in limited:
            high = float(level.loc[a, "high_k"] - level.loc[b, "low_k"])
        clear = low > 0 or high < 0
        rows.append((a, b, difference, low, high, np.nan, clear, np.nan, np.nan))
    return pd.DataFrame(rows, columns=columns)


def _with_baseline(
    setups: pd.DataFrame, differences: pd.DataFrame, baseline: str | None
) -> pd.DataFrame:
    if baseline is None:
        return setups
    named = differences.rename(
        columns={
            "difference": "difference_k",
            "low": "difference_low_k",
            "high": "difference_high_k",
        }
    )
    columns = [
        "setup", "difference_k", "difference_low_k", "difference_high_k", "distinguishable",
        "runs_needed",
    ]  # fmt: skip
    return setups.merge(named[columns], on="setup", how="left")


def _power_cautions(setups: pd.DataFrame, baseline: str | None) -> list[str]:
    """Say which setups did not do the same work as the baseline."""
    if baseline is None:
        return []
    own = setups.loc[setups["setup"] == baseline, "power_w"]
    if own.empty or not np.isfinite(own.iloc[0]):
        return []
    ratio = setups["power_w"] / float(own.iloc[0])
    different = setups.loc[(ratio - 1).abs() > 0.05, "setup"]
    if different.empty:
        return []
    return [
        f"{len(different)} of {len(setups)} setups held more than 5 % more or less power than the "
        "baseline: their difference is not the cooler's alone"
    ]
