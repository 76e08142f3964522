"""Runs at several powers: which of their levels belong together, and which level is compared."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from gelassen.answers.rows.run_row import RunRow
from gelassen.answers.thresholds import Powers
from gelassen.core.foundation.caution import Caution, caution


@dataclass(frozen=True, slots=True)
class Rung:
    """One level of power, with the rows of the runs there."""

    power_w: float
    rows: tuple[RunRow, ...]

    @property
    def words(self) -> str:
        """The level as people write it."""
        return f"{self.power_w:.0f} W" if self.power_w >= 20 else f"{self.power_w:.3g} W"


def level_rows(row: RunRow) -> list[RunRow]:
    """Return one row for each level of power of a run; the row itself where power had no steps."""
    return [row.at_level(level) for level in row.levels] or [row]


def power_rungs(rows: Sequence[RunRow]) -> list[Rung]:
    """Sort the levels of all runs by power, lowest first. Levels meant to be equal share one rung.

    The setup with the most levels defines the rungs. A level that was held at the limit belongs to the next
    rung above the power it held. Runs without power are left out.
    """
    entries = [
        (entry, entry.power_w)
        for row in rows
        for entry in level_rows(row)
        if entry.power_w is not None and entry.power_w > 0
    ]
    ladder = _longest_ladder([entry for entry, _ in entries])
    members: list[list[RunRow]] = [[] for _ in ladder]
    there: list[set[str]] = [set() for _ in ladder]  # runs that have a level there
    for entry, power in entries:
        taken = [entry.run in runs for runs in there]
        near = int(np.argmin([abs(math.log(power / rung)) for rung in ladder]))
        above = [k for k, rung in enumerate(ladder) if rung > power and not taken[k]]
        if entry.at_limit and above and (ladder[near] < power or taken[near]):
            near = above[0]
        if abs(math.log(power / ladder[near])) > _near(entry) and not entry.at_limit:
            ladder.append(power)
            members.append([])
            there.append(set())
            near = len(ladder) - 1
        members[near].append(entry)
        there[near].add(entry.run)
    rungs = [Rung(_usual(own), tuple(own)) for own in members if own]
    return sorted(rungs, key=lambda rung: rung.power_w)


def at_one_power(
    rows: Sequence[RunRow], left_out: Sequence[tuple[str, str]]
) -> tuple[list[RunRow], list[tuple[str, str]], tuple[Caution, ...]]:
    """Return rows at one level of power, the runs left out, and what was done.

    The level at which most setups settled below the limit is compared, and of those the highest. Setups
    whose runs all draw one power are compared unchanged: a run that drew less than its repeats is odd. The
    mean power of a load that comes and goes is no level: such runs are all kept.
    """
    varying = [row for row in rows if row.uneven and not row.levels]
    rows = [row for row in rows if not row.uneven or row.levels]
    kept, left, said = _steady_at_one_power(rows) if rows else ([], [], ())
    return [*kept, *varying], [*left_out, *left], said


def _steady_at_one_power(
    rows: Sequence[RunRow],
) -> tuple[list[RunRow], list[tuple[str, str]], tuple[Caution, ...]]:
    rungs = power_rungs(rows)
    names = {row.setup for row in rows}
    stepped = {
        name for name in names if sum(any(r.setup == name for r in x.rows) for x in rungs) > 1
    }
    if not any(map(_settled, rungs)):  # no level tells anything
        return list(rows), [], ()
    if len(rungs) < 2 or len(stepped) <= Powers.LEAST_SETUPS * len(names):
        return list(rows), [], ()
    chosen = max(rungs, key=lambda rung: (len(_settled(rung)), rung.power_w))
    kept = list(chosen.rows)
    there = _runs(kept)
    left = [
        (row.run, f"it has no level of {chosen.words}, at which the setups are compared")
        for row in rows if row.run not in there
    ]  # fmt: skip
    settled = len(_settled(chosen))
    how_many = "all" if settled == len(names) else f"{settled} of {len(names)}"
    others = ", ".join(rung.words for rung in rungs if rung is not chosen)
    said = caution("compared_at_one_power", level=chosen.words, how_many=how_many, others=others)
    return kept, left, (said,)


def _longest_ladder(entries: Sequence[RunRow]) -> list[float]:
    ladders = []
    for name in dict.fromkeys(entry.setup for entry in entries):
        own = [e for e in entries if e.setup == name]
        own = [e for e in own if not e.at_limit] or own
        ordered = np.sort(np.array([e.power_w for e in own], dtype=float))
        apart = Powers.NEAR_RUNS if not any(e.one_of for e in own) else Powers.NEAR_LEVELS / 2
        breaks = np.flatnonzero(np.diff(np.log(ordered)) > apart) + 1
        ladders.append([float(part.mean()) for part in np.split(ordered, breaks)])
    return max(ladders, key=len, default=[])


def _near(entry: RunRow) -> float:
    return Powers.NEAR_LEVELS if entry.one_of else Powers.NEAR_RUNS


def _usual(rows: Sequence[RunRow]) -> float:
    free = [row for row in rows if not row.at_limit] or rows
    return float(np.median([row.power_w for row in free if row.power_w is not None]))


def _settled(rung: Rung) -> set[str]:
    """Return the setups that settle there below the limit."""
    return {
        row.setup for row in rung.rows
        if not row.at_limit and row.has_interval
    }  # fmt: skip


def _runs(rows: Sequence[RunRow]) -> set[str]:
    return {row.run for row in rows}
