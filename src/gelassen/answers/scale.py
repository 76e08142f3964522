"""The rise along a factor with numbers, or along a logged quantity."""

from collections.abc import Mapping, Sequence
from dataclasses import replace

import pandas as pd

from gelassen.answers.one_room import runs_of_days, study_in_one_room
from gelassen.answers.rows.known_spread import known_spread
from gelassen.answers.study_runs import StudyRuns
from gelassen.answers.thresholds import Scale
from gelassen.core.comparing.response import Response, response_curve
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.study.file.levels import level_text
from gelassen.study.file.study_file import StudyFile

# At one fan speed, the room has almost no effect on a rise.
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
    brought: list[Caution] = []
    if factor not in _OF_FANS:
        table, brought = study_in_one_room(study.file, table)
    found = along_scale(
        table, study.file, factor, where=where, worth=worth, confidence=confidence,
        repeatability=known_spread(study.folder, study.file.doubt, table).spread,
    )  # fmt: skip
    return replace(found, cautions=(*left_out, *brought, *found.cautions))


def along_scale(
    table: pd.DataFrame,
    file: StudyFile,
    factor: str,
    *,
    where: Mapping[str, str | float],
    worth: float,
    confidence: float,
    repeatability: tuple[float, float] | None,
) -> Response:
    """Find how the rise falls along a scale; see `Study.along`."""
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
        raise InputError(f'the levels of "{factor}" are not numbers: there is no scale to go along')
    free = table[~table["at_limit"].astype(bool)]
    cautions = [] if len(free) == len(table) else [
        caution("limited_runs_left_out", count=len(table) - len(free))
    ]  # fmt: skip
    if factor in file.factors:
        others = [n for n in file.factors if n != factor and len(set(free[n].dropna())) > 1]
        values, more = _evenly(free, factor, others)
        cautions += more
    else:  # logged: the runs of one setup share one place, or one place for each level of power
        keys = [table[name] for name in ("setup", "level") if name in table.columns]
        x = x.groupby(keys).transform("mean")
        _refuse_shared_places(x[free.index], free["setup"], factor)
        values = free["value"]
    chosen = free.loc[values.index]
    runs, usual, day_spread = runs_of_days(chosen, file.doubt.room_k)
    if "shared_error" in chosen.columns:
        runs["shared_error"] = chosen["shared_error"]
    found = response_curve(
        x[values.index], values, runs=runs, worth=worth, confidence=confidence,
        repeatability=repeatability, usual_spread=usual, day_spread=day_spread,
    )  # fmt: skip
    return replace(found, cautions=(*found.cautions, *cautions))


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
) -> tuple["pd.Series[float]", list[Caution]]:
    """Return values without the effect of other factors, where these were run at every level."""
    if not others:
        return runs["value"], []
    levels = runs[factor].nunique()
    complete = runs.groupby(list(others))[factor].transform("nunique") == levels
    good = runs[complete]
    if good.empty:
        raise InputError(
            f"no combination of {', '.join(others)} was run at every level of {factor}: choose one with "
            "--where FACTOR=LEVEL"
        )
    # Each level has the same weight in its combination, however often it was run.
    middle = good.groupby([*others, factor])["value"].transform("mean")
    cells = good.assign(middle=middle).drop_duplicates([*others, factor])
    means = cells.groupby(list(others))["middle"].mean()
    keys = good[list(others)].apply(tuple, axis=1)
    own = keys.map({k if isinstance(k, tuple) else (k,): v for k, v in means.items()})
    note = [caution("averaged_over", factors=", ".join(others))]
    if len(good) < len(runs):
        note.append(caution("incomplete_left_out", count=len(runs) - len(good)))
    return good["value"] - own.astype(float) + float(means.mean()), note
