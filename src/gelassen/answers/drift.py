"""Whether the machine itself changed during the test, from repeats of one setup."""

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
import pandas as pd

from gelassen.answers.one_room import days_of, study_in_one_room
from gelassen.answers.rows.by_quantity import QUANTITIES
from gelassen.answers.rows.run_row import started_days
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.comparing.machine_drift import MachineDrift, machine_drift
from gelassen.core.comparing.mounting import mounts_of
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest

# What may change in a machine over weeks beside its temperature under load.
_DRIFTING = ("rest", "clock", "voltage", "power", "work", "score")


def study_drifts(
    study: StudyRuns,
    setup: str | None = None,
    *,
    confidence: float = 0.95,
    leave_out: Mapping[str, str] | None = None,
) -> pd.DataFrame:
    """Look for trends of rest, clock, voltage, power, work and score; see `Study.drifts`."""
    table, _ = study.table_and_left_out(leave_out, setup=setup)
    name = repeated_setup(study, table, setup)
    runs = table[table["setup"] == name]
    lines = []
    for quantity in _DRIFTING:
        told = runs[[quantity in (known or {}) for known in runs["quantities"]]]
        if told.empty:
            continue
        found = machine_drift(
            [started_days(started) for started in told["started"]],
            [known[quantity][0] for known in told["quantities"]],
            mount=mounts_of(told), day=list(days_of(told)), confidence=confidence,
        )  # fmt: skip
        days = float(np.ptp([started_days(started) for started in told["started"]]))
        lines.append(
            {
                "quantity": quantity, "unit": QUANTITIES[quantity].unit, "runs": found.runs,
                "over_all": found.over_all, "low": found.low * days, "high": found.high * days,
                "distinguishable": found.distinguishable,
            }
        )  # fmt: skip
    columns = ["quantity", "unit", "runs", "over_all", "low", "high", "distinguishable"]
    return pd.DataFrame(lines, columns=columns)


def repeated_setup(study: StudyRuns, table: pd.DataFrame, setup: str | None) -> str:
    """Return the setup that was asked for; else the baseline, else the setup with most runs."""
    name = setup or study.file.baseline or str(table["setup"].mode().iloc[0])
    if name not in set(table["setup"]):
        raise InputError(f'there is no run of "{name}".' + nearest(name, table["setup"].unique()))
    return name


def study_drift(
    study: StudyRuns,
    setup: str | None = None,
    *,
    confidence: float = 0.95,
    leave_out: Mapping[str, str] | None = None,
) -> MachineDrift:
    """Look for a trend in repeats of one setup over time; see `Study.drift`."""
    table, left_out = study.table_and_left_out(leave_out, setup=setup)
    table, brought = study_in_one_room(study.file, table)
    found = drift_in(table, repeated_setup(study, table, setup), confidence)
    return replace(found, cautions=(*found.cautions, *brought, *left_out))


def drift_in(table: pd.DataFrame, setup: str, confidence: float) -> MachineDrift:
    """Return the trend of one setup in a table of runs that were brought to one room."""
    runs = table[table["setup"] == setup]
    return machine_drift(
        [started_days(started) for started in runs["started"]], runs["value"], mount=mounts_of(runs),
        day=list(days_of(runs)), confidence=confidence,
        shared_error=runs["shared_error"] if "shared_error" in runs.columns else None,
    )  # fmt: skip
