"""The effect of each factor of a study, by itself and together with others."""

from collections.abc import Mapping, Sequence
from dataclasses import replace

from gelassen.answers.comparison import with_expected
from gelassen.answers.one_room import runs_of_days, study_in_one_room
from gelassen.answers.rows.known_spread import known_spread
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.comparing.effects import Effects, factor_effects
from gelassen.core.comparing.fit_runs import RUN_COLUMNS
from gelassen.core.foundation.caution import Caution, caution
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
    brought: list[Caution] = []
    of_rise = value == "value"
    if of_rise:
        table, brought = study_in_one_room(study.file, table)
    if of_rise:
        free = with_expected(table, factors)
        runs, usual, day_spread = runs_of_days(free, study.file.doubt.room_k)
        found = factor_effects(
            free.assign(**{name: runs[name] for name in RUN_COLUMNS if name in runs}), factors,
            confidence=confidence, usual_spread=usual, day_spread=day_spread,
            repeatability=known_spread(study.folder, study.file.doubt, free).spread,
        )  # fmt: skip
    else:
        alone = table.assign(at_limit=False).drop(columns="standard_error")  # of the rise
        found = factor_effects(alone, factors, value=value, confidence=confidence)
    cautions = [*left_out, *brought, *found.cautions]
    if held := int(table["at_limit"].sum()) if of_rise else 0:
        cautions.append(caution("limited_runs_are_bounds", count=held))
    return replace(found, cautions=tuple(cautions))
