"""The answer of a comparison in sentences, made from its numbers."""

import math
from collections.abc import Hashable, Mapping
from itertools import pairwise
from typing import Any

import pandas as pd

from gelassen.answers.comparison import StudyComparison
from gelassen.answers.rows.by_quantity import in_kelvin
from gelassen.core.foundation.counted import counted, listed
from gelassen.core.recording.channel_words import channel_words
from gelassen.show.numbers import (
    fixed,
    interval,
    share,
    signed_interval,
    warmer,
    warmer_interval,
)

# Setups whose power differs by more than this did not do the same work.
_SAME_POWER = 0.05
_MOST_SENTENCES = 8
_MOST_OTHER_POWERS = 3


def sentences(comparison: StudyComparison) -> list[str]:
    """Return the sentences that answer the question, made from the numbers."""
    if len(comparison.setups) == 1:
        row = comparison.setups.iloc[0]
        goes = "settles at" if comparison.by is None else "is at"
        return [
            f"There is one setup: {row['setup']} {goes} {_level(row, comparison)} "
            f"({interval(row['low_k'], row['high_k'])}). There is nothing to compare it with."
        ]
    peers, at_power = _peers(comparison)
    free, limited = peers[~peers["at_limit"]], peers[peers["at_limit"]]
    said = _of_free_setups(comparison, free, at_power) if not free.empty else []
    if free.empty and len(limited) > 1:
        said += _held_most(limited, comparison)
    else:
        said += [_sat_at_limit(row, comparison) for row in limited.to_dict("records")[:2]]
    said += _ran_unlike_loads(comparison)
    said += [*_held_by_others(comparison), *_unlike_powers(comparison, peers, at_power)]
    said += _at_other_powers(comparison, peers) if at_power else []
    if comparison.spread.source == "repeats" and math.isfinite(comparison.repeatability_k):
        known = math.isfinite(comparison.repeatability_at_w)
        at_power = (
            f" at {comparison.repeatability_at_w:.0f} W, in proportion to power" if known else ""
        )
        least = 10.0 ** -digits_shown(comparison)
        size = fixed(comparison.repeatability_k, digits_shown(comparison))
        size = f"less than {least:g}" if comparison.repeatability_k < least / 2 else size
        said.append(
            f"Beyond what each run leaves open by itself, repeats of one setup scatter by {size} "
            f"{comparison.unit if comparison.by else 'K'}{at_power} (standard deviation over all setups, "
            "combined with the usual scatter of remounting)."
        )
    return said[:_MOST_SENTENCES]


def without_that(row: Mapping[Any, Any], that: str = "that") -> str:
    """Return what a difference would be if conditions had not differed."""
    by = warmer(row["corrected"])
    how = f"{by} than" if by.endswith(("warmer", "cooler")) else "as warm as"
    return f"without {that}, {row['setup']} would be {how} {row['versus']}"


def _said_of_unlike(comparison: StudyComparison, leaders: set[str], free: set[str]) -> list[str]:
    """Return a sentence where unlike conditions may make the difference, or may hide one."""
    own = leaders if comparison.baseline is None else {comparison.baseline}
    rows = [
        row
        for row in comparison.unlike.to_dict("records")
        if {row["setup"], row["versus"]} <= free
        and {row["setup"], row["versus"]} & own
        and (row["may_be_that_alone"] or row["may_hide"])
    ]
    # Verdicts that may be wrong come first.
    for row in sorted(rows, key=lambda row: (row["may_hide"], -abs(row["corrected"]))):
        if row["by_odd_runs"]:
            tell = "too little to tell" if row["may_be_that_alone"] else "they may well differ"
            return [
                f"But without the runs that were not like the others of their setup, {row['setup']} would "
                f"be {warmer(row['without_odd'])} than {row['versus']}: {tell}."
            ]
        end = (
            "the difference may be that alone"
            if row["may_be_that_alone"]
            else "they may well differ"
        )
        return [f"But {row['what']}: {without_that(row)}, so {end}."]
    return []


