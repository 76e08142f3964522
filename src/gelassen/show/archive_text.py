"""What an archive of studies holds, in words."""

from collections.abc import Mapping, Sequence

import pandas as pd

from gelassen.core.comparing.machine_drift import MachineDrift
from gelassen.core.comparing.repeatability import Repeatability
from gelassen.core.foundation.counted import counted
from gelassen.core.foundation.result import MADE_UP
from gelassen.show.findings_text import drift_text, repeatability_text
from gelassen.show.numbers import fixed, interval
from gelassen.show.tables import aligned

STUDIES_HEADER = ("study", "machine", "setups", "runs", "from", "to", "coolest", "settles at")
RUNS_HEADER = ("study", "machine", "run", "setup", "settles at", "power W", "left out")


def studies_rows(studies: pd.DataFrame) -> list[tuple[str, ...]]:
    """Return one row for each study."""
    rows: list[tuple[str, ...]] = []
    for one in studies.to_dict("records"):
        settles = "–"
        if one["coolest"]:
            settles = f"{fixed(one['rise'])} {one['unit']} ({interval(one['low'], one['high'])})"
        rows.append(
            (
                one["study"], one["machine"], str(one["setups"]), _runs(one["runs"], one["left_out"]),
                one["first"][:10] or "–", one["last"][:10] or "–", one["coolest"] or "–", settles,
            )
        )  # fmt: skip
    return rows


def studies_text(address: str, studies: pd.DataFrame, unreadable: Sequence[tuple[str, str]]) -> str:
    """Return what there is: studies, machines, runs, and what could not be read."""
    machines = studies["machine"].nunique()
    told = (
        f"{address}: {counted(len(studies), 'study', 'studies')} of {counted(machines, 'machine')}, "
        f"{counted(int(studies['runs'].sum()), 'run')}"
    )
    if studies["made_up"].any():
        told += f"   ({MADE_UP} among them)"
    parts = [told]
    if len(studies):
        parts.append(aligned(STUDIES_HEADER, studies_rows(studies), left=(0, 1, 6)))
    if unreadable:
        parts.append(
            "\n".join(["could not be read", *(f"  - {n}: {why}" for n, why in unreadable)])
        )
    return "\n\n".join(parts)


def runs_rows(runs: pd.DataFrame) -> list[tuple[str, ...]]:
    """Return one row for each run of an archive."""
    rows = []
    for one in runs.to_dict("records"):
        value = "–" if pd.isna(one["value"]) else f"{fixed(one['value'])} {one['unit']}"
        if one["at_limit"] is True:
            value = "at limit"
        elif not pd.isna(one["low"]):
            value += f" ({interval(one['low'], one['high'])})"
        cells = (one["study"], one["machine"], one["run"], one["setup"])
        words = [str(cell) if isinstance(cell, str) else "–" for cell in cells]
        left_out = one["left_out"] if isinstance(one["left_out"], str) else ""
        rows.append((*words, value, fixed(one["power_w"]), left_out))
    return rows


def scatter_text(found: Mapping[str, Repeatability]) -> str:
    """Return the scatter of each machine, in the words of a study."""
    return _by_machine({name: repeatability_text(one) for name, one in found.items()})


def drifts_of_machines(found: Mapping[str, MachineDrift], setup: str) -> str:
    """Return the drift of each machine under one setup, in the words of a study."""
    return _by_machine({name: drift_text(one, setup) for name, one in found.items()})


def _by_machine(said: Mapping[str, str]) -> str:
    return (
        "\n\n".join(f"{machine}\n{text}" for machine, text in said.items())
        or "no machine can be judged"
    )


def _runs(runs: int, left_out: int) -> str:
    return f"{runs} (+{left_out} left out)" if left_out else str(runs)
