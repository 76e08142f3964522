"""The scatter of a rig between runs of one setup: found, kept with the study, and read again."""

from collections.abc import Mapping
from dataclasses import replace

import pandas as pd

from gelassen.answers.one_room import study_in_one_room
from gelassen.answers.rows.known_spread import REPEATABILITY
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.comparing.repeatability import Repeatability, find_repeatability
from gelassen.core.foundation.errors import InputError
from gelassen.study.disk.writer import write_json


def study_repeatability(
    study: StudyRuns,
    *,
    confidence: float = 0.95,
    store: bool = False,
    leave_out: Mapping[str, str] | None = None,
) -> Repeatability:
    """Find how much the rig scatters between runs of one setup; see `Study.repeatability`."""
    table, left_out = study.table_and_left_out(leave_out)
    table, brought = study_in_one_room(study.file, table)
    found = repeatability_in(table, confidence)
    # Runs that were never remounted do not show the effect of remounting.
    if store and found.freedom > 0 and found.remounted:
        write_json(study.folder / REPEATABILITY, {"format": 1, **found.to_dict()})
    return replace(found, cautions=(*left_out, *brought, *found.cautions))


def repeatability_in(table: pd.DataFrame, confidence: float) -> Repeatability:
    """Return the scatter in a table of runs that were brought to one room.

    Raises
    ------
    InputError
        Every run was at its limit.
    """
    free = table[~table["at_limit"].astype(bool)]
    if free.empty:
        raise InputError("every run was at its limit: repeats there show no scatter")
    day = free["started"].astype(object).map(lambda text: str(text)[:10] if text else "")
    return find_repeatability(free.assign(day=day), confidence=confidence)
