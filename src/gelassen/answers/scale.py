"""The rise along a factor with numbers, or along a logged quantity."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import partial

import pandas as pd

from gelassen.answers.one_room import (
    free_runs,
    highest_power,
    rooms_said,
    runs_of_days,
    usual_room_effect,
)
from gelassen.answers.quantities import named
from gelassen.answers.rows.known_spread import KnownSpread, known_spread
from gelassen.answers.study_runs import StudyRuns
from gelassen.answers.thresholds import Scale
from gelassen.core.comparing.along.response import Response, response_curve
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.study.file.levels import level_text
from gelassen.study.file.study_file import StudyFile

_OF_FANS = ("fan_rpm", "duty_pct", "noise_dba")


def study_along(
    study: StudyRuns,
    factor: str,
    *,
    where: Mapping[str, str | float],
    worth: float = 0.0,
    confidence: float = 0.95,
    leave_out: Mapping[str, str] | None = None,
) -> Response:
    """Find how the rise falls along a factor with numbers; see `Study.along`."""
    table, left_out = study.table_and_left_out(
        leave_out, every_level=factor not in study.file.factors
    )
    found = along_scale(
        table, study.file, factor, where=where, worth=worth, confidence=confidence,
        spread_of=partial(known_spread, study.folder, study.file.doubt),
    )  # fmt: skip
    return replace(found, cautions=(*left_out, *found.cautions))


def along_scale(
    table: pd.DataFrame,
    file: StudyFile,
    factor: str,
    *,
    where: Mapping[str, str | float],
    worth: float,
    confidence: float,
    spread_of: Callable[[pd.DataFrame], KnownSpread],
) -> Response:
    """Find how the rise falls along a scale; see `Study.along`."""
    every, (table, x) = table, _on_scale(table, file, factor, where)
    others = [n for n in file.factors if n != factor and len(set(table[n].dropna())) > 1]
    along = factor in file.factors
    places = ["setup"] if along else [n for n in ("setup", "level") if n in table.columns]
    fitted = free_runs(every if along else table, places)
    free = fitted.loc[fitted.index.intersection(table.index)]
    if free.empty:
        raise InputError("every run was at its limit: there is no course to tell")
    lost = len(table) - len(free)
    cautions = [caution("limited_runs_left_out", count=lost)] if lost else []
    if bounds := int(table["at_limit"].sum()) - lost:
        cautions.append(caution("limited_runs_are_bounds", count=bounds))
    combinations = None
    if along:
        free, combinations, more = _evenly(free, factor, others)
        cautions += more
    else:  # logged: the runs of one setup share one place, or one place for each level of power
        x = x.groupby([table[name] for name in places]).transform("mean")
        _refuse_shared_places(x[free.index], free["setup"], factor)
    beside = fitted.drop(index=free.index)
    fitted = pd.concat([free, beside]) if len(beside) else free
    runs, usual, day_spread = runs_of_days(fitted, file.doubt.room_k)
    spread = spread_of(fitted)
    found = response_curve(
        x.reindex(fitted.index), fitted["value"], runs=runs, worth=worth,
        others=[*(combinations or [""] * len(free)), *beside["setup"]],
        chosen=fitted.index.isin(free.index).tolist(),
        confidence=confidence, repeatability=spread.spread, usual_spread=usual, day_spread=day_spread,
        # At one fan speed, the room has almost no effect on a rise.
        room_effect=None if factor in _OF_FANS else usual_room_effect(file),
    )  # fmt: skip
    said = rooms_said(fitted["reference_c"], found, highest_power(fitted))
    return replace(
        found, name=named(factor), cautions=(*spread.caution, *said, *found.cautions, *cautions)
    )


def _on_scale(
    table: pd.DataFrame, file: StudyFile, factor: str, where: Mapping[str, str | float]
) -> "tuple[pd.DataFrame, pd.Series[float]]":
    """Return the runs with these levels, and the place of each on the scale."""
    for name, level in where.items():
        if name not in table.columns:
            raise InputError(
                f'"{name}" is not a factor of this study.' + nearest(name, file.factors)
            )
        table = table[table[name].map(level_text) == level_text(level)]
    if factor not in table.columns:
        raise InputError(
            f'"{factor}" is not a factor of this study.' + nearest(factor, file.factors)
        )
    if table.empty:
        raise InputError("no run has these levels")
    x = pd.to_numeric(table[factor], errors="coerce")
    if x.isna().all():
        why = "its levels are not numbers" if factor in file.factors else "it was not logged"
        raise InputError(f'there is no scale to go along "{factor}": {why}')
    return table, x


def _refuse_shared_places(x: "pd.Series[float]", setup: "pd.Series[str]", quantity: str) -> None:
    """Refuse setups that share one place: something other than the scale makes them differ."""
    places = pd.DataFrame({"x": x, "setup": setup}).dropna().drop_duplicates().sort_values("x")
    near = places["x"].diff().abs() < Scale.SAME_PLACE * places["x"].abs()
    for after in near.to_numpy().nonzero()[0]:
        one, other = places["setup"].iloc[after - 1], places["setup"].iloc[after]
        if one != other:
            place = places["x"].iloc[after]
            raise InputError(
                f'"{one}" and "{other}" have the same {quantity} ({place:.4g}): they differ in something '
                "else. Choose with --where FACTOR=LEVEL or --where setup=NAME"
            )


def _evenly(
    runs: pd.DataFrame, factor: str, others: Sequence[str]
) -> tuple[pd.DataFrame, list[str] | None, list[Caution]]:
    """Return the runs whose combination of other factors was run at every level, and that combination."""
    others = [name for name in others if len(set(runs[name].dropna())) > 1]
    if not others:
        return runs, None, []
    levels = runs[factor].nunique()
    complete = runs.groupby(list(others))[factor].transform("nunique") == levels
    good = runs[complete]
    if good.empty:
        raise InputError(
            f"no combination of {', '.join(others)} was run at every level of {factor}: choose one with "
            "--where FACTOR=LEVEL"
        )
    note = [caution("averaged_over", factors=", ".join(others))]
    if len(good) < len(runs):
        note.append(caution("incomplete_left_out", count=len(runs) - len(good)))
    return good, good[list(others)].astype(str).agg(", ".join, axis=1).tolist(), note
