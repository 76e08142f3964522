"""How much a rig scatters between runs of one setup, and which part of that is remounting."""

import math
from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.comparing.mounting import mounts_of
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.distributions import chi_square_quantile
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import as_confidence
from gelassen.core.foundation.result import Result


@dataclass(frozen=True, slots=True, kw_only=True)
class Repeatability(Result):
    """Standard deviations between runs of one setup.

    Attributes
    ----------
    total, low, high
        Between runs as they were done (remounted, on other days), with its interval.
    freedom
        Degrees of freedom `total` was found with.
    same_mount, remount, day
        What runs of one mount scatter by; what remounting adds; what another day adds. NaN where
        the runs cannot tell.
    remounted
        Whether any setup was mounted twice: else the whole says nothing of remounting.
    """

    total: float
    low: float
    high: float
    freedom: float
    same_mount: float
    remount: float
    day: float
    runs: int
    setups: int
    cautions: tuple[Caution, ...] = ()
    remounted: bool = False

    def __str__(self) -> str:
        if not math.isfinite(self.total):
            return "\n".join(
                ["repeatability: cannot tell", *(f"  caution: {c}" for c in self.cautions)]
            )
        components = {
            "same mount": self.same_mount, "remounting": self.remount, "another day": self.day,
        }  # fmt: skip
        parts = [
            f"{name} {value:.2f}" for name, value in components.items() if math.isfinite(value)
        ]
        text = f"runs of one setup scatter by {self.total:.2f} ({self.low:.2f} to {self.high:.2f})"
        return "\n".join(
            [
                text + (": " + ", ".join(parts) if parts else ""),
                *(f"  caution: {c}" for c in self.cautions),
            ]
        )


def find_repeatability(runs: pd.DataFrame, *, confidence: float = 0.95) -> Repeatability:
    """Find how much a rig scatters, from repeats.

    Parameters
    ----------
    runs : DataFrame
        Columns setup and value; if known, mount and day. One row a run. Runs of one setup with the same
        `mount` were not remounted between; one that names none counts as remounted.
    confidence : float
        For the interval of the whole.

    Raises
    ------
    InputError
        Missing columns.

    Notes
    -----
    Nested components by moments: runs in mounts in days in setups. The mean square between mounts,
    less that within them, is what remounting adds; a component that comes out negative is zero. The whole
    is what a run in a new mount scatters by; its interval is that of a chi-square distribution with
    Satterthwaite's degrees of freedom.
    """
    level = as_confidence(confidence)
    for column in ("setup", "value"):
        if column not in runs.columns:
            raise InputError(f'runs has no column "{column}"')
    table = pd.DataFrame({"setup": runs["setup"].astype(str), "value": runs["value"].astype(float)})
    table["day"] = runs["day"].astype(str) if "day" in runs.columns else ""
    mounts = mounts_of(runs)
    known_mounts = any(mount is not None for mount in mounts)
    table["mount"] = [
        f"{k} alone" if mount is None else f"mount {mount}" for k, mount in enumerate(mounts)
    ]
    table = table[np.isfinite(table["value"])]
    whole, freedom = _within(table, ["setup"])
    if freedom < 1:
        return Repeatability(
            total=math.nan, low=math.nan, high=math.nan, freedom=0, same_mount=math.nan, remount=math.nan,
            day=math.nan, runs=len(table), setups=table["setup"].nunique(),
            cautions=(caution("rig_without_repeats"),),
        )  # fmt: skip
    inner, inner_freedom = _within(table, ["setup", "day", "mount"])
    days, day_freedom = _within(table, ["setup", "day"])
    several_days = table.groupby("setup")["day"].nunique().max() > 1
    same_mount = math.sqrt(inner) if inner_freedom >= 1 else math.nan
    remount = day = math.nan
    total, degrees = whole, float(freedom)
    if inner_freedom >= 1 and day_freedom > inner_freedom:
        remount, total, degrees = _remounting(table, inner, inner_freedom)
    if several_days and day_freedom >= 1:
        day = math.sqrt(max(whole - days, 0.0))
    tail = (1 - level) / 2
    low = math.sqrt(total * degrees / float(chi_square_quantile(1 - tail, degrees)))
    high = math.sqrt(total * degrees / float(chi_square_quantile(tail, degrees)))
    cautions: list[Caution] = []
    if not total > 0:
        cautions.append(caution("rig_repeats_identical"))
    if degrees < 6:
        cautions.append(caution("few_degrees_of_freedom", freedom=degrees))
    remounted = bool(table.groupby("setup")["mount"].nunique().max() > 1)
    if not remounted:
        cautions.append(caution("remounting_not_in_it"))
    if not known_mounts:
        cautions.append(caution("mounts_not_noted"))
    return Repeatability(
        total=math.sqrt(total), low=low, high=high, freedom=degrees, same_mount=same_mount,
        remount=remount,
        day=day, runs=len(table), setups=table["setup"].nunique(), cautions=tuple(cautions),
        remounted=remounted,
    )  # fmt: skip


def _remounting(
    table: pd.DataFrame, inner: float, inner_freedom: int
) -> tuple[float, float, float]:
    """Return what remounting adds, the variance of a run in a new mount, and its degrees of freedom."""
    mounts = table.groupby(["setup", "day", "mount"])["value"].agg(["mean", "size"]).reset_index()
    between, freedom = _within(mounts.rename(columns={"mean": "value"}), ["setup", "day"])
    inside = inner * (1 - 1 / float(mounts["size"].mean()))
    total = between + inside
    if not total > 0:
        return 0.0, 0.0, float(max(freedom, 1))
    # Satterthwaite's degrees of freedom for a sum of two mean squares.
    degrees = total**2 / (between**2 / max(freedom, 1) + inside**2 / inner_freedom)
    return math.sqrt(max(total - inner, 0.0)), total, float(degrees)


def _within(table: pd.DataFrame, keys: list[str]) -> tuple[float, int]:
    """Return the variance within groups, and its degrees of freedom."""
    groups = table.groupby(keys)["value"]
    left = table["value"] - groups.transform("mean")
    freedom = len(table) - groups.ngroups
    return (float((left**2).sum()) / freedom if freedom else 0.0), freedom
