"""Runs of a study compared: first comparable numbers, then differences, then open questions."""

from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pandas as pd

from gelassen.answers.one_room import (
    brought_to,
    free_runs,
    highest_power,
    room_cautions,
    runs_of_days,
)
from gelassen.answers.rows.by_quantity import Quantity, in_kelvin
from gelassen.answers.rows.known_spread import KnownSpread
from gelassen.answers.rows.run_row import ENTERED, RunRow
from gelassen.answers.rows.run_table import (
    is_room,
    of_another_unit,
    of_one_unit,
    reasons_left_out,
    run_table,
    usual_reference,
)
from gelassen.answers.thresholds import MeanPower, Powers
from gelassen.core.comparing.bias_check import without_bias
from gelassen.core.comparing.comparability import Comparability, comparability
from gelassen.core.comparing.comparison import Comparison, compare_setups
from gelassen.core.comparing.priors import Days, Spread
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.counted import counted
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.result import Result
from gelassen.core.foundation.spelling import nearest
from gelassen.core.thermal.priors import RoomEffect
from gelassen.study.disk.run_file import ATTEMPTS

# Outcomes of runs that went on as long as they should.
_WHOLE = ("finished", "imported", ENTERED, "held", "held back")


@dataclass(frozen=True, slots=True, kw_only=True)
class StudyComparison(Result):
    """The setups of a study against each other.

    Attributes
    ----------
    setups : DataFrame
        One row a setup, coolest first: setup, rise_k, low_k, high_k, runs, group, at_limit, extrapolated
        (how many of its runs ended before they settled), thermal_share, power_share, power_w, clock_mhz,
        fan_rpm, work_per_s, wall_w (what the supply gave), equal_power_k (the rise at the baseline's
        power, where powers are near), temperature_c (in the room that was asked for, were it not held
        back), and against the baseline difference_k, difference_low_k,
        difference_high_k, distinguishable, alike, runs_needed, and the verdict: "cooler", "warmer",
        "likely cooler", "likely warmer" (nothing was repeated, and nobody knows the rig), "the same" (they
        differ by less than what matters) or "cannot tell". Infinite ends mean "cannot tell":
        a setup at its temperature limit would be warmer than it shows.
    differences : DataFrame
        As in `core.Comparison`, with bounds where a setup was at its limit.
    runs : DataFrame
        One row a run that was used; low and high are the 95 % interval of the run by itself.
    left_out
        (run, reason) for each run that was not.
    comparability
        What differed between runs besides the setup.
    unlike : DataFrame
        The differences that this moved, as they would be without it: see `core/comparing/bias_check.py`.
    unit
        "K" for rises, "°C" if no reference was logged.
    repeatability_k, repeatability_at_w
        What runs of one setup scatter by, and at which power; NaN for the second where setups draw about
        the same. Where they do not, the scatter is taken to grow in proportion to power.
    room_effect
        By how much rises change with each kelvin of the room, with its interval; None where rooms were
        alike or are not known.
    others
        Runs whose values are of another unit, compared among themselves: rises are not ranked with
        temperatures.
    matters_k
        The smallest difference that matters, in K.
    spread
        What was known of the scatter between runs beside these runs: with `source` "usual", what is told
        apart is likely and no more.
    by
        What is compared, where it is not where runs settle: then rise_k, difference_k and so on are in
        its unit, and the setup with the best value comes first.
    details
        (level, factor, what is known of it, in words) for each level of which something is known.
    comfort_c
        The tester's own line below the limit.
    """

    title: str
    baseline: str | None
    setups: pd.DataFrame
    differences: pd.DataFrame
    runs: pd.DataFrame
    left_out: tuple[tuple[str, str], ...]
    unit: str
    measured: str
    limit_c: float | None
    repeatability_k: float
    confidence: float
    made_up: bool
    cautions: tuple[Caution, ...] = ()
    comparability: Comparability | None = None
    unlike: pd.DataFrame = field(default_factory=pd.DataFrame)
    room_c: float | None = None
    over: str = "the reference"
    repeatability_at_w: float = float("nan")
    room_effect: tuple[float, float, float] | None = None
    others: "tuple[StudyComparison, ...]" = ()
    matters_k: float = 1.0
    spread: KnownSpread = field(default_factory=lambda: KnownSpread("repeats", None))
    by: Quantity | None = None
    details: tuple[tuple[str, str, str], ...] = ()
    comfort_c: float | None = None

    def __str__(self) -> str:
        lines = [self.title + ("   (made-up sample data)" if self.made_up else "")]
        for row in self.setups.to_dict("records"):
            if row["at_limit"]:
                span = "at the limit: it would be warmer"
            elif np.isfinite([row["low_k"], row["high_k"]]).all():
                span = f"{row['low_k']:.1f} to {row['high_k']:.1f}"
            else:
                span = "cannot tell"
            lines.append(
                f"{row['setup']}: {row['rise_k']:.1f} {self.unit} ({span}), "
                f"{counted(row['runs'], 'run')}"
            )
        return "\n".join([*lines, *(f"  caution: {text}" for text in self.cautions)])