def in_doubt_by_room(comparison: StudyComparison) -> float:
    """Return the doubt from room temperatures for the two setups whose rooms differ most."""
    if comparison.room_effect is None:
        return 0.0
    rooms = comparison.runs.groupby("setup")["reference_c"].mean()
    _, low, high = comparison.room_effect
    return float((high - low) / 2 * (rooms.max() - rooms.min()))


def rooms_matter(comparison: StudyComparison) -> bool:
    """Return whether the doubt from rooms exceeds that from repeats. Then more runs in them help little."""
    return in_doubt_by_room(comparison) > comparison.repeatability_k


def digits_shown(comparison: StudyComparison) -> int:
    """Return how many decimals to show: one for temperatures, four figures in all for other quantities."""
    if in_kelvin(comparison.by):
        return 1
    middle = float(comparison.setups["rise_k"].abs().median())
    return 1 if not middle > 0 else min(max(3 - math.floor(math.log10(middle)), 0), 6)


def _amount(difference: float, comparison: StudyComparison) -> str:
    """Return a difference with its direction in words."""
    if in_kelvin(comparison.by):
        return warmer(difference)
    return f"{fixed(abs(difference), digits_shown(comparison))} {comparison.unit} " + (
        "more" if difference > 0 else "less"
    )


def _amounts(low: float, high: float, comparison: StudyComparison) -> str:
    """Return an interval of differences with directions in words."""
    if in_kelvin(comparison.by):
        return warmer_interval(low, high)
    return signed_interval(low, high, digits_shown(comparison))


def _level(row: "Mapping[Any, Any] | pd.Series[Any]", comparison: StudyComparison) -> str:
    over = f" above {comparison.over}" if comparison.unit == "K" else ""
    return f"{fixed(row['rise_k'], digits_shown(comparison))} {comparison.unit}{over}"


def _of_free_setups(comparison: StudyComparison, free: pd.DataFrame, at_power: str) -> list[str]:
    """Return which of the setups below their limit is the coolest, and which cannot be told apart."""
    best, leaders = free.iloc[0], _leaders(free)
    alone = len(leaders) == 1
    said = [_which_is_first(comparison, leaders, at_power)]
    baseline = comparison.baseline
    if baseline in (None, best["setup"]) and len(free) > 1:
        second, last = free.iloc[1], free.iloc[-1]
        if alone:
            said += _next_best(best, second, comparison)
        else:
            said += _widest_open(best, leaders.iloc[-1], comparison) if baseline is None else []
            said += _last_of_all(best, last, comparison)
    if baseline is not None:
        if best["setup"] != baseline and best["distinguishable"]:
            whose = "That" if alone else str(best["setup"])
            said.append(_clear_difference(best, comparison, whose))
        doubtful = free[(free["setup"] != baseline) & ~free["distinguishable"].eq(True)]
        said += [_open_difference(row, comparison) for row in doubtful.to_dict("records")[:2]]
    said += _said_of_unlike(comparison, set(leaders["setup"]), set(free["setup"]))
    followers = free[~free["setup"].isin(leaders["setup"])].to_dict("records")
    said += [
        f"{a['setup']} and {b['setup']} cannot be told apart."
        for a, b in pairwise(followers)
        if _share_rank(a, b) and baseline not in (a["setup"], b["setup"])
    ][:1]
    return said


def _leaders(free: pd.DataFrame) -> pd.DataFrame:
    """Return the setups that share the first rank."""
    return free[[_share_rank(free.iloc[0], row) for row in free.to_dict("records")]]


def _which_is_first(comparison: StudyComparison, leaders: pd.DataFrame, at_power: str) -> str:
    best = leaders.iloc[0]
    if len(leaders) > 1:
        return (
            f"{at_power}{listed(leaders['setup'])} share the first rank: they cannot be told apart."
        )
    return (
        f"{at_power}{best['setup']} {_likely(comparison, 'is')} {_best(comparison)}: "
        f"{_level(best, comparison)} "
        f"({interval(best['low_k'], best['high_k'], digits_shown(comparison))}; "
        f"{counted(best['runs'], 'run')})."
    )


