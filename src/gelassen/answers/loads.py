"""Several loads side by side: each load by itself, and the mean over all of them."""

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial

import numpy as np
import pandas as pd

from gelassen.answers.comparison import ComparisonAsked, StudyComparison, compare_runs
from gelassen.answers.parts import parts_table
from gelassen.answers.rows.by_quantity import Quantity, chosen_by
from gelassen.answers.rows.known_spread import KnownSpread, known_spread
from gelassen.answers.rows.power_steps import power_rungs
from gelassen.answers.rows.run_row import RunRow
from gelassen.answers.study_runs import StudyRuns
from gelassen.answers.supply import little_margin, with_supply
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.distributions import normal_quantile
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.result import Result
from gelassen.core.recording.channel_words import judged_words
from gelassen.study.file.levels import (
    expected_quantities,
    level_text,
    setups_without_power,
    without_power,
)
from gelassen.study.file.study_file import Machine, StudyFile

_LOAD_FACTORS = ("load", "loads", "workload", "cores", "active_cores", "workers")
OVER_ALL = "over all loads"


@dataclass(frozen=True, slots=True, kw_only=True)
class StudyLoads(Result):
    """Setups under several loads.

    Attributes
    ----------
    setups : DataFrame
        load, setup (without its load), rise_k, low_k, high_k, runs, at_limit, power_w, clock_mhz, mean_k
        and highest_k over the whole load, its 99th percentile highest_99_k, score, work_per_s, uneven (the
        load came and went, so that rise_k is its mean and no steady state), and the part that is nearest to
        its own limit, first, with its headroom_k. supply_w, supply_highest_w and supply_a are what the
        supply gave. supply_margin_w is its rated power less supply_highest_w.
    differences : DataFrame
        load, setup, versus, difference_k, low_k, high_k, distinguishable; for the load "over all loads" the
        mean of the differences under each, where both setups were run under every load.
    comparisons
        Load to its whole comparison.
    by
        What is compared, where it is not where runs settle: then rise_k, low_k and so on are in its unit.
    other_parts
        The same for each further temperature that the study judges.
    """

    setups: pd.DataFrame
    differences: pd.DataFrame
    comparisons: dict[str, StudyComparison]
    left_out: tuple[tuple[str, str], ...]
    title: str
    made_up: bool
    confidence: float
    cautions: tuple[Caution, ...] = ()
    by: Quantity | None = None
    other_parts: "dict[str, StudyLoads]" = field(default_factory=dict)

    @property
    def unit(self) -> str:
        """Unit of what is compared: "°C" if no room was logged under any load."""
        units = {one.unit for one in self.comparisons.values()}
        return units.pop() if len(units) == 1 else "K"

    def __str__(self) -> str:
        return "\n".join(f"{load}\n{comparison}" for load, comparison in self.comparisons.items())


def study_loads(
    study: StudyRuns,
    *,
    baseline: str | None = None,
    confidence: float = 0.95,
    leave_out: Mapping[str, str] | None = None,
    by: str = "rise",
) -> StudyLoads:
    """Compare the setups under each load by itself, and over all loads; see `Study.loads`."""
    ask = partial(
        _loads_of_part, study, baseline=baseline, confidence=confidence, leave_out=leave_out, by=by
    )
    found, others, lacking = ask(None), {}, []
    for part in study.file.judge[1:] if by == "rise" else ():
        try:
            others[part] = ask(part)
        except InputError as error:
            lacking.append(caution("part_not_compared", part=judged_words(part), why=str(error)))
    if others:
        read = {one.measured for one in found.comparisons.values()}
        part = read.pop() if len(read) == 1 else study.file.judge[0]
        found = replace(found, title=f"{found.title}, {judged_words(part)}")
    return replace(found, other_parts=others, cautions=(*found.cautions, *lacking))


