"""Two goals at once: the rise or the capacity against noise, price or fan speed."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
import pandas as pd

from gelassen.answers.capacities import StudyCapacity, study_capacity
from gelassen.answers.comparison import StudyComparison
from gelassen.answers.quantities import check_factor, is_logged, named
from gelassen.answers.rows.by_quantity import QUANTITIES
from gelassen.answers.setups import compare_setups_of
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.comparing.tradeoff import Tradeoff, tradeoff
from gelassen.core.foundation.caution import caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.study.file.levels import (
    detail,
    level_text,
    setups_without_power,
    without_power,
)
from gelassen.study.file.study_file import StudyFile

_MORE = ("work_per_s", "clock_mhz", "capacity")  # of these, more is better


def study_tradeoff(
    study: StudyRuns,
    against: str = "noise_dba",
    *,
    of: str = "rise",
    room_c: float = 25.0,
    where: Mapping[str, str | float],
    confidence: float = 0.95,
    leave_out: Mapping[str, str] | None = None,
) -> Tradeoff:
    """Compare the rise, or another quantity, with a second one; see `Study.tradeoff`."""
    by = "rise" if of == "capacity" else _of_column(of)
    if by != "rise" and by not in QUANTITIES:
        known = ["rise", "capacity", *QUANTITIES]
        raise InputError(f'"{of}" cannot be traded ({", ".join(known)}).' + nearest(of, known))
    comparison = compare_setups_of(study, by=by, confidence=confidence, leave_out=leave_out)
    against = _known_as(study.file, against)
    if of == "capacity":
        capacity = study_capacity(study, room_c=room_c, confidence=confidence, leave_out=leave_out)
        found = trade_capacity(comparison, capacity, study.file, against)
    else:
        found = trade_means(comparison, study.file, against, where=where)
    left_out = [caution("left_out", run=run, why=why) for run, why in comparison.left_out]
    found = replace(found, cautions=(*left_out, *found.cautions))
    words = study.file.scales.get(against)
    if words is None:
        return found
    # A word has a place, and no size.
    return replace(found, x_words=tuple(words), table=found.table.assign(x_per_gain=math.nan))


def _of_column(name: str) -> str:
    """Return the quantity whose column this is, else the name itself."""
    return next((one.name for one in QUANTITIES.values() if one.column == name), name)


def _known_as(file: StudyFile, against: str) -> str:
    """Return the name of the column with this quantity. A detail of the study file keeps its name."""
    details = {name for f in file.factors.values() for d in f.details.values() for name in d}
    if against in details:
        return against
    if against in QUANTITIES:
        return QUANTITIES[against].column or against
    return {"noise": "noise_dba", "fan": "fan_rpm"}.get(against, against)


def trade_means(
    comparison: StudyComparison,
    file: StudyFile,
    against: str,
    *,
    where: Mapping[str, str | float],
) -> Tradeoff:
    """Compare what setups were compared by with another quantity; see `Study.tradeoff`."""
    setups, by = comparison.setups, comparison.by
    for factor, level in where.items():
        check_factor(file, factor)
        own = [file.setups.get(str(n), {}).get(factor) for n in setups["setup"]]
        setups = setups[[level_text(x) == level_text(level) for x in own]]
    names = [str(name) for name in setups["setup"]]
    x = _quantity(file, against, comparison, names)
    of_heat = by is None or by.is_rise
    found = tradeoff(
        names, x, setups["rise_k"], y_low=setups["low_k"], y_high=setups["high_k"],
        x_name=named(against), y_name=named("rise") if by is None else f"{by.what}, {by.unit}",
        more_x=against in _MORE, more_y=by is not None and by.more_is_better,
        groups=_letters(setups), work=_work(setups) if of_heat and against not in _MORE else None,
        baseline=comparison.baseline,
    )  # fmt: skip
    powers = setups["power_w"].dropna()
    if of_heat and len(powers) and powers.max() > 1.2 * powers.min():
        more = caution(
            "traded_at_several_powers", low_w=float(powers.min()), high_w=float(powers.max()),
            how="compare those of one power, --where FACTOR=LEVEL" if file.factors
            else "less power is easier to cool",
        )  # fmt: skip
        found = replace(found, cautions=(more, *found.cautions))
    return found


def _letters(setups: pd.DataFrame) -> list[str]:
    """Return the letters of the comparison; each setup at its limit has one of its own."""
    return [str(letters) or f"[{k}]" for k, letters in enumerate(setups["group"])]


def _work(setups: pd.DataFrame) -> pd.Series:
    """Return what each setup did: its rounds of work, else its power."""
    return setups["work_per_s"] if setups["work_per_s"].notna().all() else setups["power_w"]


def trade_capacity(
    comparison: StudyComparison, found: StudyCapacity, file: StudyFile, against: str
) -> Tradeoff:
    """Compare the capacity with another quantity; see `Study.tradeoff`."""
    groups = setups_without_power(file)
    members: dict[str, list[str]] = {}
    for name in comparison.setups["setup"]:
        members.setdefault(groups.get(str(name)) or without_power(str(name)), []).append(str(name))
    names = [str(n) for n in found.setups["setup"]]
    x = [float(np.nanmean(_quantity(file, against, comparison, members[n]))) for n in names]
    return tradeoff(
        names, x, found.setups["capacity_w"], y_low=found.setups["low_w"],
        y_high=found.setups["high_w"],
        x_name=named(against), y_name=named("capacity"), more_x=against in _MORE, more_y=True,
        baseline=_group_of(comparison.baseline, groups),
    )  # fmt: skip


def _group_of(setup: str | None, groups: Mapping[str, str]) -> str | None:
    return None if setup is None else groups.get(setup) or without_power(setup)


def _quantity(
    file: StudyFile, against: str, comparison: StudyComparison, names: Sequence[str]
) -> list[float]:
    setups = comparison.setups.set_index("setup")
    if is_logged(setups, against):
        return [float(setups.loc[name, against]) for name in names]
    if is_logged(comparison.runs, against):
        means = comparison.runs.groupby("setup")[against].mean()
        return [float(means[name]) for name in names]
    found = [detail(file, name, against) for name in names]
    if all(math.isnan(x) for x in found):
        details = sorted({k for f in file.factors.values() for d in f.details.values() for k in d})
        logged = [
            n
            for n in ("noise_dba", "fan_rpm", "power_w", "work_per_s")
            if is_logged(comparison.runs, n) or is_logged(comparison.setups, n)
        ]
        if against in details:
            raise InputError(
                f"the {against} of the setups is told in words. Say their order in the study file, from "
                f'the best on: [scales] {against} = ["...", "..."]'
            )
        raise InputError(
            f'no setup has "{against}". Logged: {", ".join(logged) or "nothing of the kind"}; in the '
            f"study file: {', '.join(details) or 'no details'}." + nearest(against, details)
        )
    return found