def _at_other_powers(comparison: StudyComparison, peers: pd.DataFrame) -> list[str]:
    """Return which setup is the coolest at each other power, from the highest on."""
    others = comparison.setups[~comparison.setups["setup"].isin(peers["setup"])]
    said: list[str] = []
    while len(others) and len(said) < _MOST_OTHER_POWERS:
        power = others["power_w"].max()
        near = others["power_w"] >= power * (1 - _SAME_POWER)
        group, others = others[near], others[~near]
        if len(group) > 1:
            leaders = _leaders(group)
            first = _which_is_first(comparison, leaders, f"At {power:.0f} W, ")
            next_best = (
                _next_best(group.iloc[0], group.iloc[1], comparison) if len(leaders) == 1 else []
            )
            said.append(" ".join([first, *next_best]))
    return said


def _held_most(limited: pd.DataFrame, comparison: StudyComparison) -> list[str]:
    """Return which of several setups held most at the limit, where all of them reached it."""
    limit = fixed(comparison.limit_c, 0, "°C") if comparison.limit_c is not None else "their limit"
    for name, unit, what in (("power_w", "W", "power"), ("clock_mhz", "MHz", "clock")):
        if limited[name].notna().all():
            held = [
                f"{fixed(row[name], 0, unit)} ({row['setup']})"
                for row in limited.sort_values(name, ascending=False).to_dict("records")
            ]
            sat = "sat at" if limited["thermal_share"].gt(0).all() else "sat at or would reach"
            return [
                f"{listed(limited['setup'])} {sat} the limit of {limit}: their rises are only lower "
                f"bounds. The {what} they held tells them apart: {listed(held)}."
            ]
    return [_sat_at_limit(row, comparison) for row in limited.to_dict("records")[:2]]


def _sat_at_limit(row: dict[Hashable, Any], comparison: StudyComparison) -> str:
    """Return the clock or power that a setup held at its temperature limit."""
    limit = fixed(comparison.limit_c, 0, "°C") if comparison.limit_c is not None else "its limit"
    told = ((row["power_w"], "W"), (row["clock_mhz"], "MHz"))
    held = ", ".join(fixed(value, 0, unit) for value, unit in told if not math.isnan(value))
    if row["thermal_share"] == 0:  # its log ended before
        return f"{row['setup']} would reach the limit of {limit}; its rise is only a lower bound."
    return (
        f"{row['setup']} sat at the limit of {limit}"
        + (f" and held only {held}" if held else "")
        + "; its rise is only a lower bound."
    )


def _ran_unlike_loads(comparison: StudyComparison) -> list[str]:
    """Return that two setups ran different loads, which may be all of their difference."""
    found = comparison.comparability
    if found is None:
        return []
    pairs = found.pairs[(found.pairs["quantity"] == "load") & ~found.pairs["expected"].astype(bool)]
    return [f"But {words}: the difference may be that alone." for words in pairs["words"][:1]]


def _held_by_others(comparison: StudyComparison) -> list[str]:
    """Return which setups another part held back: their temperature is not only the cooler's."""
    runs = comparison.runs
    said: list[str] = []
    for part, held in runs.groupby("held_by", sort=False) if "held_by" in runs else ():
        setups = dict.fromkeys(held["setup"])
        own = runs[runs["setup"].isin(setups)]
        whose = "Its rise shows" if len(setups) == 1 else "Their rises show"
        of_load = share(held["power_share"].mean())
        how = "took its power" if str(part).endswith(".power_w") else "was at its limit"
        said.append(
            f"In {listed(setups)}, {channel_words(str(part))} {how} and held the chip back "
            f"({len(held)} of {counted(len(own), 'run')}, {of_load} of the load). {whose} that part as "
            "well as the cooler."
        )
    return said


