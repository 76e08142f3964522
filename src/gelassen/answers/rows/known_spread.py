"""What is known of the scatter between runs: from repeats, the tester, the rig, or rigs in general."""

import json
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import pandas as pd

from gelassen.answers.rows.run_row import RunRow, rows_to_table
from gelassen.core.comparing.mounting import mounts_of
from gelassen.core.comparing.priors import Spread
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.result import Result
from gelassen.study.file.study_file import Doubt
from gelassen.system.files import read_text

REPEATABILITY = "repeatability.json"


@dataclass(frozen=True, slots=True)
class KnownSpread(Result):
    """What is known of the scatter between runs, beside these runs themselves.

    Attributes
    ----------
    source
        "repeats" if the runs show it themselves; else, in this order: "told" by the tester, "rig" from
        its earlier repeats, or "usual" for rigs in general.
    spread
        Standard deviation in K and its degrees of freedom; None where the runs show it and nobody
        said anything.
    """

    source: Literal["repeats", "told", "rig", "usual"]
    spread: tuple[float, float] | None
    unit: str = "K"

    @property
    def caution(self) -> tuple[Caution, ...]:
        """What to say where it stands in for repeats."""
        if self.source == "repeats" or self.spread is None:
            return ()
        return (caution(f"spread_{self.source}", spread=self.spread[0], unit=self.unit),)


def known_spread(folder: Path, doubt: Doubt, runs: Iterable[RunRow] | pd.DataFrame) -> KnownSpread:
    """Return what is known of the scatter between runs of one setup of the study in this folder."""
    told_k = doubt.remounting_k
    told = None if told_k is None else (told_k, Spread.TOLD_FREEDOM)
    if was_remounted(runs):
        return KnownSpread("repeats", told)
    if told is not None:
        return KnownSpread("told", told)
    kept = kept_repeatability(folder)
    return KnownSpread("usual", Spread.STANDS_IN_K) if kept is None else KnownSpread("rig", kept)


def repeats_or_usual(runs: pd.DataFrame) -> KnownSpread:
    """Return what is known of the scatter where nobody told anything: runs of several rigs."""
    if was_remounted(runs):
        return KnownSpread("repeats", None)
    return KnownSpread("usual", Spread.STANDS_IN_K)


def was_remounted(runs: Iterable[RunRow] | pd.DataFrame) -> bool:
    """Return whether any setup was mounted twice, so that the runs show the scatter themselves."""
    table = runs if isinstance(runs, pd.DataFrame) else rows_to_table(runs)
    mounts = [name or f"run {k}" for k, name in enumerate(mounts_of(table))]
    return bool(table.assign(mount=mounts).groupby("setup")["mount"].nunique().max() > 1)


def kept_repeatability(folder: Path) -> tuple[float, float] | None:
    """Return the repeatability kept with a study and its freedom; None if there is none."""
    try:
        content = json.loads(read_text(folder / REPEATABILITY))
        spread, freedom = float(content["total"]), float(content["freedom"])
    except (OSError, ValueError, KeyError, TypeError, RecursionError, OverflowError):
        return None
    return (spread, freedom) if spread > 0 and freedom > 0 else None
