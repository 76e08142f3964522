"""A study on disk: its file, its runs, and what they say together."""

import json
import math
from collections.abc import Iterable, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from pathlib import Path

import pandas as pd

from gelassen.answers.capacities import StudyCapacity, find_capacities
from gelassen.answers.comparison import StudyComparison, compare_runs
from gelassen.answers.loads import StudyLoads, compare_loads
from gelassen.answers.one_room import USUAL_SPREAD_K, in_one_room
from gelassen.answers.parts import parts_table
from gelassen.answers.power_steps import at_one_power
from gelassen.answers.run_row import Row, started_days
from gelassen.answers.scale import along_scale
from gelassen.answers.study_runs import StudyRuns
from gelassen.answers.tradeoffs import compare_at_equal, trade_capacity, trade_rise
from gelassen.core.comparing.comparability import Comparability, comparability
from gelassen.core.comparing.effects import Effects, factor_effects
from gelassen.core.comparing.machine_drift import MachineDrift, machine_drift
from gelassen.core.comparing.mounting import mounts_of
from gelassen.core.comparing.repeatability import Repeatability, rig_repeatability
from gelassen.core.comparing.response import Response
from gelassen.core.comparing.tradeoff import Tradeoff
from gelassen.core.foundation.errors import FileError, InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.study.disk.writer import write_json
from gelassen.study.file.levels import expected_quantities, setups_without_power
from gelassen.study.file.reader import read_study_file
from gelassen.study.file.study_file import STUDY_FILE, check_setup_name

REPEATABILITY = "repeatability.json"
_OF_FANS = ("fan_rpm", "duty_pct", "noise_dba")


