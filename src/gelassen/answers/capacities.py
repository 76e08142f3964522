"""The power that each cooling setup sustains, from runs at several power limits."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import pandas as pd

from gelassen.answers.rows.known_spread import kept_repeatability, was_remounted
from gelassen.answers.rows.power_steps import power_rungs
from gelassen.answers.rows.run_row import RunRow, rows_to_table, too_short
from gelassen.answers.rows.run_table import reasons_left_out
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.capacity.from_levels import Capacity, sustainable_power
from gelassen.core.comparing.comparison import compare_setups
from gelassen.core.comparing.multiplicity import AllPairs
from gelassen.core.comparing.priors import Spread
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.distributions import normal_quantile
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.result import Result
from gelassen.core.foundation.root import crossing
from gelassen.study.file.levels import level_text, setups_without_power, without_power
from gelassen.study.file.study_file import StudyFile

_MANY = 1e4  # degrees of freedom that are as good as infinite


@dataclass(frozen=True, slots=True, kw_only=True)
class StudyCapacity(Result):
    """Capacities of the setups of a study.

    Attributes
    ----------
    setups : DataFrame
        setup, capacity_w, low_w, high_w, extrapolated, runs, throttled, model, resistance_k_per_w, and
        `passes` ("yes", "no", "cannot tell") where a power was asked about; best first. Infinite ends
        mean "cannot tell". Where the study states a rating: rated_w, and `holds_rating` ("yes", "no",
        "cannot tell").
    differences : DataFrame
        setup, versus, difference_w, low_w, high_w, distinguishable: every pair once.
    points : DataFrame
        setup, run, power_w, rise_k, rise_se_k (without what remounting moves), throttled, wanted_w,
        resistance_k_per_w, mounting: what they rest on.
    answers
        Setup to its whole answer.
    """

    setups: pd.DataFrame
    differences: pd.DataFrame
    points: pd.DataFrame
    answers: dict[str, Capacity]
    left_out: tuple[tuple[str, str], ...]
    limit_c: float
    room_c: float
    at_power_w: float | None
    confidence: float
    title: str
    made_up: bool
    cautions: tuple[Caution, ...] = ()

    def __str__(self) -> str:
        return "\n".join(f"{name}: {answer}" for name, answer in self.answers.items())


@dataclass(frozen=True, slots=True, kw_only=True)
class CapacityAsked:
    """What is asked of the runs of a study.

    Attributes
    ----------
    limit_c, room_c, confidence
        As in `Study.capacity`.
    at_power_w
        A power to say of whether each setup passes at it.
    groups
        Setup to the name it has without its power limit.
    repeatability
        What the rig is known to scatter by, where these runs do not tell.
    rated_w
        Setup, without its power limit, to the power that its maker states for it.
    """

    limit_c: float
    room_c: float
    at_power_w: float | None
    confidence: float
    groups: dict[str, str]
    title: str
    made_up: bool
    repeatability: tuple[float, float] | None = None
    rated_w: Mapping[str, float] = field(default_factory=dict)


def study_capacity(
    study: StudyRuns,
    *,
    limit_c: float | None = None,
    room_c: float = 25.0,
    at_power_w: float | None = None,
    confidence: float = 0.95,
    leave_out: Mapping[str, str] | None = None,
) -> StudyCapacity:
    """Find the power that each setup sustains; see `Study.capacity`."""
    rows, left_out = study.usable_rows(leave_out, kinds=("steady", "capacity"))
    asked = CapacityAsked(
        groups=setups_without_power(study.file),
        limit_c=study.file.machine.limit_c if limit_c is None else limit_c,
        room_c=room_c,
        at_power_w=at_power_w,
        confidence=confidence,
        title=study.file.title,
        made_up=study.is_made_up(rows),
        repeatability=None if was_remounted(rows) else kept_repeatability(study.folder),
        rated_w=_ratings(study.file, setups_without_power(study.file)),
    )
    return find_capacities(rows, left_out, asked)


def find_capacities(
    rows: Sequence[RunRow], left_out: Sequence[tuple[str, str]], asked: CapacityAsked
) -> StudyCapacity:
    """Find the capacity of every setup; see `Study.capacity`."""
    points, left = _points(rows, left_out, asked.groups)
    if points.empty:
        reasons = reasons_left_out(left) or "it has no runs"
        raise InputError(f"no run has a rise over the room and a power ({reasons})")
    # Remounting moves every run. So the error of one run alone is too small.
    spread, freedom, said = _relative_spread(rows, asked.repeatability)
    answers: dict[str, Capacity] = {}
    table = []
    for name, runs in points.groupby("setup", sort=False):
        answer = sustainable_power(
            runs["power_w"], runs["rise_k"], rise_se_k=runs["rise_se_k"], throttled=runs["throttled"],
            wanted_w=runs["wanted_w"], fan_rpm=runs["fan_rpm"], full_speed_rpm=_full_speed(runs),
            measured_room_c=runs["room_c"], mount=runs["mounting"].tolist(), mounting_spread=spread,
            mounting_freedom=freedom,
            limit_c=asked.limit_c, ambient_c=asked.room_c, confidence=asked.confidence,
        )  # fmt: skip
        answers[str(name)] = answer
        table.append(_table_row(str(name), answer, runs, asked))
    setups = pd.DataFrame(table).sort_values("capacity_w", ascending=False, kind="stable")
    cautions = [
        *said,
        *(one.of(name) for name, answer in answers.items() for one in answer.cautions),
    ]
    return StudyCapacity(
        setups=setups.reset_index(drop=True),
        differences=_differences(setups, asked.confidence),
        points=points,
        answers=answers,
        left_out=tuple(left),
        limit_c=asked.limit_c,
        room_c=asked.room_c,
        at_power_w=asked.at_power_w,
        confidence=asked.confidence,
        title=asked.title,
        made_up=asked.made_up,
        cautions=tuple(cautions),
    )


def _table_row(
    name: str, answer: Capacity, runs: pd.DataFrame, asked: CapacityAsked
) -> dict[str, object]:
    entry: dict[str, object] = {
        "setup": name,
        "capacity_w": answer.power_w,
        "low_w": answer.low_w,
        "high_w": answer.high_w,
        "extrapolated": answer.extrapolated,
        "runs": runs["run"].nunique(),
        "throttled": int(runs["throttled"].sum()),
        "model": answer.model,
        "resistance_k_per_w": answer.resistance_k_per_w,
    }
    if asked.at_power_w is not None:
        entry["passes"] = answer.passes(asked.at_power_w)
    if asked.rated_w:
        rated_w = asked.rated_w.get(name, math.nan)
        entry["rated_w"] = rated_w
        entry["holds_rating"] = answer.passes(rated_w) if math.isfinite(rated_w) else ""
    return entry


def _ratings(file: StudyFile, groups: Mapping[str, str]) -> dict[str, float]:
    """Return what makers state: the lowest `rated_w` among the details of a setup's levels."""
    found: dict[str, float] = {}
    for setup, levels in file.setups.items():
        details = [
            file.factors[factor].details.get(level_text(level), {})
            for factor, level in levels.items()
        ]
        stated = [float(one["rated_w"]) for one in details if "rated_w" in one]
        if stated:
            found[groups.get(setup, setup)] = min(stated)
    return found


