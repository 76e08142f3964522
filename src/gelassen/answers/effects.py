"""The effect of each factor of a study, by itself and together with others."""

from collections.abc import Mapping, Sequence
from dataclasses import replace

from gelassen.answers.one_room import (
    free_runs,
    highest_power,
    rooms_said,
    runs_of_days,
    usual_room_effect,
)
from gelassen.answers.rows.known_spread import known_spread
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.comparing.effects import Effects, factor_effects
from gelassen.core.foundation.caution import caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest


def study_effects(
    study: StudyRuns,
    factors: Sequence[str] | None = None,
    *,
    value: str = "value",
    confidence: float = 0.95,
    leave_out: Mapping[str, str] | None = None,
) -> Effects:
    """Find the effect of each factor; see `Study.effects`."""
    table, left_out = study.table_and_left_out(leave_out)
    known = list(study.file.factors)
    if factors is None:
        factors = [name for name in known if len(set(table[name].dropna())) > 1]
    for name in factors:
        if name not in known:
            raise InputError(
                f'"{name}" is not a factor of this study ({", ".join(known) or "none"}).'
                + nearest(name, known)
            )
    if not factors:
        raise InputError("no factor of this study has two levels with runs")
    if value != "value":
        alone = table.assign(at_limit=False).drop(columns="standard_error")  # of the rise
        found = factor_effects(alone, factors, value=value, confidence=confidence)
        return replace(found, cautions=(*left_out, *found.cautions))
    free = free_runs(table, factors)
    base = table if free.empty else free
    runs, usual, day_spread = runs_of_days(base, study.file.doubt.room_k)
    spread = known_spread(study.folder, study.file.doubt, base)
    reached = table.assign(at_limit=~table.index.isin(free.index))
    reached[runs.columns] = runs.combine_first(table[["value"]]).reindex(columns=runs.columns)
    found = factor_effects(
        reached, factors, confidence=confidence, usual_spread=usual, day_spread=day_spread,
        repeatability=spread.spread,
        room_effect=usual_room_effect(study.file),
    )  # fmt: skip
    cautions = [
        *left_out,
        *spread.caution,
        *rooms_said(base["reference_c"], found, highest_power(base)),
        *found.cautions,
    ]
    if held := int(table["at_limit"].sum()):
        cautions.append(caution("limited_runs_are_bounds", count=held))
    return replace(found, cautions=tuple(cautions))
