"""The setups of a study compared: which runs are used, and which corrections are made."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import partial

from gelassen.answers.comparison import ComparisonAsked, StudyComparison, compare_runs
from gelassen.answers.drift import study_drift
from gelassen.answers.fans.entered import curves_not_shown
from gelassen.answers.ladder import attempted_factor
from gelassen.answers.rows.by_quantity import chosen_by, quantity_named
from gelassen.answers.rows.known_spread import known_spread
from gelassen.answers.rows.own_levels import tried_at_levels
from gelassen.answers.rows.power_steps import at_one_power
from gelassen.answers.rows.run_row import RunRow, started_days
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.comparing.comparability import Comparability, comparability
from gelassen.core.comparing.machine_drift import MachineDrift
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.study.file.levels import expected_quantities, level_details


def compare_setups_of(
    study: StudyRuns,
    *,
    baseline: str | None = None,
    confidence: float = 0.95,
    leave_out: Mapping[str, str] | None = None,
    room_c: float | None = None,
    correct_drift: bool = False,
    by: str = "rise",
) -> StudyComparison:
    """Compare the setups by steady rise over the reference, or another quantity; see `Study.compare`."""
    quantity_named(by)  # refused before any run is analysed
    against = study.checked_baseline(baseline)
    rows, left_out = study.compared_rows(leave_out)
    said: list[Caution] = []
    if baseline is None and against is not None and tried_at_levels(rows, against):
        said.append(caution("baseline_at_levels", baseline=against))
        against = None
    if by != "rest":  # which no power of a load moves
        rows, left_out, level = at_one_power(rows, left_out)
        said += level
    chosen = chosen_by(rows, left_out, by, partial(known_spread, study.folder, study.file.doubt))
    rows, said = chosen.rows, [*said, *chosen.cautions]
    if chosen.by is not None and (correct_drift or room_c is not None):
        raise InputError(f"by {chosen.by.name}, neither a room nor a drift is corrected")
    if correct_drift:
        drift = study_drift(study, against, confidence=confidence, leave_out=leave_out)
        rows, done = _without_drift(rows, drift)
        said.append(done)
    asked = ComparisonAsked(
        title=study.file.title,
        baseline=against,
        confidence=confidence,
        made_up=study.is_made_up(rows),
        spread_of=chosen.spread_of,
        by=chosen.by,
        room_c=room_c,
        expected=expected_quantities(study.file),
        reference=study.named_reference(),
        room_k=study.file.doubt.room_k,
        matters_k=study.file.doubt.matters_k,
        attempted=attempted_factor(study.file, rows),
    )
    found = compare_runs(rows, chosen.left_out, asked)
    entered = curves_not_shown(study.file, rows)
    details = tuple(
        (level, factor, "; ".join(f"{what}: {value}" for what, value in known.items()))
        for level, factor, known in level_details(study.file)
        if known
    )
    return replace(
        found,
        cautions=(*said, *entered, *found.cautions),
        details=details,
        comfort_c=study.file.comfort_c,
    )


def study_comparability(
    study: StudyRuns, *, leave_out: Mapping[str, str] | None = None
) -> Comparability:
    """Find what differed between runs and between setups; see `Study.comparability`."""
    table = study.table(leave_out=leave_out)
    return comparability(table, expected=expected_quantities(study.file))


def _without_drift(rows: Sequence[RunRow], drift: MachineDrift) -> tuple[list[RunRow], Caution]:
    """Return rows without the drift of the baseline's repeats, and what was done."""
    if not drift.distinguishable:
        return list(rows), caution("no_drift_to_correct")
    corrected = []
    for row in rows:
        days = started_days(row.started)
        shift = 0.0 if math.isnan(days) else drift.correction(days)
        value, low, high = (
            None if x is None else x + shift for x in (row.value, row.low, row.high)
        )
        corrected.append(replace(row, value=value, low=low, high=high))
    return corrected, caution("drift_corrected", over_all_k=drift.over_all, per_day_k=drift.per_day)