def _points(
    rows: Sequence[RunRow], left_out: Sequence[tuple[str, str]], groups: dict[str, str]
) -> tuple[pd.DataFrame, list[tuple[str, str]]]:
    left = list(left_out)
    points: list[_Point] = []
    for row in rows:
        name = groups.get(row.setup) or without_power(row.setup)
        if row.climb and row.over_room:
            points += [_Point(name, row.run, power, rise, se) for power, rise, se in row.climb]
        elif row.levels and row.over_room:
            for level in row.levels:
                told = level.at_limit or level.standard_error is not None
                if level.power_w is None or level.value is None or not told:
                    left.append(
                        (row.run, f"its level of {level.power_w or 0:.0f} W is too short to tell")
                    )
                    continue
                points.append(
                    _Point(
                        name, row.run, level.power_w, level.value, level.standard_error,
                        throttled=level.at_limit, fan_rpm=level.fan_rpm,
                        duty_pct=level.duty_pct, room_c=level.reference_c, mount=row.mount,
                    )
                )  # fmt: skip
        elif row.protocol == "capacity":
            left.append((row.run, "its climb is too short, or without a room, to tell anything"))
        elif row.value is None or row.unit != "K":
            left.append((row.run, "no rise over the room"))
        elif row.power_w is None or row.power_w <= 0:
            left.append((row.run, "no power was logged"))
        elif not row.over_room:
            left.append((row.run, f"its rise is over {row.reference}, not over the room"))
        elif not row.at_limit and not row.has_interval:
            left.append((row.run, too_short(row)))
        else:
            points.append(
                _Point(
                    name, row.run, row.settled_w or row.power_w, row.value,
                    row.standard_error,
                    throttled=row.at_limit, wanted_w=row.power_limit_w, fan_rpm=row.fan_rpm,
                    duty_pct=row.duty_pct, room_c=row.reference_c,
                    mount=row.mount,
                )
            )  # fmt: skip
    return pd.DataFrame([point.record() for point in points]), left