def _unlike_powers(comparison: StudyComparison, peers: pd.DataFrame, at_power: str) -> list[str]:
    """Return that the setups drew unlike powers, where the answer names no power they share."""
    powers = peers["power_w"]
    if at_power or powers.isna().any() or powers.max() <= powers.min() * (1 + _SAME_POWER):
        return []
    low, high = peers.loc[powers.idxmin()], peers.loc[powers.idxmax()]
    said = (
        f"They drew unlike powers, from {fixed(low['power_w'], 0, 'W')} ({low['setup']}) to "
        f"{fixed(high['power_w'], 0, 'W')} ({high['setup']})"
    )
    equal = low["equal_power_k"], high["equal_power_k"]
    if comparison.unit == "K" and all(map(math.isfinite, equal)):
        said += (
            f". At one power, {low['setup']} would be at {fixed(equal[0], 1, 'K')} and {high['setup']} at "
            f"{fixed(equal[1], 1, 'K')}"
        )
    return [f"{said}."]


def _peers(comparison: StudyComparison) -> tuple[pd.DataFrame, str]:
    """Return the setups that did the same work as the baseline (or the one with most power), and the power.

    A setup at its limit counts with its group: it was meant to do the same work.
    """
    setups = comparison.setups
    if setups["power_w"].isna().any() or not in_kelvin(comparison.by):
        return setups, ""
    if comparison.baseline is not None:
        own = setups.loc[setups["setup"] == comparison.baseline, "power_w"].iloc[0]
    else:
        own = setups["power_w"].max()
    near = (setups["power_w"] / own - 1).abs() <= _SAME_POWER
    peers = setups[near | setups["at_limit"]]
    if len(peers) < 2:
        return setups, ""
    return peers, f"At {own:.0f} W, " if len(peers) < len(setups) or own > 0 else ""


def _clear_difference(
    row: "pd.Series[Any]", comparison: StudyComparison, whose: str = "That"
) -> str:
    low, high = row["difference_low_k"], row["difference_high_k"]
    amount = (
        f"{_amount(row['difference_k'], comparison)} than {comparison.baseline} "
        f"({_amounts(low, high, comparison)}{_percent(row, comparison)})"
    )
    verb = _likely(comparison, "is" if in_kelvin(comparison.by) else "has")
    return f"{whose} {verb} {amount}, {_by_what(comparison)}."


def _percent(row: "pd.Series[Any]", comparison: StudyComparison) -> str:
    """Return the difference as a share of the baseline's value, where that has a meaning."""
    if in_kelvin(comparison.by):
        return ""
    of_baseline = row["rise_k"] - row["difference_k"]
    return f"; {100 * row['difference_k'] / of_baseline:+.1f} %" if of_baseline else ""


def _best(comparison: StudyComparison) -> str:
    """Return what the first setup of the table is."""
    by = comparison.by
    if by is None:
        return "the coolest"
    if by.is_rise:
        return f"the coolest by {by.what}"
    return f"first by {by.what}"


def _likely(comparison: StudyComparison, verb: str = "") -> str:
    """Return the verb, and "likely" where nothing was repeated and nobody knows the rig."""
    return " ".join(filter(None, [verb, "likely" if comparison.spread.source == "usual" else ""]))


def _by_what(comparison: StudyComparison) -> str:
    """Return what a verdict rests on."""
    known = comparison.spread
    if known.source == "repeats" or known.spread is None:
        return "more than the scatter of repeats explains"
    whose = {"told": "", "rig": ", as earlier on this rig", "usual": ", as on usual rigs"}
    return (
        f"taking remounting to move a run by {known.spread[0]:.2g} {known.unit}{whose[known.source]}; no "
        "setup was repeated"
    )


def _next_best(
    best: "pd.Series[Any]", second: "pd.Series[Any]", comparison: StudyComparison
) -> list[str]:
    """Return how far behind the next setup is, if that is clear."""
    by = _behind(best, second, comparison)
    return [f"{second['setup']} follows, {by}."] if by else []