def _loads_of_part(
    study: StudyRuns,
    part: str | None,
    *,
    baseline: str | None,
    confidence: float,
    leave_out: Mapping[str, str] | None,
    by: str,
) -> StudyLoads:
    """Compare the setups under each load by one judged temperature; None for the study's first."""
    against = study.checked_baseline(baseline)
    rows, left_out = study.compared_rows(leave_out, judge=part)
    chosen = chosen_by(rows, left_out, by, partial(known_spread, study.folder, study.file.doubt))
    if chosen.by is not None and not chosen.rows:
        raise InputError(f"no run can be compared by {chosen.by.what}: none has it")
    found = compare_loads(
        chosen.rows,
        chosen.left_out,
        study.file,
        baseline=against,
        confidence=confidence,
        made_up=study.is_made_up(chosen.rows),
        spread_of=chosen.spread_of,
        by=chosen.by,
    )
    title = found.title if part is None else f"{found.title}, {judged_words(part)}"
    return replace(found, title=title, cautions=(*chosen.cautions, *found.cautions))


def compare_loads(
    rows: Sequence[RunRow],
    left_out: Sequence[tuple[str, str]],
    file: StudyFile,
    *,
    baseline: str | None,
    confidence: float,
    made_up: bool,
    spread_of: Callable[[pd.DataFrame], KnownSpread],
    by: Quantity | None = None,
) -> StudyLoads:
    """Compare setups under each load of a study, and over all; see `Study.loads`.

    Raises
    ------
    InputError
        A study whose runs have one load only.
    """
    factors = [
        name
        for name, factor in file.factors.items()
        if factor.sets is not None or name.lower() in _LOAD_FACTORS
    ]
    named = [_split(row, file, factors) for row in rows]
    entries = _by_load(rows, named, setups_without_power(file))
    loads = list(dict.fromkeys(load for load, _, _ in entries))
    if len(loads) < 2:
        raise InputError(
            f"all runs have one load ({loads[0] if loads else 'none'}): nothing is to be set side by side. "
            'Add a factor with sets = "load", or runs of other loads or powers'
        )
    reference = file.reference if "reference" in file.model_fields_set else None
    of_baseline = next((group for _, group, row in entries if row.setup == baseline), None)
    in_one_run = any(row.one_of for _, _, row in entries)
    comparisons, setups, differences, cautions = {}, [], [], []
    about = ComparisonAsked(
        title=file.title, confidence=confidence, made_up=made_up, spread_of=spread_of,
        expected=expected_quantities(file), reference=reference, room_k=file.doubt.room_k,
        matters_k=file.doubt.matters_k, by=by,
    )  # fmt: skip
    for load in loads:
        own = [replace(row, setup=group) for name, group, row in entries if name == load]
        told = [row for row in own if row.value is not None and row.has_interval]
        against = of_baseline if any(row.setup == of_baseline for row in told) else None
        if not told:
            cautions.append(caution("load_tells_nothing", load=load))
            setups.append(_with_quantities(_unsettled(own), own).assign(load=load))
            continue
        asked = replace(about, title=f"{file.title}, {load}", baseline=against)
        found = replace(compare_runs(own, left_out, asked), comfort_c=file.comfort_c)
        comparisons[load] = found
        cautions += [one.of(load) for one in found.cautions]
        setups.append(_every_setup(found.setups, own).assign(load=load))
        differences.append(found.differences.assign(load=load))
    if not comparisons:
        raise InputError(f"{file.title}: under no load does any run settle. Load longer")
    return _together(
        about,
        comparisons,
        setups,
        differences,
        left_out,
        cautions,
        file.machine,
        in_one_run=in_one_run,
    )


def _left_out_of_one(
    comparisons: dict[str, StudyComparison], before: Sequence[tuple[str, str]]
) -> list[tuple[str, str]]:
    """Return the runs that one load leaves out, beside those that were left out before."""
    return [
        (run, f"{load}: {why}")
        for load, one in comparisons.items()
        for run, why in one.left_out
        if (run, why) not in before
    ]


