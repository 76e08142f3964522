"""Two wishes at once: the rise or the capacity against noise, price, fan speed; and at equal noise."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
import pandas as pd

from gelassen.answers.capacities import StudyCapacity
from gelassen.answers.comparison import StudyComparison
from gelassen.answers.one_room import USUAL_SPREAD_K
from gelassen.core.comparing.equal_point import at_equal_point
from gelassen.core.comparing.tradeoff import Tradeoff, tradeoff
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.study.file.levels import (
    FAN_WORDS,
    detail,
    level_text,
    power_factors,
    setups_without_power,
    without_power,
)
from gelassen.study.file.study_file import StudyFile

_MORE = ("work_per_s", "clock_mhz", "capacity")  # of these, more is better
_SPEEDS = ("fan_rpm", "duty_pct")  # along their logarithm courses are straighter; decibels are one
_NAMES = {
    "rise": "rise, K", "capacity": "capacity, W", "noise_dba": "noise, dB(A)", "fan_rpm": "fan speed, rpm",
    "power_w": "power, W", "work_per_s": "work, 1/s", "clock_mhz": "clock, MHz", "duty_pct": "duty, %",
}  # fmt: skip


def trade_rise(
    comparison: StudyComparison,
    file: StudyFile,
    against: str,
    *,
    of: str,
    where: Mapping[str, str | float],
) -> Tradeoff:
    """Set the rise, or work, against something; see `Study.tradeoff`."""
    setups = comparison.setups
    for factor, level in where.items():
        _check_factor(file, factor)
        own = [file.setups.get(str(n), {}).get(factor) for n in setups["setup"]]
        setups = setups[[level_text(x) == level_text(level) for x in own]]
    names = [str(name) for name in setups["setup"]]
    x = _quantity(file, against, comparison, names)
    wanted = {
        "rise": "rise_k",
        "work_per_s": "work_per_s",
        "clock_mhz": "clock_mhz",
        "power_w": "power_w",
    }
    if of not in wanted:
        raise InputError(
            f'"{of}" cannot be traded ({", ".join([*wanted, "capacity"])}).' + nearest(of, wanted)
        )
    rise = of == "rise"
    found = tradeoff(
        names, x, setups[wanted[of]], y_low=setups["low_k"] if rise else None,
        y_high=setups["high_k"] if rise else None, x_name=_named(against), y_name=_named(of),
        more_x=against in _MORE, more_y=of in _MORE,
    )  # fmt: skip
    powers = setups["power_w"].dropna()
    if rise and len(powers) and powers.max() > 1.2 * powers.min():
        more = (
            f"these setups drew {powers.min():.0f} to {powers.max():.0f} W: compare those "
            f"of one power, "
            "--where FACTOR=LEVEL"
        )
        found = replace(found, cautions=(more, *found.cautions))
    return found


def trade_capacity(
    comparison: StudyComparison, found: StudyCapacity, file: StudyFile, against: str
) -> Tradeoff:
    """Set the capacity against something; see `Study.tradeoff`."""
    groups = setups_without_power(file)
    members: dict[str, list[str]] = {}
    for name in comparison.setups["setup"]:
        members.setdefault(groups.get(str(name)) or without_power(str(name)), []).append(str(name))
    names = [str(n) for n in found.setups["setup"]]
    x = [float(np.nanmean(_quantity(file, against, comparison, members[n]))) for n in names]
    return tradeoff(
        names, x, found.setups["capacity_w"], y_low=found.setups["low_w"],
        y_high=found.setups["high_w"],
        x_name=_named(against), y_name=_named("capacity"), more_x=against in _MORE, more_y=True,
    )  # fmt: skip


def compare_at_equal(
    table: pd.DataFrame,
    file: StudyFile,
    quantity: str,
    at: float | None,
    *,
    where: Mapping[str, str | float],
    confidence: float,
    repeatability: tuple[float, float] | None,
) -> pd.DataFrame:
    """Compare setups at equal noise, fan speed or duty; see `Study.at_equal`."""
    for factor, level in where.items():
        _check_factor(file, factor)
        table = table[table[factor].map(level_text) == level_text(level)]
    if table.empty:
        raise InputError("no run has these levels")
    if not _is_logged(table, quantity):
        known = [n for n in ("noise_dba", "fan_rpm", "duty_pct") if _is_logged(table, n)]
        raise InputError(
            f'"{quantity}" was not logged; setups can be compared at equal '
            f"{', '.join(known) or 'nothing'}"
        )
    moved = [n for n in file.factors if any(w in n for w in FAN_WORDS)]
    if not moved:
        raise InputError("no factor of this study moves the fans: there is nothing to go along")
    still = [n for n in file.factors if n not in moved]
    keys = (
        table[still].map(level_text).agg(", ".join, axis=1)
        if still
        else pd.Series("all", table.index)
    )
    free = table[~table["at_limit"].astype(bool) & table[quantity].notna()]
    if free.empty:
        raise InputError(
            f"every run with {quantity} sat at its temperature limit: compare the powers they held"
        )
    powers = [*power_factors(file), *(["load"] if "load" in free.columns else [])]
    loads = free[powers].map(level_text).agg(", ".join, axis=1) if powers else ""
    runs = free.assign(group=keys[free.index], x=free[quantity], load=loads)
    groups = {
        name: part.groupby("setup")["x"].mean() for name, part in runs.groupby("group", sort=False)
    }
    if at is None:
        low = max(float(x.min()) for x in groups.values())
        high = min(float(x.max()) for x in groups.values())
        if low > high:
            spans = "; ".join(
                f"{name}: {x.min():.4g} to {x.max():.4g}" for name, x in groups.items()
            )
            raise InputError(
                f"the setups have no {quantity} in common ({spans}): say at which value to compare, "
                "with --at or at="
            )
        at = (low + high) / 2
    found = at_equal_point(
        runs[["group", "setup", "load", "x", "value", "standard_error", "mount"]], at,
        logarithmic=quantity in _SPEEDS, confidence=confidence, repeatability=repeatability,
        usual_spread=USUAL_SPREAD_K,
    )  # fmt: skip
    return found.rename(columns={
        "group": "setup", "value": "rise_k", "low": "low_k", "high": "high_k", "difference": "difference_k",
        "difference_low": "difference_low_k", "difference_high": "difference_high_k",
    })  # fmt: skip


def _check_factor(file: StudyFile, factor: str) -> None:
    if factor not in file.factors:
        raise InputError(f'"{factor}" is no factor of this study.' + nearest(factor, file.factors))


def _quantity(
    file: StudyFile, against: str, comparison: StudyComparison, names: Sequence[str]
) -> list[float]:
    setups = comparison.setups.set_index("setup")
    if against in setups.columns:
        return [float(setups.loc[name, against]) for name in names]
    if against in comparison.runs.columns:
        means = comparison.runs.groupby("setup")[against].mean()
        return [float(means[name]) for name in names]
    found = [detail(file, name, against) for name in names]
    if all(math.isnan(x) for x in found):
        details = sorted({k for f in file.factors.values() for d in f.details.values() for k in d})
        logged = [
            n
            for n in ("noise_dba", "fan_rpm", "power_w", "work_per_s")
            if _is_logged(comparison.runs, n) or _is_logged(comparison.setups, n)
        ]
        raise InputError(
            f'no setup has "{against}". Logged: {", ".join(logged) or "nothing of the kind"}; in the '
            f"study file: {', '.join(details) or 'no details'}." + nearest(against, details)
        )
    return found


def _is_logged(table: pd.DataFrame, quantity: str) -> bool:
    return quantity in table.columns and bool(table[quantity].notna().any())


def _named(quantity: str) -> str:
    return _NAMES.get(quantity, quantity)