@dataclass(frozen=True, slots=True, kw_only=True)
class ComparisonAsked:
    """What is asked of the runs of a study.

    Attributes
    ----------
    baseline, confidence, room_c
        As in `Study.compare`.
    spread_of
        What is known of the scatter between runs, for those that are compared.
    expected
        Quantities that some factor is meant to change.
    reference
        What rises are meant to be over; None for what most runs have.
    room_k
        Standard deviation of a room that was not logged, from day to day, in K.
    matters_k
        The smallest difference that matters: in K for temperatures, in % of the mean for all else.
    by
        The quantity that the rows hold as their value; None for where they settle.
    attempted
        Along what attempts went, if these are any.
    """

    title: str
    baseline: str | None = None
    confidence: float = 0.95
    made_up: bool
    spread_of: Callable[[pd.DataFrame], KnownSpread] = lambda runs: KnownSpread("repeats", None)
    room_c: float | None = None
    expected: Sequence[str] = ()
    reference: str | None = None
    room_k: float = Days.NO_ROOM_K
    matters_k: float = 1.0
    by: Quantity | None = None
    attempted: str = "power"


def compare_runs(
    rows: Sequence[RunRow], left_out: Sequence[tuple[str, str]], asked: ComparisonAsked
) -> StudyComparison:
    """Compare analysed runs; see `Study.compare`."""
    left_out = list(left_out)
    table, other = of_one_unit(run_table(rows, left_out, asked.reference), asked.baseline)
    over = _checked(table, rows, left_out, asked)
    names = list(dict.fromkeys(table["setup"]))
    lost = sorted({row.setup for row in rows if row.setup} - set(names) - set(other["setup"]))
    limited = {name for name in names if table.loc[table["setup"] == name, "at_limit"].all()}
    free = free_runs(table)
    # Runs at the limit all read the same with any cooler. Their small scatter is no measure.
    base = free if not free.empty else table
    highest_w = highest_power(base)
    spread = asked.spread_of(base)
    comparison = _compared(base, asked, spread.spread)
    units, kinds = sorted(set(table["unit"])), sorted({str(k) for k in table["kind"] if k})
    setups = _setup_table(table, comparison, limited, asked.by)
    setups = _at_equal_power(setups, asked.baseline, units[0])
    if asked.room_c is not None:
        setups["temperature_c"] = brought_to(setups, comparison, asked.room_c)
    differences = _with_verdicts(
        _differences(setups, comparison, limited, asked.baseline), spread, asked.by
    )
    setups = _with_baseline(setups, differences, asked.baseline)
    fair = _fairness(table, limited, comparison, asked)
    cautions = [
        *spread.caution,
        *(one for one in comparison.cautions if one.code not in _said_otherwise(limited)),
        *_what_differs(limited, lost, kinds),
        *_weak_runs(table, limited, other, asked),
        *(_power_cautions(setups, asked.baseline) if fair is not None else ()),
        *room_cautions(table["reference_c"], comparison, asked.room_c, highest_w),
    ]
    return StudyComparison(
        title=asked.title,
        baseline=asked.baseline,
        setups=setups,
        differences=differences,
        runs=table,
        left_out=tuple(left_out),
        unit=units[0],
        measured=kinds[0] if kinds else "",
        limit_c=_limit_of(table),
        repeatability_k=comparison.repeatability if not free.empty else float("nan"),
        confidence=asked.confidence,
        made_up=asked.made_up,
        cautions=tuple(cautions),
        comparability=fair,
        unlike=pd.DataFrame() if fair is None else without_bias(differences, fair),
        room_c=asked.room_c,
        over="the room" if over is None or is_room(over) else over,
        repeatability_at_w=highest_w if in_kelvin(asked.by) else float("nan"),
        room_effect=comparison.room_effect,
        others=_others(rows, other, asked),
        matters_k=asked.matters_k,
        spread=spread,
        by=asked.by,
    )


