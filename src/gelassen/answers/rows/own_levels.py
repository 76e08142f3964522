"""Runs of one setup that were made at unlike levels of a factor: they are no repeats of each other."""

from collections.abc import Sequence
from dataclasses import replace

from gelassen.answers.rows.run_row import RunRow
from gelassen.study.file.levels import level_text


def named_by_own_levels(rows: Sequence[RunRow]) -> list[RunRow]:
    """Return rows in which each level at which a setup was tried is a setup of its own: "tower, 120"."""
    of_setup: dict[str, list[RunRow]] = {}
    for row in rows:
        of_setup.setdefault(row.setup, []).append(row)
    unlike = {setup: _unlike(own) for setup, own in of_setup.items()}
    return [
        replace(row, setup=", ".join([row.setup, *_levels(row, unlike[row.setup])]))
        if unlike[row.setup]
        else row
        for row in rows
    ]


def tried_at_levels(rows: Sequence[RunRow], setup: str) -> bool:
    """Return whether the runs of a setup became setups of their own."""
    names = {row.setup for row in rows}
    return setup not in names and any(name.startswith(f"{setup}, ") for name in names)


def _unlike(rows: Sequence[RunRow]) -> list[str]:
    """Return the factors of which these runs have several levels.

    A run that names no level is none: its factor was added to the study later.
    """
    levels: dict[str, set[str]] = {}
    for row in rows:
        for name, level in row.factors.items():
            levels.setdefault(name, set()).add(level_text(level))
    return [name for name, own in levels.items() if len(own) > 1]


def _levels(row: RunRow, factors: Sequence[str]) -> list[str]:
    return [level_text(row.factors[name]) for name in factors if name in row.factors]