def _together(
    about: ComparisonAsked,
    comparisons: dict[str, StudyComparison],
    setups: list[pd.DataFrame],
    differences: list[pd.DataFrame],
    left_out: Sequence[tuple[str, str]],
    cautions: list[Caution],
    machine: Machine,
    *,
    in_one_run: bool,
) -> StudyLoads:
    """Return the loads side by side, with the mean of the differences over all of them."""
    table = pd.concat(differences, ignore_index=True)
    every = with_supply(pd.concat(setups, ignore_index=True), machine)
    cautions += little_margin(every, machine)
    over_all = _over_all(table, list(comparisons), about.confidence, in_one_run)
    table = pd.concat([table, over_all], ignore_index=True)
    columns = ["load", "setup", "rise_k", "low_k", "high_k", "runs", "at_limit", "power_w", "clock_mhz",
               *_QUANTITIES, "supply_margin_w", "uneven", "first", "headroom_k"]  # fmt: skip
    keys = ["load", "setup", "versus", "difference_k", "low_k", "high_k", "distinguishable"]
    renamed = {"difference": "difference_k", "low": "low_k", "high": "high_k"}
    return StudyLoads(
        setups=every[columns],
        differences=table.rename(columns=renamed)[keys],
        comparisons=comparisons,
        left_out=(*left_out, *_left_out_of_one(comparisons, left_out)),
        title=about.title,
        made_up=about.made_up,
        confidence=about.confidence,
        cautions=tuple(dict.fromkeys(cautions)),
        by=about.by,
    )


def _split(row: RunRow, file: StudyFile, factors: Sequence[str]) -> tuple[str, str]:
    """Return the load of a run, and its setup without it."""
    levels = file.setups.get(row.setup, {})
    own = [f"{level_text(levels[name])}" for name in factors if name in levels]
    rest = [level_text(level) for name, level in levels.items() if name not in factors]
    group = ", ".join(rest) if own and rest else row.setup
    recorded = row.load or "unknown load"
    return (", ".join(own) or str(recorded)), group


def _by_load(
    rows: Sequence[RunRow], named: Sequence[tuple[str, str]], groups: Mapping[str, str]
) -> list[tuple[str, str, RunRow]]:
    """Return load, setup and row. Loads that differ in power only are named by their power.

    `groups` are setups without their power limits, where the study says which that is.
    """
    loads = dict.fromkeys(load for load, _ in named)
    if len(loads) > 1 and not any(row.levels for row in rows):
        return [(*names, row) for names, row in zip(named, rows, strict=True)]
    of_run = {row.run: names for names, row in zip(named, rows, strict=True)}
    entries = []
    for rung in power_rungs(rows):
        for row in rung.rows:
            load, setup = of_run[row.run]
            setup = groups.get(setup) or without_power(setup)
            entries.append((f"{load}, {rung.words}" if len(loads) > 1 else rung.words, setup, row))
    return entries


def _every_setup(settled: pd.DataFrame, rows: Sequence[RunRow]) -> pd.DataFrame:
    """Return the compared setups and those that did not settle, with all that their runs say."""
    rest = [row for row in rows if row.setup not in set(settled["setup"])]
    every = pd.concat([settled, _unsettled(rest)]) if rest else settled
    return _with_quantities(_nearest_part(every, rows), rows)


def _unsettled(rows: Sequence[RunRow]) -> pd.DataFrame:
    """Return setups whose runs do not show where they settle; what else they say is still of use."""
    found = []
    for setup in dict.fromkeys(row.setup for row in rows):
        own = [row for row in rows if row.setup == setup]
        means = {
            name: float(np.nanmean([math.nan if x is None else x for x in values]))
            if any(x is not None for x in values)
            else math.nan
            for name, values in (
                ("power_w", [row.power_w for row in own]), ("clock_mhz", [row.clock_mhz for row in own]),
            )
        }  # fmt: skip
        found.append(
            {"setup": setup, "rise_k": math.nan, "low_k": -math.inf, "high_k": math.inf, "runs": len(own),
             "at_limit": False, "first": None, "headroom_k": math.nan, **means}
        )  # fmt: skip
    return pd.DataFrame(found)