def _fairness(
    table: pd.DataFrame, limited: set[str], comparison: Comparison, asked: ComparisonAsked
) -> Comparability | None:
    """Return what differed between runs beside the factors; None where no temperature is compared.

    Power, clock and fans move a temperature. For work, clock or score they are what comes of it.
    """
    if not in_kelvin(asked.by):
        return None
    return comparability(
        table.assign(at_limit=table["setup"].isin(list(limited))),
        expected=asked.expected,
        allowed_for=["reference_c"] if comparison.room_effect is not None else [],
    )


def _others(
    rows: Sequence[RunRow], other: pd.DataFrame, asked: ComparisonAsked
) -> tuple[StudyComparison, ...]:
    """Return the runs of another unit, compared among themselves."""
    if other.empty:
        return ()
    names, units = set(other["run"]), set(other["unit"])
    own = replace(asked, baseline=None, room_c=None)
    return (compare_runs([row for row in rows if row.run in names and row.unit in units], (), own),)


def _weak_runs(
    table: pd.DataFrame, limited: set[str], other: pd.DataFrame, asked: ComparisonAsked
) -> list[Caution]:
    """Return cautions about runs that count although they are not as they should be."""
    said: list[Caution] = []
    said += of_another_unit(other)
    limits_c = table["limit_c"].astype(float)
    if (limits_c <= table["reference_c"].astype(float)).any():
        said.append(caution("limit_below_room", limit_c=float(limits_c.min())))
    if set(table["unit"]) == {"°C"}:
        said.append(caution("no_room_anywhere", room_k=asked.room_k))
    beside = table[table["at_limit"].astype(bool) & ~table["setup"].isin(limited)]
    if len(beside):
        said.append(caution("some_at_limit", runs=", ".join(beside["run"])))
    unsettled = table[~table["reached"].astype(bool) & ~table["at_limit"].astype(bool)]
    if len(unsettled):
        missing = unsettled["missing_k"].astype(float).abs()
        said.append(
            caution(
                "extrapolated", count=len(unsettled), all=len(table), least_k=float(missing.min()),
                most_k=float(missing.max()),
            )
        )  # fmt: skip
    uneven = int(table["uneven"].astype(bool).sum())
    if uneven and asked.by is None:
        said.append(caution("means_compared", count=uneven, all=len(table)))
    moved = table[table["moved_k"].abs() > MeanPower.WORTH_A_WORD_K]
    if not moved.empty and in_kelvin(asked.by):
        power_w = float(moved["power_w"].median())
        most_k = float(moved["moved_k"].abs().max())
        said.append(caution("at_equal_mean_power", power_w=power_w, most_k=most_k))
    hotter = table["hotter_chip"].dropna()
    if len(hotter) and in_kelvin(asked.by):
        named, judged = str(hotter.mode().iloc[0]), str(table["kind"].iloc[0])
        said.append(
            caution(
                "hotter_chip_not_judged", count=len(hotter), all=len(table), channel=named,
                judged=judged if judged.startswith(("cpu.", "gpu.")) else "hottest core",
            )
        )  # fmt: skip
    typed = table[table["by_hand"].astype(bool)]
    if len(typed) and in_kelvin(asked.by):
        errors = typed["standard_error"].astype(float)
        said.append(
            caution(
                "read_by_hand", count=len(typed), all=len(table), least_k=float(errors.min()),
                most_k=float(errors.max()),
            )
        )  # fmt: skip
    early = table[~table["outcome"].isin(_WHOLE)]
    if len(early):
        said.append(caution("ended_early", runs=", ".join(early["run"])))
    return said


def _checked(
    table: pd.DataFrame,
    rows: Sequence[RunRow],
    left_out: Sequence[tuple[str, str]],
    asked: ComparisonAsked,
) -> str | None:
    """Return the reference of the rises; refuse a comparison that these runs cannot answer."""
    if table.empty:
        attempts = any(row.outcome in ATTEMPTS for row in rows)
        how = f"--ladder {asked.attempted} shows how far setups hold"
        ask = f". These are attempts: {how}" if attempts else ""
        raise InputError(f"no run can be compared ({reasons_left_out(left_out)}){ask}")
    names = list(dict.fromkeys(table["setup"]))
    if asked.baseline is not None and asked.baseline not in names:
        raise InputError(
            f'the baseline "{asked.baseline}" has no usable run (there are runs of: {", ".join(names)}).'
            + nearest(asked.baseline, names)
        )
    used = set(table["run"])
    over = usual_reference([row for row in rows if row.run in used])
    if asked.room_c is not None and set(table["unit"]) == {"°C"}:
        raise InputError(
            f"no room temperature was logged: a room of {asked.room_c:g} °C cannot be added to "
            "temperatures that hold their own room already"
        )
    if asked.room_c is not None and not is_room(over):
        raise InputError(
            f"rises are over {over} here: a room of {asked.room_c:g} °C cannot be added to them"
        )
    return over


