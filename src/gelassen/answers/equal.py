"""Setups compared at equal noise, fan speed or duty."""

from collections.abc import Mapping

import pandas as pd

from gelassen.answers.fans.equal_fans import common_middle, equal_by_law, none_reaches
from gelassen.answers.one_room import runs_of_days
from gelassen.answers.quantities import check_factor, is_logged
from gelassen.answers.rows.known_spread import known_spread
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.comparing.along.equal_point import at_equal_point
from gelassen.core.comparing.priors import Spread
from gelassen.core.foundation.errors import InputError
from gelassen.study.file.levels import level_text, moves_fans, power_factors
from gelassen.study.file.study_file import StudyFile

# Rise over fan speed is nearly straight over the logarithm of the speed. Decibels are logarithms already.
BETWEEN_LEVELS = "smooth courses between levels"
_SPEEDS = ("fan_rpm", "duty_pct")
_COLUMNS = {
    "group": "setup", "value": "rise_k", "low": "low_k", "high": "high_k", "difference": "difference_k",
    "difference_low": "difference_low_k", "difference_high": "difference_high_k",
}  # fmt: skip


def study_at_equal(
    study: StudyRuns,
    quantity: str,
    at: float | None = None,
    *,
    where: Mapping[str, str | float],
    confidence: float = 0.95,
    leave_out: Mapping[str, str] | None = None,
) -> pd.DataFrame:
    """Compare setups at equal noise, fan speed or duty; see `Study.at_equal`."""
    for factor in where:
        check_factor(study.file, factor)
    powers = power_factors(study.file)
    law = equal_by_law(
        study, quantity, at, confidence=confidence, leave_out=leave_out,
        setups=_with_levels(study.file, {f: x for f, x in where.items() if f not in powers}),
        shown=_with_levels(study.file, where),
    )  # fmt: skip
    if law is not None:
        return law.rename(columns=_COLUMNS)
    table, left_out = study.table_and_left_out(leave_out)
    for factor, level in where.items():
        table = table[table[factor].map(level_text) == level_text(level)]
    runs = _grouped_by_still_factors(table, study.file, quantity)
    means = runs.groupby(["group", "setup"], sort=False)["x"].mean().groupby("group", sort=False)
    spans = {str(name): (float(x.min()), float(x.max())) for name, x in means}
    at = common_middle(spans, quantity) if at is None else at
    if not any(low <= at <= high for low, high in spans.values()):
        raise none_reaches(spans, quantity, at)
    spread = known_spread(study.folder, study.file.doubt, runs)
    known, usual, day_spread = runs_of_days(runs, study.file.doubt.room_k)
    found = at_equal_point(
        known.assign(**{name: runs[name] for name in ("group", "load", "x")}),
        at,
        logarithmic=quantity in _SPEEDS,
        confidence=confidence,
        repeatability=spread.spread,
        usual_spread=usual or Spread.USUAL_K,
        day_spread=day_spread,
    )
    powers = runs.groupby("group")["power_w"].mean() if "power_w" in runs.columns else {}
    found = found.assign(
        power_w=found["group"].map(powers), passes_limit=False, method=BETWEEN_LEVELS
    )
    found.attrs["cautions"] = [*left_out, *spread.caution]
    return found.rename(columns=_COLUMNS)


def _with_levels(file: StudyFile, where: Mapping[str, str | float]) -> list[str]:
    """Return the setups that have these levels."""
    return [
        name for name, levels in file.setups.items()
        if all(level_text(levels.get(f, "")) == level_text(level) for f, level in where.items())
    ]  # fmt: skip


def _grouped_by_still_factors(table: pd.DataFrame, file: StudyFile, quantity: str) -> pd.DataFrame:
    """Return the runs below their limit: their quantity as `x`, and their group by the other factors."""
    if table.empty:
        raise InputError("no run has these levels")
    if not is_logged(table, quantity):
        known = [n for n in ("noise_dba", "fan_rpm", "duty_pct") if is_logged(table, n)]
        other = f"setups can be compared at equal {', '.join(known)}"
        raise InputError(
            f'"{quantity}" was not logged; {other if known else "nor were noise, fan speed or duty"}'
        )
    moved = moves_fans(file)
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
    return free.assign(group=keys[free.index], x=free[quantity], load=loads)
