"""A study on disk: its file, its runs, and what they say together."""

import json
import math
from collections.abc import Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pandas as pd
import tomlkit
from scipy.stats import norm

from gelassen.core.comparability import Comparability, comparability
from gelassen.core.comparison import compare_setups
from gelassen.core.effects import Effects, factor_effects
from gelassen.core.errors import FileError, GelassenError, InputError
from gelassen.core.judging import MEAN_OF_CORES, core_channels
from gelassen.core.machinedrift import MachineDrift, machine_drift
from gelassen.core.recording import Recording
from gelassen.core.response import Response, response_curve
from gelassen.core.rig import Repeatability, rig_repeatability
from gelassen.core.spelling import nearest
from gelassen.core.summary import RunSummary, summarise_run
from gelassen.core.tradeoff import Tradeoff, tradeoff, value_at
from gelassen.study.analysis import USUAL_SPREAD_K, StudyComparison, compare_runs, run_table
from gelassen.study.archive import read_run
from gelassen.study.cache import fingerprint, keep_rows, kept_rows
from gelassen.study.capacities import StudyCapacity, find_capacities, without_power
from gelassen.study.partsview import parts_table
from gelassen.study.rows import Row, run_row, started_days
from gelassen.study.samples import SAMPLES_CSV, SAMPLES_PARQUET
from gelassen.study.studyfile import STUDY_FILE, StudyFile, check_setup_name, read_study_file
from gelassen.study.writer import RUN_JSON, write_json

REPEATABILITY = "repeatability.json"
_MORE = ("work_per_s", "clock_mhz", "capacity")  # of these, more is better
_FAN_WORDS = ("fan", "curve", "duty", "rpm", "blower", "pump", "noise")
_NAMES = {
    "rise": "rise, K", "capacity": "capacity, W", "noise_dba": "noise, dB(A)", "fan_rpm": "fan speed, rpm",
    "power_w": "power, W", "work_per_s": "work, 1/s", "clock_mhz": "clock, MHz", "duty_pct": "duty, %",
}  # fmt: skip
_POWER_FACTORS = ("power", "power_w", "power_limit_w")