def _compared(
    base: pd.DataFrame, asked: ComparisonAsked, repeatability: tuple[float, float] | None
) -> Comparison:
    """Return the comparison of the runs that were not at their limit."""
    against = asked.baseline if asked.baseline in set(base["setup"]) else None
    if not in_kelvin(asked.by):
        middle = float(base["value"].abs().mean())
        return compare_setups(
            base[["setup", "value", "standard_error", "mount"]],
            baseline=against,
            confidence=asked.confidence,
            repeatability=repeatability,
            usual_spread=(max(Spread.USUAL_SHARE[0] * middle, Spread.LEAST), Spread.USUAL_SHARE[1]),
            matters=max(asked.matters_k / 100 * middle, Spread.LEAST),
        )
    runs, usual, day_spread = runs_of_days(base, asked.room_k)
    return compare_setups(
        runs,
        baseline=against,
        confidence=asked.confidence,
        repeatability=repeatability,
        usual_spread=usual,
        day_spread=day_spread,
        matters=asked.matters_k,
        room_effect=None if "reference_c" in asked.expected else RoomEffect.USUAL,
    )


def _said_otherwise(limited: set[str]) -> tuple[str, ...]:
    """Return the cautions of the core that are told in other words here, or do not hold with a limit."""
    spread = ("known_repeatability_stands_in",)
    return (*spread, "one_setup") if limited else spread


def _what_differs(limited: set[str], lost: list[str], kinds: list[str]) -> list[Caution]:
    """Return cautions: setups that temperature cannot separate, and runs of different kinds."""
    cautions: list[Caution] = []
    if limited:
        cautions.append(caution("at_limit", setups="; ".join(sorted(limited))))
    if lost:
        cautions.append(caution("no_comparable_run", setups="; ".join(lost)))
    if len(kinds) > 1:
        cautions.append(caution("measured_differently", measured="; ".join(kinds)))
    return cautions


def _at_equal_power(setups: pd.DataFrame, baseline: str | None, unit: str) -> pd.DataFrame:
    """Add the rise at the baseline's power (or the median power), where powers are similar.

    A temperature in °C is no rise, so it gets none.

    A cooler chip leaks less current, so part of a better cooler's gain shows in power and not in rise.
    """
    powers = setups["power_w"]
    if baseline is not None:
        common = float(powers[setups["setup"] == baseline].iloc[0])
    else:
        common = float(powers.median())
    near = ((powers / common - 1).abs() <= Powers.NEAR_SETUPS) & (unit == "K")
    return setups.assign(
        equal_power_k=(setups["rise_k"] * common / powers).where(near & ~setups["at_limit"])
    )


_MEANS = (
    "thermal_share", "power_share", "power_w", "clock_mhz", "fan_rpm", "work_per_s", "reference_c",
    "wall_w",
)  # fmt: skip


def _setup_table(
    table: pd.DataFrame, comparison: Comparison, limited: set[str], by: Quantity | None
) -> pd.DataFrame:
    known = comparison.setups.set_index("setup")
    rows = []
    for name, runs in table.groupby("setup", sort=False):
        at_limit = name in limited
        rows.append(
            {
                "setup": name,
                "rise_k": float(runs["value"].mean())
                if at_limit
                else float(known.loc[name, "mean"]),
                "low_k": float(runs["value"].min()) if at_limit else float(known.loc[name, "low"]),
                "high_k": np.inf if at_limit else float(known.loc[name, "high"]),
                "runs": len(runs),
                "group": ""
                if at_limit
                else str(known.loc[name, "group"])
                if name in known.index
                else "",
                "at_limit": at_limit,
                "extrapolated": int((~runs["reached"].astype(bool) & ~runs["at_limit"]).sum()),
                **{column: float(runs[column].astype(float).mean()) for column in _MEANS},
            }
        )
    order = pd.DataFrame(rows)
    if by is not None and by.column:  # a table shows one number for it
        order[by.column] = order["rise_k"]
    ascending = [True, not (by is not None and by.more_is_better)]
    order = order.assign(place=_place(order)).sort_values(
        ["at_limit", "place"], ascending=ascending, kind="stable"
    )
    order = order.drop(columns="place").reset_index(drop=True)
    return order.assign(group=_from_the_first(order["group"].tolist()))


