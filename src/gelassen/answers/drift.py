"""Whether the machine itself changed during the test, from repeats of one setup."""

from collections.abc import Mapping
from dataclasses import replace

from gelassen.answers.one_room import study_in_one_room
from gelassen.answers.rows.run_row import started_days
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.comparing.machine_drift import MachineDrift, machine_drift
from gelassen.core.comparing.mounting import mounts_of
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest


def study_drift(
    study: StudyRuns,
    setup: str | None = None,
    *,
    confidence: float = 0.95,
    leave_out: Mapping[str, str] | None = None,
) -> MachineDrift:
    """Look for a trend in repeats of one setup over time; see `Study.drift`."""
    table, left_out = study.table_and_left_out(confidence, leave_out)
    table, brought = study_in_one_room(study.file, table)
    name = setup or study.file.baseline or str(table["setup"].mode().iloc[0])
    runs = table[table["setup"] == name]
    if runs.empty:
        raise InputError(f'there is no run of "{name}".' + nearest(name, table["setup"].unique()))
    found = machine_drift(
        [started_days(started) for started in runs["started"]],
        runs["value"],
        mount=mounts_of(runs),
        confidence=confidence,
        shared_error=runs["shared_error"] if "shared_error" in runs.columns else None,
    )
    return replace(found, cautions=(*found.cautions, *brought, *left_out))