@dataclass(frozen=True, slots=True)
class Study(StudyRuns):
    """A study: its runs, and what they say together.

    Attributes
    ----------
    folder
        Where it lives.
    file
        What `study.toml` says.
    """

    def compare(
        self,
        *,
        baseline: str | None = None,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
        room_c: float | None = None,
        correct_drift: bool = False,
    ) -> StudyComparison:
        """Compare the setups by steady rise over the reference.

        Parameters
        ----------
        baseline : str, optional
            Setup to compare against; the study's own if not given, else every pair.
        confidence : float
            Share of intervals that should cover the truth.
        executor : concurrent.futures.Executor, optional
            Where to analyse the runs side by side.
        leave_out : mapping, optional
            Run (its folder or number) to the reason why it is not compared.
        room_c : float, optional
            A room temperature to which all setups are brought, beside their rise.
        correct_drift : bool
            Take a drift of the machine that the baseline's repeats show out of all values.

        Raises
        ------
        InputError
            An unknown baseline or run, or a study without a run to compare.
        """
        against = baseline or self.file.baseline
        if against is not None and self.file.setups:
            check_setup_name(self.file, against)
        rows, left_out = self.usable_rows(confidence, executor, leave_out)
        rows, left_out, level = at_one_power(rows, left_out)
        said = [level] if level else []
        if correct_drift:
            rows, done = self._without_drift(rows, against, confidence, leave_out)
            said.append(done)
        found = compare_runs(
            rows,
            left_out,
            title=self.file.title,
            baseline=against,
            confidence=confidence,
            made_up=self.is_made_up(rows),
            repeatability=self.known_repeatability(rows),
            room_c=room_c,
            expected=expected_quantities(self.file),
            reference=self.named_reference(),
        )
        return replace(found, cautions=(*said, *found.cautions))

    def _without_drift(
        self,
        rows: Sequence[Row],
        baseline: str | None,
        confidence: float,
        leave_out: Mapping[str, str] | None,
    ) -> tuple[list[Row], str]:
        """Return rows freed from the drift of the baseline's repeats, and what was done."""
        drift = self.drift(baseline, confidence=confidence, leave_out=leave_out)
        if not drift.distinguishable:
            return list(rows), "no drift of the machine beyond chance: nothing was corrected"
        corrected: list[Row] = []
        for row in rows:
            days = started_days(row)
            shift = 0.0 if math.isnan(days) else drift.correction(days)
            moved = {
                k: None if row[k] is None else row[k] + shift for k in ("value", "low", "high")
            }
            corrected.append({**row, **moved})
        return corrected, (
            f"corrected for a drift of the machine of {drift.over_all:+.1f} K over the baseline's "
            f"repeats ({drift.per_day:+.2f} K a day)"
        )

    def comparability(self, *, leave_out: Mapping[str, str] | None = None) -> Comparability:
        """Say what differed between runs and between setups besides what was to differ."""
        table = self.table(leave_out=leave_out)
        return comparability(table, expected=expected_quantities(self.file))

    def repeatability(
        self,
        *,
        confidence: float = 0.95,
        store: bool = False,
        leave_out: Mapping[str, str] | None = None,
    ) -> Repeatability:
        """Find what the rig scatters by between runs of one setup; `store` keeps it with the study."""
        table, left_out = self.table_and_left_out(confidence, leave_out)
        table["day"] = table["started"].astype(object).map(lambda s: str(s)[:10] if s else "")
        table, brought = self._in_one_room(table)
        free = table[~table["at_limit"].astype(bool)]
        if free.empty:
            raise InputError("every run was at its limit: repeats there show no scatter")
        found = rig_repeatability(free, confidence=confidence)
        # What was never remounted must not pass for what remounting moves.
        if store and found.freedom > 0 and found.remounted:
            write_json(self.folder / REPEATABILITY, {"format": 1, **found.to_dict()})
        return replace(found, cautions=(*left_out, *brought, *found.cautions))

    def known_repeatability(self, runs: Iterable[Row] | pd.DataFrame) -> tuple[float, float] | None:
        """Return the repeatability kept with the study and its freedom, for runs without a repeat.

        Where a setup was mounted twice, the runs tell it themselves, and what is kept may come from them.
        """
        table = runs if isinstance(runs, pd.DataFrame) else pd.DataFrame(list(runs))
        mounts = [name or f"run {k}" for k, name in enumerate(mounts_of(table))]
        if table.assign(mount=mounts).groupby("setup")["mount"].nunique().max() > 1:
            return None
        try:
            content = json.loads((self.folder / REPEATABILITY).read_text(encoding="utf-8"))
            spread, freedom = float(content["total"]), float(content["freedom"])
        except (OSError, ValueError, KeyError, TypeError):
            return None
        return (spread, freedom) if spread > 0 and freedom > 0 else None

    def _in_one_room(self, table: pd.DataFrame) -> tuple[pd.DataFrame, list[str]]:
        """Return the table with rises brought to one room, unless rooms are what is tested."""
        if "reference_c" in expected_quantities(self.file):
            return table, []
        return in_one_room(table)

    def effects(
        self,
        factors: Sequence[str] | None = None,
        *,
        value: str = "value",
        confidence: float = 0.95,
        leave_out: Mapping[str, str] | None = None,
    ) -> Effects:
        """Say what each factor does, and whether that depends on another.

        Raises
        ------
        InputError
            Unknown factors, or factors with one level.
        """
        table, left_out = self.table_and_left_out(confidence, leave_out)
        known = list(self.file.factors)
        if factors is None:
            factors = [name for name in known if len(set(table[name].dropna())) > 1]
        for name in factors:
            if name not in known:
                raise InputError(
                    f'"{name}" is no factor of this study ({", ".join(known) or "none"}).'
                    + nearest(name, known)
                )
        if not factors:
            raise InputError("no factor of this study has two levels with runs")
        brought: list[str] = []
        if value == "value":
            table, brought = self._in_one_room(table)
        free = table[~table["at_limit"].astype(bool)] if value == "value" else table
        found = factor_effects(
            free,
            factors,
            value=value,
            confidence=confidence,
            repeatability=self.known_repeatability(free),
            usual_spread=USUAL_SPREAD_K
            if value == "value" and set(free["unit"]) == {"K"}
            else None,
        )
        cautions = [*left_out, *brought, *found.cautions]
        if held := len(table) - len(free):
            cautions.append(
                f"{held} runs at the limit are left out: their rise says no more than that"
            )
        return replace(found, cautions=tuple(cautions))

    def along(
        self,
        factor: str,
        *,
        where: Mapping[str, str | float] | None = None,
        worth: float = 0.0,
        confidence: float = 0.95,
        leave_out: Mapping[str, str] | None = None,
    ) -> Response:
        """Say how the rise falls along a factor with numbers, and where more stops paying.

        Parameters
        ----------
        factor : str
            A factor whose levels are numbers, or a logged quantity such as "fan_rpm" or "power_w".
        where : mapping, optional
            Levels of other factors that runs must have.
        worth : float
            A step pays if it lowers the rise by more than this, K.
        """
        table, left_out = self.table_and_left_out(
            confidence, leave_out, every_level=factor not in self.file.factors
        )
        # At one fan speed a room does next to nothing.
        table, brought = (table, []) if factor in _OF_FANS else self._in_one_room(table)
        found = along_scale(
            table, self.file, factor, where=where or {}, worth=worth, confidence=confidence,
            repeatability=self.known_repeatability(table),
        )  # fmt: skip
        return replace(found, cautions=(*left_out, *brought, *found.cautions))

    def tradeoff(
        self,
        against: str = "noise_dba",
        *,
        of: str = "rise",
        room_c: float = 25.0,
        where: Mapping[str, str | float] | None = None,
        confidence: float = 0.95,
        leave_out: Mapping[str, str] | None = None,
    ) -> Tradeoff:
        """Set the rise, or the capacity, against noise, price, fan speed or another quantity.

        Parameters
        ----------
        against : str
            "noise_dba", "fan_rpm", "power_w", "work_per_s" (of which more is better), or a detail that
            levels have in the study file, such as "price": those of a setup's levels are added.
        of : str
            "rise" (less is better), or "capacity", "work_per_s", "clock_mhz" (more is better).
        room_c : float
            The room that capacities are for.
        where : mapping, optional
            Levels of factors that setups must have.
        """
        comparison = self.compare(confidence=confidence, leave_out=leave_out)
        if of == "capacity":
            capacity = self.capacity(room_c=room_c, confidence=confidence, leave_out=leave_out)
            found = trade_capacity(comparison, capacity, self.file, against)
        else:
            found = trade_rise(comparison, self.file, against, of=of, where=where or {})
        left_out = [f"left out: {run}: {why}" for run, why in comparison.left_out]
        return replace(found, cautions=(*left_out, *found.cautions))

    def at_equal(
        self,
        quantity: str,
        at: float | None = None,
        *,
        where: Mapping[str, str | float] | None = None,
        confidence: float = 0.95,
        leave_out: Mapping[str, str] | None = None,
    ) -> pd.DataFrame:
        """Compare setups at equal noise, fan speed or duty, by smooth courses between their levels.

        Parameters
        ----------
        quantity : str
            A logged quantity, such as "noise_dba", "fan_rpm" or "duty_pct".
        at : float, optional
            Where to compare; the middle of what all setups cover if not given.
        where : mapping, optional
            Only runs with these levels of factors.

        Returns
        -------
        DataFrame
            setup, at, rise_k, low_k, high_k, levels, difference_k, difference_low_k, difference_high_k,
            distinguishable: the difference is to the coolest of them under the same power limit and load.
            NaN where a setup does not reach that far. Setups are grouped by all factors but those that
            move fans.
        """
        table = self.table(confidence=confidence, leave_out=leave_out)
        return compare_at_equal(
            table, self.file, quantity, at, where=where or {}, confidence=confidence,
            repeatability=self.known_repeatability(table),
        )  # fmt: skip

    def drift(
        self,
        setup: str | None = None,
        *,
        confidence: float = 0.95,
        leave_out: Mapping[str, str] | None = None,
    ) -> MachineDrift:
        """Look for a trend in repeats of one setup over time: the baseline, if none is named."""
        table, left_out = self.table_and_left_out(confidence, leave_out)
        table, brought = self._in_one_room(table)
        name = setup or self.file.baseline or str(table["setup"].mode().iloc[0])
        runs = table[table["setup"] == name]
        if runs.empty:
            raise InputError(
                f'there is no run of "{name}".' + nearest(name, table["setup"].unique())
            )
        days = [started_days(row) for row in runs.to_dict("records")]
        found = machine_drift(
            days, runs["value"], mount=mounts_of(runs), confidence=confidence,
            shared_error=runs["shared_error"] if "shared_error" in runs.columns else None,
        )  # fmt: skip
        return replace(found, cautions=(*found.cautions, *brought, *left_out))

    def loads(
        self,
        *,
        baseline: str | None = None,
        confidence: float = 0.95,
        leave_out: Mapping[str, str] | None = None,
    ) -> StudyLoads:
        """Compare the setups under each load by itself, and over all loads.

        The load is what a factor with `sets = "load"` or `"workers"` says, else what each run recorded.

        Raises
        ------
        InputError
            A study whose runs have one load only, or an unknown baseline.
        """
        against = baseline or self.file.baseline
        if against is not None and self.file.setups:
            check_setup_name(self.file, against)
        rows, left_out = self.usable_rows(confidence, None, leave_out)
        return compare_loads(
            rows,
            left_out,
            self.file,
            baseline=against,
            confidence=confidence,
            made_up=self.is_made_up(rows),
            repeatability=self.known_repeatability(rows),
        )

    def parts(self, *, leave_out: Mapping[str, str] | None = None) -> pd.DataFrame:
        """Return each part's temperature under load by setup, and its headroom.

        Columns: setup, part, hold_mean_c, hold_peak_c, limit_c, headroom_k (below its own limit),
        comfort_k (below the tester's comfort line), first: whether it is nearest to its limit.
        """
        rows, _ = self.usable_rows(0.95, None, leave_out)
        return parts_table(rows, self.file.comfort_c)

    def capacity(
        self,
        *,
        limit_c: float | None = None,
        room_c: float = 25.0,
        at_power_w: float | None = None,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> StudyCapacity:
        """Say what power each setup is good for.

        Parameters
        ----------
        limit_c : float, optional
            Limit temperature; the machine's own if not given.
        room_c : float
            The room to answer for.
        at_power_w : float, optional
            A power to say of whether each setup passes at it.

        Raises
        ------
        InputError
            A limit below the room, or no run with power and rise.
        """
        rows, left_out = self.usable_rows(confidence, executor, leave_out, climbs=True)
        return find_capacities(
            rows,
            left_out,
            groups=setups_without_power(self.file),
            limit_c=self.file.machine.limit_c if limit_c is None else limit_c,
            room_c=room_c,
            at_power_w=at_power_w,
            confidence=confidence,
            title=self.file.title,
            made_up=self.is_made_up(rows),
            repeatability=self.known_repeatability(rows),
        )


def open_study(path: str | Path) -> Study:
    """Open a study by its folder.

    Raises
    ------
    FileError
        The folder is no study, or its `study.toml` is wrong; the message says where.
    """
    folder = Path(path)
    if folder.is_file() and folder.name == STUDY_FILE:
        folder = folder.parent
    if not folder.is_dir():
        raise FileError(f"{folder}: there is no such folder")
    return Study(folder, read_study_file(folder / STUDY_FILE))