def _place(setups: pd.DataFrame) -> pd.Series:
    """Return what setups are sorted by: their value; at the limit, the power or clock that they held."""
    limited = setups["at_limit"]
    held = [name for name in ("power_w", "clock_mhz") if setups.loc[limited, name].notna().all()]
    return setups["rise_k"].where(~limited, -setups[held[0]]) if held else setups["rise_k"]


def _from_the_first(groups: Sequence[str]) -> list[str]:
    """Return groups of letters renamed so that the first setup has an "a", whatever comes first."""
    seen = dict.fromkeys(letter for group in groups for letter in group)
    named = dict(zip(seen, sorted(seen), strict=True))
    return ["".join(sorted(named[letter] for letter in group)) for group in groups]


def _differences(
    setups: pd.DataFrame, comparison: Comparison, limited: set[str], baseline: str | None
) -> pd.DataFrame:
    """Return the differences between setups below their limit, and bounds where one was at its limit."""
    columns = list(comparison.differences.columns)
    free = comparison.differences
    if baseline is not None:
        free = free[free["versus"] == baseline]
    free = free[~free["setup"].isin(limited) & ~free["versus"].isin(limited)]
    rows: list[dict[Hashable, Any]] = list(free.to_dict("records"))
    level = setups.set_index("setup")
    names = list(setups["setup"])
    pairs = (
        [(name, baseline) for name in names if name != baseline]
        if baseline is not None
        else [(a, b) for k, a in enumerate(names) for b in names[k + 1 :]]
    )
    for a, b in pairs:
        if a not in limited and b not in limited:
            continue
        difference = float(level.loc[a, "rise_k"] - level.loc[b, "rise_k"])
        low, high = -np.inf, np.inf
        if a in limited and b not in limited:
            low = float(level.loc[a, "low_k"] - level.loc[b, "high_k"])
        elif b in limited and a not in limited:
            high = float(level.loc[a, "high_k"] - level.loc[b, "low_k"])
        clear = low > 0 or high < 0
        bounds: dict[Hashable, Any] = {
            "low": low,
            "high": high,
            "single_low": low,
            "single_high": high,
        }
        pair = {"setup": a, "versus": b, "difference": difference, "distinguishable": clear}
        pair["alike"] = False
        rows.append(bounds | pair)
    # An empty table has no types of its own, and joined to others spoils theirs.
    kinds = comparison.differences.dtypes.to_dict()
    return pd.DataFrame(rows, columns=columns).astype(kinds)


def _limit_of(table: pd.DataFrame) -> float | None:
    limits = table["limit_c"].dropna()
    return float(limits.iloc[0]) if len(limits) else None


def _with_verdicts(
    differences: pd.DataFrame, spread: KnownSpread, by: Quantity | None
) -> pd.DataFrame:
    """Return the differences with a verdict on each, in a few words."""
    likely = spread.source == "usual"
    said = [_verdict(row, likely, by) for row in differences.to_dict("records")]
    return differences.assign(verdict=said)


def _verdict(row: Mapping[Hashable, Any], likely: bool, by: Quantity | None) -> str:
    """Return the verdict on a difference, as one of a few words."""
    less, more = ("cooler", "warmer") if in_kelvin(by) else ("less", "more")
    if row["distinguishable"]:
        return ("likely " if likely else "") + (less if row["difference"] < 0 else more)
    return "the same" if row["alike"] else "cannot tell"


def _with_baseline(
    setups: pd.DataFrame, differences: pd.DataFrame, baseline: str | None
) -> pd.DataFrame:
    if baseline is None:
        return setups
    named = differences.rename(
        columns={
            "difference": "difference_k",
            "low": "difference_low_k",
            "high": "difference_high_k",
        }
    )
    columns = [
        "setup", "difference_k", "difference_low_k", "difference_high_k", "distinguishable", "alike",
        "runs_needed", "verdict",
    ]  # fmt: skip
    return setups.merge(named[columns], on="setup", how="left")


def _power_cautions(setups: pd.DataFrame, baseline: str | None) -> list[Caution]:
    """Return a caution for each setup that did not do the same work as the baseline."""
    if baseline is None:
        return []
    own = setups.loc[setups["setup"] == baseline, "power_w"]
    if own.empty or not np.isfinite(own.iloc[0]):
        return []
    ratio = setups["power_w"] / float(own.iloc[0])
    different = setups.loc[(ratio - 1).abs() > 0.05, "setup"]
    if different.empty:
        return []
    return [caution("powers_differ", count=len(different), all=len(setups))]