def _last_of_all(
    best: "pd.Series[Any]", last: "pd.Series[Any]", comparison: StudyComparison
) -> list[str]:
    """Return how far behind the last setup is, if that is clear: of many alike it may be the odd one."""
    by = _behind(best, last, comparison, than=f" than {best['setup']}")
    if not by:
        return []
    said = f"{last['setup']} comes last: {by}."
    if comparison.baseline is not None:  # then only differences from it were looked at
        return [said]
    told = comparison.differences
    own = told[(told["setup"] == last["setup"]) | (told["versus"] == last["setup"])]
    clear = int(own["distinguishable"].eq(True).sum())
    which = "all others" if clear == len(own) else f"{clear} of the {len(own)} others"
    return [f"{said} It can be told apart from {which}."]


def _behind(
    best: "pd.Series[Any]", other: "pd.Series[Any]", comparison: StudyComparison, than: str = ""
) -> str:
    """Return by how much a setup is behind the best, in words; empty if the two cannot be told apart."""
    pair = {best["setup"], other["setup"]}
    for row in comparison.differences.to_dict("records"):
        if {row["setup"], row["versus"]} != pair or not row["distinguishable"]:
            continue
        difference, low, high = row["difference"], row["low"], row["high"]
        if row["setup"] == best["setup"]:
            difference, low, high = -difference, -high, -low
        likely = _likely(comparison)
        amount = f"{_amount(difference, comparison)}{than} ({_amounts(low, high, comparison)})"
        return f"{likely} {amount}, {_by_what(comparison)}".strip()
    return ""


def _open_difference(row: Mapping[Any, Any], comparison: StudyComparison) -> str:
    """Return how far a setup lies from the baseline where the two cannot be told apart."""
    versus_baseline = {
        "setup": row["setup"], "versus": comparison.baseline, "difference": row["difference_k"],
        "low": row["difference_low_k"], "high": row["difference_high_k"],
        "alike": row["alike"], "runs_needed": row["runs_needed"],
    }  # fmt: skip
    return _not_told(versus_baseline, comparison)


def _widest_open(
    best: "pd.Series[Any]", last: "pd.Series[Any]", comparison: StudyComparison
) -> list[str]:
    """Return how far apart the first and the last setup read that share the first rank."""
    pair = {best["setup"], last["setup"]}
    for row in comparison.differences.to_dict("records"):
        if {row["setup"], row["versus"]} == pair and not row["distinguishable"]:
            if row["setup"] == best["setup"]:  # the sentence is about the other one
                turned = {"setup": last["setup"], "versus": best["setup"]}
                turned |= {
                    "difference": -row["difference"],
                    "low": -row["high"],
                    "high": -row["low"],
                }
                row = {**row, **turned}
            return [_not_told(row, comparison)]
    return []


def _not_told(row: Mapping[Any, Any], comparison: StudyComparison) -> str:
    """Return how far apart two setups read that cannot be told apart, and what would settle it."""
    low, high = row["low"], row["high"]
    amounts = _amounts(low, high, comparison)
    reads = f"{row['setup']} reads {_amount(row['difference'], comparison)} than {row['versus']}"
    if math.isinf(low) and math.isinf(high):
        return f"{reads}; without repeats it cannot be told whether that means anything."
    if row["alike"]:
        return (
            f"{row['setup']} and {row['versus']} are the same for your purpose: they differ by less "
            f"than {matters(comparison)} ({amounts})."
        )
    more = row["runs_needed"]
    needed = "runs in one room" if rooms_matter(comparison) else "many more runs"
    advice = f"{needed} would be needed to settle it"
    if math.isfinite(more):
        advice = (
            f"{counted(more, 'more run')} of each would find a difference of "
            f"{matters(comparison)} 4 times in 5"
        )
    return f"{reads} ({amounts}), too little to tell; {advice}."


def matters(comparison: StudyComparison) -> str:
    """Return the smallest difference that matters."""
    in_k = in_kelvin(comparison.by)
    return f"{comparison.matters_k:g} {'K' if in_k else '%'}"


def _share_rank(a: "Mapping[Any, Any] | pd.Series[Any]", b: "Mapping[Any, Any]") -> bool:
    return bool(set(str(a["group"])) & set(str(b["group"]))) or a["setup"] == b["setup"]
