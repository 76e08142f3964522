"""How far until it fails: attempts at rising powers, clocks, voltages, and how each ended."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.answers.quantities import check_factor
from gelassen.answers.rows.run_row import RunRow
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.result import Result
from gelassen.study.disk.run_file import ATTEMPTS
from gelassen.study.file.levels import level_text
from gelassen.study.file.study_file import StudyFile

_HELD = "held"
# What attempts may rise in without being a factor: what each run read.
_READ = {
    "power": "power_w", "clock": "clock_mhz", "room": "reference_c", "minutes": "load_length_s",
}  # fmt: skip
_HELD_BACK_SHARE = 0.01  # share of the load held back by heat from which an attempt was held back


@dataclass(frozen=True, slots=True, kw_only=True)
class Ladder(Result):
    """Attempts of each setup along one factor.

    Attributes
    ----------
    attempts : DataFrame
        setup (without the factor), level, ending, minutes, rise_k, power_w, clock_mhz, errors, run.
    setups : DataFrame
        setup, held_to (the highest level that held, every lower one too), minutes (how long it held there
        at most), fails_at (the lowest level that did not), ending (how), contradicted (a level above one
        that did not hold has held).
    coolest
        Setup to the run that held with the lowest rise, for attempts at several voltages and the like.
    factor
        What rises.
    """

    attempts: pd.DataFrame
    setups: pd.DataFrame
    coolest: dict[str, str]
    factor: str
    title: str
    made_up: bool

    def __str__(self) -> str:
        return "\n".join(
            f"{row.setup}: held to {row.held_to:g}, fails at {row.fails_at:g}"
            for row in self.setups.itertuples()
        )


def study_ladder(
    study: StudyRuns, factor: str, *, leave_out: Mapping[str, str] | None = None
) -> Ladder:
    """Find how far each setup holds along a factor; see `Study.ladder`."""
    if factor not in _READ:
        check_factor(study.file, factor, also=_READ)
    rows, _ = study.rows(leave_out=leave_out)
    attempts = [_attempt(study.file, factor, row) for row in rows]
    table = pd.DataFrame([one for one in attempts if one is not None])
    if table.empty:
        raise InputError(f"no run has a number as its {factor}: nothing was attempted along it")
    table = table.sort_values(["setup", "level"], kind="stable").reset_index(drop=True)
    setups = pd.DataFrame(
        [_summed(str(name), own) for name, own in table.groupby("setup", sort=False)]
    )
    held = table[(table["ending"] == _HELD) & table["rise_k"].notna()]
    coolest = {
        str(name): str(own.loc[own["rise_k"].idxmin(), "run"])
        for name, own in held.groupby("setup")
    }
    return Ladder(
        attempts=table, setups=setups, coolest=coolest, factor=factor, title=study.file.title,
        made_up=study.is_made_up(rows),
    )  # fmt: skip


def ending_of(row: RunRow) -> str:
    """Return how an attempt ended, as one of `ATTEMPTS`."""
    if row.outcome in ATTEMPTS:
        return row.outcome
    if row.outcome == "guard":
        return "stopped by the guard"
    if row.outcome == "ended without notice":
        return "shut down"
    if row.quantities.get("errors", (0.0, 0.0))[0] > 0:
        return "unstable"
    if row.at_limit or (row.thermal_share or 0.0) > _HELD_BACK_SHARE:
        return "held back"
    return _HELD


def _attempt(file: StudyFile, factor: str, row: RunRow) -> dict[str, object] | None:
    levels = row.factors or file.setups.get(row.setup, {})
    minutes = None if row.load_length_s is None else row.load_length_s / 60
    level = levels.get(factor)
    if level is None and factor in _READ:
        level = minutes if factor == "minutes" else getattr(row, _READ[factor])
    if not isinstance(level, (int, float)):
        return None
    own = file.setups.get(row.setup, {})  # a setup that names the factor is named without it
    rest = [level_text(one) for name, one in own.items() if name != factor] if factor in own else []
    return {
        "setup": ", ".join(rest) or row.setup, "level": float(level), "ending": ending_of(row),
        "minutes": minutes, "rise_k": row.value, "power_w": row.power_w, "clock_mhz": row.clock_mhz,
        "errors": row.quantities.get("errors", (np.nan, 0.0))[0], "run": row.run,
    }  # fmt: skip


def _summed(setup: str, own: pd.DataFrame) -> dict[str, object]:
    held = own[own["ending"] == _HELD]
    failed = own[own["ending"] != _HELD]
    fails_at = float(failed["level"].min()) if len(failed) else np.nan
    below = held[~(held["level"] >= fails_at)]
    held_to = float(below["level"].max()) if len(below) else np.nan
    longest = (
        below.loc[below["level"] == held_to, "minutes"].astype(float).max()
        if len(below)
        else np.nan
    )
    first = failed.loc[failed["level"] == fails_at, "ending"]
    return {
        "setup": setup, "held_to": held_to, "minutes": longest, "fails_at": fails_at,
        "ending": str(first.iloc[0]) if len(first) else "",
        "contradicted": bool((held["level"] > fails_at).any()),
    }  # fmt: skip