@dataclass(frozen=True, slots=True)
class Study:
    """A study and its runs.

    Attributes
    ----------
    folder
        Where it lives.
    file
        What `study.toml` says.
    """

    folder: Path
    file: StudyFile

    def run_folders(self) -> list[Path]:
        """Return the folders of all runs, in order of their numbers."""
        runs = self.folder / "runs"
        if not runs.is_dir():
            return []
        return sorted(p for p in runs.iterdir() if p.is_dir() and not p.name.startswith("."))

    def run(self, name: str) -> Recording:
        """Open one run by its folder name or its number."""
        folders = self.run_folders()
        for folder in folders:
            if name in (
                folder.name,
                folder.name.split("-")[0],
                folder.name.split("-")[0].lstrip("0"),
            ):
                return self._with_limits(read_run(folder))
        names = [folder.name for folder in folders]
        raise InputError(f'there is no run "{name}" in {self.folder}.{nearest(name, names)}')

    def _with_limits(self, recording: Recording) -> Recording:
        """Fill in what the study knows and the run does not say."""
        limit = recording.limit_c if recording.limit_c is not None else self.file.machine.limit_c
        return replace(
            recording,
            limit_c=limit,
            reference=recording.reference or self.file.reference,
            made_up=recording.made_up or self.file.made_up,
        )

    def summaries(
        self, *, confidence: float = 0.95, executor: Executor | None = None
    ) -> tuple[list[RunSummary], list[tuple[str, str]]]:
        """Summarise all runs; return the summaries, and the runs left out with the reason."""
        folders = self.run_folders()
        jobs = [(self, folder, confidence) for folder in folders]
        mapped = executor.map(_summarise, jobs, chunksize=4) if executor else map(_summarise, jobs)
        summaries, left_out = [], []
        for folder, result in zip(folders, mapped, strict=True):
            if isinstance(result, str):
                left_out.append((folder.name, result))
            else:
                summaries.append(result)
        return summaries, left_out

    def rows(
        self,
        *,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> tuple[list[Row], list[tuple[str, str]]]:
        """Return what comparisons need of each run, and the runs left out with the reason.

        Runs that were analysed before, and have not changed since, are not analysed again.
        """
        folders = self.run_folders()
        out = self._left_out(leave_out or {})
        said = self._said(confidence)
        marks = {folder.name: fingerprint(folder, said) for folder in folders}
        kept = kept_rows(self.folder)
        known = {n: row for n, (mark, row) in kept.items() if marks.get(n) == mark}
        new = [f for f in folders if f.name not in known and f.name not in out]
        jobs = [(self, folder, confidence) for folder in new]
        mapped = executor.map(_row, jobs, chunksize=4) if executor else map(_row, jobs)
        left_out = list(out.items())
        for folder, result in zip(new, mapped, strict=True):
            if isinstance(result, str):
                left_out.append((folder.name, result))
            else:
                known[folder.name] = result
        if new:
            keep_rows(self.folder, {name: (marks[name], row) for name, row in known.items()})
        rows = [known[f.name] for f in folders if f.name in known and f.name not in out]
        return rows, left_out

    def _said(self, confidence: float) -> list[object]:
        """Return what the study says that changes how a run is judged."""
        file = self.file
        return [file.machine.limit_c, file.reference, file.compare, file.made_up, confidence]

    def unanalysed(self) -> int:
        """Return how many runs would have to be analysed anew."""
        said = self._said(0.95)
        kept = kept_rows(self.folder)
        folders = self.run_folders()
        return sum(kept.get(f.name, ("",))[0] != fingerprint(f, said) for f in folders)

    def left_out(self) -> dict[str, str]:
        """Return the folder names of runs that the study leaves out, with the reason."""
        return self._left_out({})

    def discard(self, run: str, why: str) -> str:
        """Leave a run out from now on: noted in the study file, nothing is deleted.

        Returns the name of its folder.
        """
        (name,) = set(self._left_out({run: why})) - set(self.left_out()) or {run}
        path = self.folder / STUDY_FILE
        document = tomlkit.parse(path.read_text(encoding="utf-8"))
        table = document.setdefault("left_out", tomlkit.table())
        table[name] = why
        draft = path.with_suffix(".toml.part")
        draft.write_text(tomlkit.dumps(document), encoding="utf-8")
        draft.replace(path)
        return name

    def _left_out(self, more: Mapping[str, str]) -> dict[str, str]:
        """Return the folder names of runs that the tester leaves out, with the reason."""
        names = [folder.name for folder in self.run_folders()]
        out: dict[str, str] = {}
        for run, why in {**self.file.left_out, **more}.items():
            match = [n for n in names if run in (n, n.split("-")[0], n.split("-")[0].lstrip("0"))]
            if not match:
                raise InputError(
                    f'"{run}" is to be left out, but there is no such run in {self.folder}.'
                    + nearest(run, names)
                )
            if not why.strip():
                raise InputError(f'"{run}" is to be left out: say why')
            out[match[0]] = why
        return out

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
        rows, left_out = self._usable_rows(confidence, executor, leave_out)
        said = ""
        if correct_drift:
            rows, said = self._without_drift(rows, against, confidence)
        found = compare_runs(
            rows,
            left_out,
            title=self.file.title,
            baseline=against,
            confidence=confidence,
            made_up=self._is_made_up(rows),
            repeatability=self.known_repeatability(),
            room_c=room_c,
            expected=self._expected(),
        )
        return replace(found, cautions=(said, *found.cautions)) if said else found

    def _without_drift(
        self, rows: Sequence[Row], baseline: str | None, confidence: float
    ) -> tuple[list[Row], str]:
        """Return rows freed from the drift of the baseline's repeats, and what was done."""
        drift = self.drift(baseline, confidence=confidence)
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
        return comparability(table, expected=self._expected())

    def repeatability(self, *, confidence: float = 0.95, store: bool = False) -> Repeatability:
        """Find what the rig scatters by between runs of one setup; `store` keeps it with the study."""
        table = self.table(confidence=confidence)
        table["day"] = table["started"].astype(object).map(lambda s: str(s)[:10] if s else "")
        free = table[~table["at_limit"].astype(bool)]
        if free.empty:
            raise InputError("every run was at its limit: repeats there show no scatter")
        found = rig_repeatability(free, confidence=confidence)
        if store and found.freedom > 0:
            write_json(self.folder / REPEATABILITY, {"format": 1, **found.to_dict()})
        return found

    def known_repeatability(self) -> tuple[float, float] | None:
        """Return the repeatability stored with the study and its freedom, if runs do not tell it."""
        try:
            content = json.loads((self.folder / REPEATABILITY).read_text(encoding="utf-8"))
            spread, freedom = float(content["total"]), float(content["freedom"])
        except (OSError, ValueError, KeyError, TypeError):
            return None
        setups = [row for row in self._setups_of_runs() if row]
        repeated = len(setups) > len(set(setups))
        return None if repeated or not (spread > 0 and freedom > 0) else (spread, freedom)

    def table(
        self,
        *,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> pd.DataFrame:
        """Return one row a run that can be compared, with the level of each factor."""
        rows, left_out = self._usable_rows(confidence, executor, leave_out)
        table = run_table(rows, list(left_out))
        if table.empty:
            raise InputError(f"{self.folder}: no run can be compared")
        for factor in self.file.factors:
            levels = {name: setup.get(factor) for name, setup in self.file.setups.items()}
            table[factor] = table["setup"].map(levels)
        return table

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
        table = self.table(confidence=confidence, leave_out=leave_out)
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
        free = table[~table["at_limit"].astype(bool)] if value == "value" else table
        found = factor_effects(
            free,
            factors,
            value=value,
            confidence=confidence,
            repeatability=self.known_repeatability(),
        )
        held = len(table) - len(free)
        if held:
            more = f"{held} runs at the limit are left out: their rise says no more than that"
            found = replace(found, cautions=(more, *found.cautions))
        return found

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
        table = self.table(confidence=confidence, leave_out=leave_out)
        for name, level in (where or {}).items():
            if name not in table.columns:
                raise InputError(
                    f'"{name}" is no factor of this study.' + nearest(name, self.file.factors)
                )
            table = table[table[name].map(_level_text) == _level_text(level)]
        if factor not in table.columns:
            raise InputError(
                f'"{factor}" is no factor of this study.' + nearest(factor, self.file.factors)
            )
        if table.empty:
            raise InputError("no run has these levels")
        x = pd.to_numeric(table[factor], errors="coerce")
        if x.isna().all():
            raise InputError(
                f'the levels of "{factor}" are no numbers: there is no scale to go along'
            )
        free = table[~table["at_limit"].astype(bool)]
        cautions = [] if len(free) == len(table) else [
            f"{len(table) - len(free)} runs at the limit are left out: their rise says no more than that"
        ]  # fmt: skip
        if factor in self.file.factors:
            others = [
                n for n in self.file.factors if n != factor and len(set(free[n].dropna())) > 1
            ]
            values, more = _evenly(free, factor, others)
            cautions += more
        else:  # logged: the runs of one setup stand at one place
            x = x.groupby(table["setup"]).transform("mean")
            values = free["value"]
        found = response_curve(
            x[values.index], values, worth=worth, confidence=confidence,
            repeatability=self.known_repeatability(),
        )  # fmt: skip
        return replace(found, cautions=(*found.cautions, *cautions))

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
        if of == "capacity":
            return self._capacity_tradeoff(against, room_c, confidence, leave_out)
        comparison = self.compare(confidence=confidence, leave_out=leave_out)
        setups = comparison.setups
        for factor, level in (where or {}).items():
            if factor not in self.file.factors:
                raise InputError(
                    f'"{factor}" is no factor of this study.' + nearest(factor, self.file.factors)
                )
            own = [self.file.setups.get(str(n), {}).get(factor) for n in setups["setup"]]
            setups = setups[[_level_text(x) == _level_text(level) for x in own]]
        names = [str(name) for name in setups["setup"]]
        x = self._quantity(against, comparison, names)
        wanted = {
            "rise": "rise_k",
            "work_per_s": "work_per_s",
            "clock_mhz": "clock_mhz",
            "power_w": "power_w",
        }
        if of not in wanted:
            raise InputError(
                f'"{of}" cannot be traded ({", ".join([*wanted, "capacity"])}).'
                + nearest(of, wanted)
            )
        rise = of == "rise"
        found = tradeoff(
            names, x, setups[wanted[of]], y_low=setups["low_k"] if rise else None,
            y_high=setups["high_k"] if rise else None, x_name=_named(against), y_name=_named(of),
            more_x=against in _MORE, more_y=of in _MORE,
        )  # fmt: skip
        powers = setups["power_w"].dropna()
        if rise and len(powers) and powers.max() > 1.2 * powers.min():
            more = (
                f"these setups drew {powers.min():.0f} to {powers.max():.0f} W: compare those "
                f"of one power, "
                "--where FACTOR=LEVEL"
            )
            found = replace(found, cautions=(more, *found.cautions))
        return found

    def _capacity_tradeoff(
        self, against: str, room_c: float, confidence: float, leave_out: Mapping[str, str] | None
    ) -> Tradeoff:
        found = self.capacity(room_c=room_c, confidence=confidence, leave_out=leave_out)
        comparison = self.compare(confidence=confidence, leave_out=leave_out)
        groups = self._without_power()
        members: dict[str, list[str]] = {}
        for name in comparison.setups["setup"]:
            members.setdefault(groups.get(str(name)) or without_power(str(name)), []).append(
                str(name)
            )
        names = [str(n) for n in found.setups["setup"]]
        x = [float(np.nanmean(self._quantity(against, comparison, members[n]))) for n in names]
        return tradeoff(
            names, x, found.setups["capacity_w"], y_low=found.setups["low_w"],
            y_high=found.setups["high_w"],
            x_name=_named(against), y_name=_named("capacity"), more_x=against in _MORE, more_y=True,
        )  # fmt: skip

    def at_equal(
        self,
        quantity: str,
        at: float | None = None,
        *,
        confidence: float = 0.95,
        leave_out: Mapping[str, str] | None = None,
    ) -> pd.DataFrame:
        """Compare setups at equal noise, fan speed or duty, by straight lines between their levels.

        Parameters
        ----------
        quantity : str
            A logged quantity, such as "noise_dba", "fan_rpm" or "duty_pct".
        at : float, optional
            Where to compare; the middle of what all setups cover if not given.

        Returns
        -------
        DataFrame
            setup, at, rise_k, low_k, high_k, levels; NaN where a setup does not reach that far. Setups
            are grouped by all factors but those that move fans.
        """
        table = self.table(confidence=confidence, leave_out=leave_out)
        if quantity not in table.columns or table[quantity].isna().all():
            raise InputError(f'"{quantity}" was not logged (noise_dba, fan_rpm, duty_pct)')
        moved = [n for n in self.file.factors if any(w in n for w in _FAN_WORDS)]
        if not moved:
            raise InputError("no factor of this study moves the fans: there is nothing to go along")
        still = [n for n in self.file.factors if n not in moved]
        keys = (
            table[still].map(_level_text).agg(", ".join, axis=1)
            if still
            else pd.Series("all", table.index)
        )
        free = table[~table["at_limit"].astype(bool)]
        spread = compare_setups(
            free[["setup", "value", "standard_error"]], confidence=confidence,
            repeatability=self.known_repeatability(), usual_spread=USUAL_SPREAD_K,
        )  # fmt: skip
        scatter = spread.repeatability if math.isfinite(spread.repeatability) else math.inf
        groups = {
            name: runs.groupby("setup").agg(x=(quantity, "mean"), y=("value", "mean"), n=("value", "size"))
            for name, runs in free.groupby(keys[free.index], sort=False)
        }  # fmt: skip
        if at is None:
            low = max(float(group["x"].min()) for group in groups.values())
            high = min(float(group["x"].max()) for group in groups.values())
            if low > high:
                raise InputError(f"the setups have no {quantity} in common: say where to compare")
            at = (low + high) / 2
        factor = float(norm.ppf((1 + confidence) / 2))
        rows = []
        for name, group in groups.items():
            own = 1.0 if math.isinf(scatter) else scatter  # unknown: only the value is of use
            value, error = value_at(group["x"], group["y"], own / np.sqrt(group["n"]), at)
            error = math.inf if math.isinf(scatter) and math.isfinite(value) else error
            rows.append(
                (name, at, value, value - factor * error, value + factor * error, len(group))
            )
        return pd.DataFrame(rows, columns=["setup", "at", "rise_k", "low_k", "high_k", "levels"])

    def drift(self, setup: str | None = None, *, confidence: float = 0.95) -> MachineDrift:
        """Look for a trend in repeats of one setup over time: the baseline, if none is named."""
        table = self.table(confidence=confidence)
        name = setup or self.file.baseline or str(table["setup"].mode().iloc[0])
        runs = table[table["setup"] == name]
        if runs.empty:
            raise InputError(
                f'there is no run of "{name}".' + nearest(name, table["setup"].unique())
            )
        days = [started_days(row) for row in runs.to_dict("records")]
        return machine_drift(days, runs["value"], confidence=confidence)

    def parts(self, *, leave_out: Mapping[str, str] | None = None) -> pd.DataFrame:
        """Return each part's temperature under load by setup, and its headroom.

        Columns: setup, part, hold_mean_c, hold_peak_c, limit_c, headroom_k (below its own limit),
        comfort_k (below the tester's comfort line), first: whether it is nearest to its limit.
        """
        rows, _ = self._usable_rows(0.95, None, leave_out)
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
        rows, left_out = self._usable_rows(confidence, executor, leave_out)
        return find_capacities(
            rows,
            left_out,
            groups=self._without_power(),
            limit_c=self.file.machine.limit_c if limit_c is None else limit_c,
            room_c=room_c,
            at_power_w=at_power_w,
            confidence=confidence,
            title=self.file.title,
            made_up=self._is_made_up(rows),
            repeatability=self.known_repeatability(),
        )

    def _usable_rows(
        self, confidence: float, executor: Executor | None, leave_out: Mapping[str, str] | None
    ) -> tuple[list[Row], list[tuple[str, str]]]:
        rows, left_out = self.rows(confidence=confidence, executor=executor, leave_out=leave_out)
        if not rows:
            reasons = "; ".join(f"{name}: {why}" for name, why in left_out) or "it has no runs yet"
            raise InputError(f"{self.folder}: nothing to compare ({reasons})")
        return rows, left_out

    def _is_made_up(self, rows: Sequence[Row]) -> bool:
        return self.file.made_up or any(row["made_up"] for row in rows)

    def _setups_of_runs(self) -> list[str]:
        """Return the setup of each analysed run, without analysing any."""
        return [str(row.get("setup")) for _, row in kept_rows(self.folder).values()]

    def _expected(self) -> list[str]:
        """Return the quantities that some factor is meant to change."""
        words = " ".join(
            [*self.file.factors, *(f.channel or "" for f in self.file.factors.values())]
        )
        expected = []
        if any(stem in words for stem in _FAN_WORDS):
            expected += ["fan_rpm", "duty_pct"]
        if any(stem in words for stem in ("power", "limit", "load", "cores", "clock", "work")):
            expected += ["power_w", "clock_mhz", "work_per_s", "fan_rpm", "load_pct"]
        return expected

    def _without_power(self) -> dict[str, str]:
        """Return setup to its levels without the power limit, where factors say which that is."""
        powers = [
            name for name, factor in self.file.factors.items()
            if (factor.channel or "").endswith(".power_limit_w") or name in _POWER_FACTORS
        ]  # fmt: skip
        if not powers:
            return {}
        groups = {}
        for name, levels in self.file.setups.items():
            rest = [_level_text(x) for factor, x in levels.items() if factor not in powers]
            groups[name] = ", ".join(rest) or without_power(name)
        return groups

    def _quantity(
        self, against: str, comparison: StudyComparison, names: Sequence[str]
    ) -> list[float]:
        setups = comparison.setups.set_index("setup")
        if against in setups.columns:
            return [float(setups.loc[name, against]) for name in names]
        if against in comparison.runs.columns:
            means = comparison.runs.groupby("setup")[against].mean()
            return [float(means[name]) for name in names]
        found = [self._detail(name, against) for name in names]
        if all(math.isnan(x) for x in found):
            details = sorted(
                {k for f in self.file.factors.values() for d in f.details.values() for k in d}
            )
            raise InputError(
                f'no setup has "{against}". Logged: noise_dba, fan_rpm, power_w, work_per_s; in the '
                f"study file: {', '.join(details) or 'no details'}." + nearest(against, details)
            )
        return found

    def _detail(self, setup: str, name: str) -> float:
        """Return the sum of a detail over the levels of a setup; NaN if none has it."""
        values = []
        for factor, level in self.file.setups.get(setup, {}).items():
            text = f"{level:g}" if isinstance(level, float) else str(level)
            value = self.file.factors[factor].details.get(text, {}).get(name)
            if isinstance(value, (int, float)):
                values.append(float(value))
        return sum(values) if values else math.nan


def _named(quantity: str) -> str:
    return _NAMES.get(quantity, quantity)


def _level_text(level: object) -> str:
    """Return a level as people write it: 125, not 125.0."""
    try:
        return f"{float(level):g}"  # type: ignore[arg-type]
    except (TypeError, ValueError):
        return str(level)


def _evenly(
    runs: pd.DataFrame, factor: str, others: Sequence[str]
) -> tuple["pd.Series[float]", list[str]]:
    """Return values freed from what other factors do, where these were run at every level."""
    if not others:
        return runs["value"], []
    levels = runs[factor].nunique()
    complete = runs.groupby(list(others))[factor].transform("nunique") == levels
    good = runs[complete]
    if good.empty:
        raise InputError(
            f"no combination of {', '.join(others)} was run at every level of {factor}: choose one with "
            "--where FACTOR=LEVEL"
        )
    # Each level counts once in its combination, however often it was run.
    middle = good.groupby([*others, factor])["value"].transform("mean")
    cells = good.assign(middle=middle).drop_duplicates([*others, factor])
    means = cells.groupby(list(others))["middle"].mean()
    keys = good[list(others)].apply(tuple, axis=1)
    own = keys.map({k if isinstance(k, tuple) else (k,): v for k, v in means.items()})
    note = [f"averaged over {', '.join(others)}"]
    if len(good) < len(runs):
        note.append(f"{len(runs) - len(good)} runs of combinations that lack a level are left out")
    return good["value"] - own.astype(float) + float(means.mean()), note


def _row(job: tuple[Study, Path, float]) -> Row | str:
    """Return the row of one run, or why there is none."""
    study, folder, confidence = job
    found = _summarised((study, folder, confidence))
    return found if isinstance(found, str) else run_row(*found)


def _summarise(job: tuple[Study, Path, float]) -> RunSummary | str:
    """Return the summary of one run, or why there is none."""
    found = _summarised(job)
    return found if isinstance(found, str) else found[1]


def _summarised(job: tuple[Study, Path, float]) -> tuple[Recording, RunSummary] | str:
    study, folder, confidence = job
    has_run = any((folder / name).exists() for name in (RUN_JSON, SAMPLES_CSV, SAMPLES_PARQUET))
    if not has_run:
        return "no run in this folder"
    try:
        recording = study._with_limits(read_run(folder))
        compare = study.file.compare
        averaged = compare == MEAN_OF_CORES and core_channels(recording.frame)
        wanted = compare if averaged or compare in recording.frame else None
        return recording, summarise_run(recording, channel=wanted, confidence=confidence)
    except GelassenError as error:
        return str(error)


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
