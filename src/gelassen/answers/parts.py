"""Parts side by side: how warm each was under load, and which meets its limit first."""

from collections.abc import Mapping, Sequence

import pandas as pd

from gelassen.answers.rows.run_row import RunRow
from gelassen.answers.study_runs import StudyRuns


def study_parts(study: StudyRuns, *, leave_out: Mapping[str, str] | None = None) -> pd.DataFrame:
    """Return each part's temperature under load by setup; see `Study.parts`."""
    rows, _ = study.usable_rows(leave_out)
    return parts_table(rows, study.file.comfort_c)


def parts_table(rows: Sequence[RunRow], comfort_c: float | None) -> pd.DataFrame:
    """Return each part's temperature by setup; see `Study.parts`."""
    entries = [
        {
            "setup": row.setup,
            "part": part,
            "hold_mean_c": mean,
            "hold_peak_c": peak,
            "limit_c": limit,
        }
        for row in rows
        for part, (mean, peak, limit) in row.parts.items()
        if mean is not None
    ]
    columns = [
        "setup",
        "part",
        "hold_mean_c",
        "hold_peak_c",
        "limit_c",
        "headroom_k",
        "comfort_k",
        "first",
    ]
    if not entries:
        return pd.DataFrame(columns=columns)
    table = pd.DataFrame(entries).astype({"limit_c": float})
    grouped = table.groupby(["setup", "part"], sort=False)
    result = grouped.agg(
        hold_mean_c=("hold_mean_c", "mean"),
        hold_peak_c=("hold_peak_c", "max"),
        limit_c=("limit_c", "first"),
    ).reset_index()
    result["headroom_k"] = result["limit_c"] - result["hold_mean_c"]
    result["comfort_k"] = float("nan") if comfort_c is None else comfort_c - result["hold_mean_c"]
    nearest = result.groupby("setup")["headroom_k"].transform("min")
    result["first"] = result["headroom_k"].eq(nearest) & result["headroom_k"].notna()
    return result[columns]


def cores_of(parts: pd.DataFrame) -> pd.DataFrame:
    """Return the mean temperature of each core by setup, °C, and how far the cores lie apart.

    Parameters
    ----------
    parts : DataFrame
        As `Study.parts` returns them.

    Returns
    -------
    DataFrame
        Index setup; one column a core by its number, and `spread_k`; empty where no core was logged.
    """
    number = parts["part"].str.extract(r"^cpu\.core(\d+)\.temp_c$", expand=False)
    cores = parts[number.notna()].assign(core=number[number.notna()].astype(int))
    if cores.empty:
        return pd.DataFrame()
    table = cores.pivot_table(index="setup", columns="core", values="hold_mean_c", sort=False)
    table = table[sorted(table.columns)]
    return table.assign(spread_k=table.max(axis=1) - table.min(axis=1))
