"""Runs made at different room temperatures, made comparable."""

from collections.abc import Sequence
from typing import Any, Protocol

import numpy as np
import pandas as pd

from gelassen.answers.thresholds import Powers, Rooms
from gelassen.core.comparing.censored import without_limit
from gelassen.core.comparing.comparison import Comparison, compare_setups
from gelassen.core.comparing.priors import Days, Extrapolated, Spread
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.settling.thresholds import ReadByHand
from gelassen.core.thermal.priors import RoomEffect
from gelassen.study.file.levels import expected_quantities
from gelassen.study.file.study_file import StudyFile


def highest_power(table: pd.DataFrame) -> float:
    """Return the power at which the scatter of runs is stated, where setups draw different powers.

    Mounting changes a resistance, so its effect on a rise grows with power.
    """
    powers = table.groupby("setup")["power_w"].mean().astype(float)
    if not (powers > 0).all() or powers.max() <= (1 + Powers.NEAR_SETUPS) * powers.min():
        return float("nan")
    return float(powers.max())


def to_compare(table: pd.DataFrame) -> pd.DataFrame:
    """Return the arguments of `compare_setups` for runs of a study."""
    scale = table.groupby("setup")["power_w"].transform("mean") / highest_power(table)
    # What is extrapolated is wrong in the same way in all runs of a setup.
    open_ended = ~(table["reached"].astype(bool) | table["at_limit"].astype(bool))
    shared = (Extrapolated.SHARED**0.5 * table["standard_error"]).where(open_ended, 0.0)
    by_hand = table.get("by_hand", pd.Series(False, index=table.index)).astype(bool)
    shared = shared.where(~by_hand, ReadByHand.SHARED**0.5 * table["standard_error"])
    return table[["setup", "value", "standard_error", "mount"]].assign(
        scale=scale.fillna(1.0), room_c=table["reference_c"], setup_error=shared,
        day=days_of(table),
    )  # fmt: skip


def days_of(table: pd.DataFrame) -> "pd.Series[Any]":
    """Return the day on which each run began; None where that is not known."""
    started = table["started"].astype(object)
    return started.where(started.notna(), None).map(lambda text: text and str(text)[:10])


def runs_of_days(
    table: pd.DataFrame, room_k: float
) -> tuple[pd.DataFrame, tuple[float, float] | None, float]:
    """Return the arguments of a comparison, and what runs and days are thought to scatter by.

    Of temperatures without a room, the room is part of both: it moves by `room_k` between days.
    """
    in_k = set(table["unit"]) == {"K"}
    runs = to_compare(table)
    if not in_k:  # the room moves within a day, too
        runs["standard_error"] = np.hypot(runs["standard_error"], Days.WITHIN_SHARE * room_k)
    return runs, Spread.USUAL_K if in_k else None, Days.BETWEEN_K if in_k else room_k


def free_runs(table: pd.DataFrame, by: Sequence[str] = ("setup",)) -> pd.DataFrame:
    """Return the runs that tell how warm a setup (or a combination of other columns) gets.

    Runs at their limit count with the value they would be expected to have. Where all runs of a setup were
    at their limit, they are left out.
    """
    groups = table[list(by)].astype(str).agg(", ".join, axis=1)
    at_limit = table["at_limit"].astype(bool)
    kept = ~at_limit.groupby(groups).transform("all")
    free, at_limit, groups = table[kept], at_limit[kept], groups[kept]
    if not at_limit.any():
        return free
    values, variance = without_limit(
        groups.tolist(), free["value"].to_numpy(dtype=float), at_limit.to_numpy()
    )
    error = np.hypot(free["standard_error"].to_numpy(dtype=float), np.sqrt(variance))
    return free.assign(value=values, standard_error=error, at_limit=False)