# Column to the quantity of a run that is averaged in it.
_QUANTITIES = {
    "mean_k": "mean",
    "highest_k": "highest",
    "highest_99_k": "highest 99",
    "score": "score",
    "work_per_s": "work",
    "supply_w": "supply",
    "supply_highest_w": "supply highest",
    "supply_a": "supply current",
}


def _with_quantities(setups: pd.DataFrame, rows: Sequence[RunRow]) -> pd.DataFrame:
    """Return the setups with the means of what else their runs say, and whether the load came and went."""
    added: dict[str, list[float | bool]] = {name: [] for name in (*_QUANTITIES, "uneven")}
    for setup in setups["setup"]:
        own = [row for row in rows if row.setup == setup]
        for column, name in _QUANTITIES.items():
            found = [row.quantities[name][0] for row in own if name in row.quantities]
            added[column].append(sum(found) / len(found) if found else math.nan)
        added["uneven"].append(any(row.uneven for row in own))
    return setups.assign(**added)


def _nearest_part(setups: pd.DataFrame, rows: Sequence[RunRow]) -> pd.DataFrame:
    parts = parts_table(rows, None)
    first = parts[parts["first"].astype(bool)].groupby("setup").first()
    wanted = first.reindex(setups["setup"])
    return setups.assign(
        first=wanted["part"].to_numpy(), headroom_k=wanted["headroom_k"].to_numpy(float)
    )


def _one_way_round(table: pd.DataFrame) -> pd.DataFrame:
    """Return the differences with the two setups of each pair in the same order under every load.

    Under each load, the cooler setup of a pair comes first. That may be another one under the next load.
    """
    pairs = list(zip(table["setup"], table["versus"], strict=True))
    first = {frozenset(pair): pair for pair in reversed(pairs)}
    other = np.array([first[frozenset(pair)] != pair for pair in pairs], dtype=bool)
    turned = table.copy()
    turned.loc[other, ["setup", "versus"]] = table.loc[other, ["versus", "setup"]].to_numpy()
    turned.loc[other, "difference"] = -table.loc[other, "difference"]
    for low, high in (("low", "high"), ("single_low", "single_high")):
        turned.loc[other, [low, high]] = -table.loc[other, [high, low]].to_numpy()
    return turned


def _over_all(
    table: pd.DataFrame, loads: Sequence[str], confidence: float, in_one_run: bool
) -> pd.DataFrame:
    """Return the mean difference of each pair over the loads of both.

    The errors of two loads are independent, unless they are levels `in_one_run`, of one mounting. Loads
    under which both were at their limit are left out. One setup at its limit leaves the mean open on that
    side. Intervals hold for all pairs: they are wider than those of one pair by as much as under one load.
    """
    z = float(normal_quantile((1 + confidence) / 2))
    entries = []
    for (setup, versus), part in _one_way_round(table).groupby(["setup", "versus"], sort=False):
        told = part[np.isfinite(part["single_low"]) | np.isfinite(part["single_high"])]
        if len(part) < len(loads) or len(told) < 2:
            continue
        middle = float(told["difference"].mean())
        half = {}
        for side in ("low", "high"):
            errors = (told[f"single_{side}"] - told["difference"]).abs() / z
            total = errors.sum() if in_one_run else math.sqrt(float((errors**2).sum()))
            alone = (told[f"single_{side}"] - told["difference"]).abs()
            joint = (told[side] - told["difference"]).abs() / alone
            wider = float(np.nanmax([1.0, *joint[np.isfinite(joint)]]))
            half[side] = wider * z * float(total) / len(told)
        low, high = middle - half["low"], middle + half["high"]
        name = OVER_ALL if len(told) == len(loads) else f"over {', '.join(told['load'])}"
        entries.append(
            {
                "setup": setup, "versus": versus, "difference": middle, "low": low, "high": high,
                "distinguishable": bool(low > 0 or high < 0), "load": name,
            }
        )  # fmt: skip
    return pd.DataFrame(entries, columns=["setup", "versus", "difference", "low", "high",
                                          "distinguishable", "load"])  # fmt: skip
