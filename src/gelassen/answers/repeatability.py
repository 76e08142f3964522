"""The scatter of a rig between runs of one setup: found, kept with the study, and read again."""

import json
from collections.abc import Iterable, Mapping
from dataclasses import replace
from pathlib import Path

import pandas as pd

from gelassen.answers.one_room import study_in_one_room
from gelassen.answers.run_row import RunRow, rows_to_table
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.comparing.mounting import mounts_of
from gelassen.core.comparing.repeatability import Repeatability, find_repeatability
from gelassen.core.foundation.errors import InputError
from gelassen.study.disk.writer import write_json

REPEATABILITY = "repeatability.json"


def study_repeatability(
    study: StudyRuns,
    *,
    confidence: float = 0.95,
    store: bool = False,
    leave_out: Mapping[str, str] | None = None,
) -> Repeatability:
    """Find how much the rig scatters between runs of one setup; see `Study.repeatability`."""
    table, left_out = study.table_and_left_out(confidence, leave_out)
    table["day"] = table["started"].astype(object).map(lambda s: str(s)[:10] if s else "")
    table, brought = study_in_one_room(study.file, table)
    free = table[~table["at_limit"].astype(bool)]
    if free.empty:
        raise InputError("every run was at its limit: repeats there show no scatter")
    found = find_repeatability(free, confidence=confidence)
    # Runs that were never remounted do not show the effect of remounting.
    if store and found.freedom > 0 and found.remounted:
        write_json(study.folder / REPEATABILITY, {"format": 1, **found.to_dict()})
    return replace(found, cautions=(*left_out, *brought, *found.cautions))


def known_repeatability(
    folder: Path, runs: Iterable[RunRow] | pd.DataFrame
) -> tuple[float, float] | None:
    """Return the repeatability kept with a study and its freedom, for runs without a repeat.

    Where a setup was mounted twice, its runs show the scatter, and the kept value may come from them.
    """
    table = runs if isinstance(runs, pd.DataFrame) else rows_to_table(runs)
    mounts = [name or f"run {k}" for k, name in enumerate(mounts_of(table))]
    if table.assign(mount=mounts).groupby("setup")["mount"].nunique().max() > 1:
        return None
    try:
        content = json.loads((folder / REPEATABILITY).read_text(encoding="utf-8"))
        spread, freedom = float(content["total"]), float(content["freedom"])
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return (spread, freedom) if spread > 0 and freedom > 0 else None