def in_one_room(table: pd.DataFrame) -> tuple[pd.DataFrame, list[Caution]]:
    """Return the table with all rises corrected to the mean room temperature, and cautions.

    The doubt in that correction is an error that all runs share. Its column gives the effect on each run.
    """
    free = table[~table["at_limit"].astype(bool)]
    if free.empty or set(free["unit"]) != {"K"} or free["reference_c"].isna().any():
        return table, []
    level = free["level"].astype(str) if "level" in free.columns else ""
    compared = to_compare(free).assign(setup=free["setup"].astype(str) + level)
    found = compare_setups(compared, usual_spread=Spread.USUAL_K, room_effect=RoomEffect.USUAL)
    effect = found.room_effect
    if effect is None or not np.isfinite(effect).all():
        return table, []
    away = (free["reference_c"] - found.room_c) * compared["scale"]
    if max(abs(effect[1]), abs(effect[2])) * float(away.abs().max()) < Rooms.WORTH_A_WORD_K:
        return table, []
    moved = table.copy()
    moved.loc[free.index, "value"] = free["value"] - effect[0] * away
    # With few runs, a fitted effect widens the interval more than the usual effect does.
    spread = min((effect[2] - effect[1]) / 2 / Rooms.SIGMAS_95, RoomEffect.USUAL[1])
    moved["shared_error"] = (-spread * away).reindex(moved.index).fillna(0.0)
    return moved, [room_words(free["reference_c"], found, highest_power(free))]


def study_in_one_room(file: StudyFile, table: pd.DataFrame) -> tuple[pd.DataFrame, list[Caution]]:
    """Return the table with rises corrected to one room temperature, unless the room is a factor."""
    return (table, []) if usual_room_effect(file) is None else in_one_room(table)


class InOneRoom(Protocol):
    """An answer that was found with the effect of the room beside it."""

    @property
    def room_effect(self) -> tuple[float, float, float] | None:
        """The change for each kelvin of the room, with its interval."""

    @property
    def room_c(self) -> float:
        """The room that the answer is for."""


def rooms_said(rooms_c: "pd.Series[float]", found: InOneRoom, at_w: float) -> list[Caution]:
    """Return a caution if the room may have moved an answer by enough to be told."""
    if (effect := found.room_effect) is None:
        return []
    away = float((rooms_c.dropna() - found.room_c).abs().max())
    told = max(abs(effect[1]), abs(effect[2])) * away > Rooms.WORTH_A_WORD_K
    return [room_words(rooms_c, found, at_w)] if told else []


def usual_room_effect(file: StudyFile) -> tuple[float, float] | None:
    """Return by how much a rise usually changes with each kelvin of the room, and how far that varies.

    None if the room is a factor of the study: then the study asks for that change.
    """
    return None if "reference_c" in expected_quantities(file) else RoomEffect.USUAL


def room_words(rooms_c: "pd.Series[float]", found: InOneRoom, at_w: float) -> Caution:
    """Return a caution that says which rooms were allowed for, and how."""
    value, low, high = found.room_effect or (np.nan, np.nan, np.nan)
    at_power = f" at {at_w:.0f} W, in proportion to power" if np.isfinite(at_w) else ""
    return caution(
        "rooms_allowed_for",
        low_c=float(rooms_c.min()), high_c=float(rooms_c.max()), room_c=found.room_c, effect=value,
        at_power=at_power, effect_low=low, effect_high=high,
    )  # fmt: skip


def _largest_effect() -> float:
    """Return how much a kelvin of the room may change a rise, where the runs do not show it, in K/K."""
    usual, spread = RoomEffect.USUAL
    return abs(usual) + Rooms.SIGMAS_95 * spread


def room_cautions(
    rooms_c: "pd.Series[float]", found: Comparison, asked_c: float | None, at_w: float
) -> list[Caution]:
    """Return cautions: what was allowed for, and the error that remains."""
    rooms = rooms_c.dropna()
    if rooms.empty:
        return []
    said = rooms_said(rooms, found, at_w)
    effect = found.room_effect
    if asked_c is not None and effect is not None:
        error = (effect[2] - effect[1]) / 2 * abs(asked_c - found.room_c)
        said.append(caution("brought_to_room", room_c=asked_c, error_k=error))
    elif asked_c is not None:
        apart = float((rooms - asked_c).abs().max())
        said.append(
            caution(
                "brought_with_same_rise", low_c=float(rooms.min()), high_c=float(rooms.max()),
                room_c=asked_c, error_k=_largest_effect() * apart,
            )
        )  # fmt: skip
    return said


def brought_to(setups: pd.DataFrame, found: Comparison, asked_c: float) -> "pd.Series[float]":
    """Return the temperature of each setup in a given room."""
    if found.room_effect is None:
        return setups["rise_k"] + asked_c
    moved = found.room_effect[0] * (asked_c - found.room_c)
    # In proportion to the rise, where setups draw different powers.
    share = setups["power_w"] / setups["power_w"].max()
    share = share.fillna(1.0).where(share < 1 - Powers.NEAR_SETUPS, 1.0)
    return setups["rise_k"] + asked_c + moved * share
