"""How far until it fails: attempts at rising powers or clocks, or falling voltages, and how each ended."""

from collections.abc import Mapping, Sequence
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

_HELD, _HELD_BACK = "held", "held back"
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
        setup (without the factor), level, ending, minutes, rise_k, unit ("K" over a room, else "°C"),
        power_w, clock_mhz, errors, run.
    setups : DataFrame
        setup, held_to (the furthest level that held, every nearer one too), minutes (how long it held there
        at most), fails_at (the nearest level that did not), ending (how), contradicted (a level beyond one
        that did not hold has held), held_back_at (for attempts downwards: the lowest level at which heat
        held it back).
    coolest
        Setup to the run that held with the lowest rise, for attempts at several voltages and the like.
    factor
        What rises, or falls.
    downwards
        Whether lower levels are the harder ones, as voltages are: found from where attempts failed.
    """

    attempts: pd.DataFrame
    setups: pd.DataFrame
    coolest: dict[str, str]
    factor: str
    title: str
    made_up: bool
    downwards: bool = False

    def __str__(self) -> str:
        return "\n".join(
            f"{row.setup}: held to {row.held_to:g}, fails at {row.fails_at:g}"
            for row in self.setups.itertuples()
        )


def study_ladder(
    study: StudyRuns, factor: str, *, leave_out: Mapping[str, str] | None = None
) -> Ladder:
    """Find how far each setup holds along a factor; see `Study.ladder`."""
    rows, _ = study.rows(leave_out=leave_out)
    tried = dict.fromkeys(name for row in rows for name in row.factors)  # of single runs, too
    if factor not in (*_READ, *tried):
        check_factor(study.file, factor, also=(*tried, *_READ))
    attempts = [_attempt(study.file, factor, row) for row in rows]
    table = pd.DataFrame([one for one in attempts if one is not None])
    if table.empty:
        raise InputError(f"no run has a number as its {factor}: nothing was attempted along it")
    table = table.sort_values(["setup", "level"], kind="stable").reset_index(drop=True)
    downwards = factor not in _READ and _fails_downwards(table)
    setups = pd.DataFrame(
        [_summed(str(name), own, downwards) for name, own in table.groupby("setup", sort=False)]
    )
    held = table[(table["ending"] == _HELD) & table["rise_k"].notna()]
    coolest = {
        str(name): str(own.loc[own["rise_k"].idxmin(), "run"])
        for name, own in held.groupby("setup")
    }
    return Ladder(
        attempts=table, setups=setups, coolest=coolest, factor=factor, title=study.file.title,
        made_up=study.is_made_up(rows), downwards=downwards,
    )  # fmt: skip


def attempted_factor(file: StudyFile, rows: Sequence[RunRow]) -> str:
    """Return along what attempts most likely went: a factor of numbers with several levels, else power."""
    levels = {name: list(factor.levels) for name, factor in file.factors.items()}
    for row in rows:
        for name, level in row.factors.items():
            levels.setdefault(name, []).append(level)
    return next(
        (
            name
            for name, own in levels.items()
            if len(set(own)) > 1 and all(isinstance(level, (int, float)) for level in own)
        ),
        "power",
    )


def _fails_downwards(table: pd.DataFrame) -> bool:
    """Return whether failed levels mostly lie below levels at which the same setup held."""
    count = 0
    for _, own in table.groupby("setup"):
        held = own.loc[own["ending"] == _HELD, "level"].to_numpy()
        failed = own.loc[~own["ending"].isin([_HELD, _HELD_BACK]), "level"].to_numpy()
        count += int(np.sign(held[:, None] - failed).sum())
    return count > 0


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
        return _HELD_BACK
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
        "minutes": minutes, "rise_k": row.value, "unit": row.unit,
        "power_w": row.power_w, "clock_mhz": row.clock_mhz,
        "errors": row.quantities.get("errors", (np.nan, 0.0))[0], "run": row.run,
    }  # fmt: skip


def _summed(setup: str, own: pd.DataFrame, downwards: bool) -> dict[str, object]:
    way = -1.0 if downwards else 1.0
    held = own[own["ending"] == _HELD]
    held_back = own["ending"] == _HELD_BACK
    # Downwards, heat holds back at the easy end: that is no failure of the attempt.
    failed = own[(own["ending"] != _HELD) & ~(held_back & downwards)]
    fails_at = way * float((way * failed["level"]).min()) if len(failed) else np.nan
    before = held[~(way * held["level"] >= way * fails_at)]
    held_to = way * float((way * before["level"]).max()) if len(before) else np.nan
    longest = (
        before.loc[before["level"] == held_to, "minutes"].astype(float).max()
        if len(before)
        else np.nan
    )
    first = failed.loc[failed["level"] == fails_at, "ending"]
    hot = own.loc[held_back & downwards, "level"]
    return {
        "setup": setup, "held_to": held_to, "minutes": longest, "fails_at": fails_at,
        "ending": str(first.iloc[0]) if len(first) else "",
        "contradicted": bool((way * held["level"] > way * fails_at).any() or (
            downwards and (held["level"] == fails_at).any()
        )),
        "held_back_at": float(hot.min()) if len(hot) else np.nan,
    }  # fmt: skip