@dataclass(frozen=True, slots=True)
class _Point:
    """One run, or one level of it, on the course of rise over power; None where not known."""

    setup: str
    run: str
    power_w: float
    rise_k: float
    rise_se_k: float | None
    throttled: bool = False
    wanted_w: float | None = None
    fan_rpm: float | None = None
    duty_pct: float | None = None
    room_c: float | None = None
    mount: str | None = None

    def record(self) -> dict[str, object]:
        """Return one row of `StudyCapacity.points`."""
        wanted_w, fan_rpm, duty_pct, room_c = (
            math.nan if x is None else x
            for x in (self.wanted_w, self.fan_rpm, self.duty_pct, self.room_c)
        )
        return {
            "setup": self.setup,
            "run": self.run,
            "power_w": self.power_w,
            "rise_k": self.rise_k,
            "rise_se_k": self.rise_se_k or 0.0,
            "throttled": self.throttled,
            "wanted_w": wanted_w,
            "fan_rpm": fan_rpm,
            "duty_pct": duty_pct,
            "room_c": room_c,
            "resistance_k_per_w": self.rise_k / self.power_w,
            "mounting": f"run {self.run}" if self.mount is None else self.mount,
        }


def _full_speed(runs: pd.DataFrame) -> float | None:
    """Return the speed of the fans at full duty; None if that cannot be told.

    Speed grows with duty in proportion or less, so each level gives an upper bound.
    """
    turning = runs[(runs["fan_rpm"] > 0) & (runs["duty_pct"] > 0)]
    if turning.empty:
        return None
    return float((turning["fan_rpm"] * 100 / turning["duty_pct"]).min())


def _relative_spread(
    rows: Sequence[RunRow], repeatability: tuple[float, float] | None
) -> tuple[float, float, list[Caution]]:
    """Return the scatter of runs of one setup as a share of their rise, its freedom, and cautions.

    Mounting changes a resistance, so its effect on a run grows with power. Where nothing was repeated, the
    usual scatter of rigs is used. Without it, one mounting would count as all mountings.
    """
    rungs = power_rungs([row for row in rows if row.unit == "K"])
    rises = [
        replace(row, setup=f"{row.setup} at {rung.words}", mount=row.mount or row.run)
        for rung in rungs for row in rung.rows
        if row.value is not None and row.value > 0
    ]  # fmt: skip
    if not rises:
        return 0.0, math.inf, []
    free = [r for r in rises if not r.at_limit] or rises
    table = rows_to_table(free)[["setup", "value", "standard_error", "mount"]].astype(
        {"value": float, "standard_error": float}
    )
    usual_k = float(table["value"].mean())  # the scatter of the rig is known for such rises
    scale = usual_k / table.groupby("setup")["value"].transform("mean")
    table[["value", "standard_error"]] = table[["value", "standard_error"]].mul(scale, axis=0)
    found = compare_setups(
        table,
        baseline=str(table["setup"].iloc[0]),
        repeatability=repeatability,
        usual_spread=Spread.USUAL_K,
    )
    if math.isfinite(found.repeatability):
        return found.repeatability / usual_k, found.repeatability_freedom, []
    said = caution("usual_remounting_of_capacity", usual_k=Spread.USUAL_K[0])
    return Spread.USUAL_K[0] / usual_k, math.inf, [said]


def _for_all_pairs(setups: int, confidence: float) -> float:
    """Return how much wider intervals of all pairs of so many setups are than that of one pair (Tukey)."""
    if setups < 3:
        return 1.0
    one, pairs = float(normal_quantile((1 + confidence) / 2)), AllPairs(setups, _MANY)
    return crossing(lambda size: pairs.p_value(size) - (1 - confidence), one, 4 * one) / one


def _differences(setups: pd.DataFrame, confidence: float) -> pd.DataFrame:
    """Return differences of capacities, with intervals that hold for all pairs.

    The errors of two setups are independent.
    """
    rows, wider = [], _for_all_pairs(len(setups), confidence)
    entries = setups.to_dict("records")
    for k, a in enumerate(entries):
        for b in entries[k + 1 :]:
            difference = a["capacity_w"] - b["capacity_w"]
            down = math.hypot(a["capacity_w"] - a["low_w"], b["high_w"] - b["capacity_w"])
            up = math.hypot(a["high_w"] - a["capacity_w"], b["capacity_w"] - b["low_w"])
            low, high = difference - wider * down, difference + wider * up
            clear = bool(np.isfinite(difference) and (low > 0 or high < 0))
            rows.append((a["setup"], b["setup"], difference, low, high, clear))
    return pd.DataFrame(
        rows, columns=["setup", "versus", "difference_w", "low_w", "high_w", "distinguishable"]
    )
