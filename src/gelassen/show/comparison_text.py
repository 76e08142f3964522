"""A comparison in words and numbers: the answer first, then the table, then open questions."""

import math
from collections.abc import Hashable, Mapping, Sequence
from itertools import pairwise
from typing import Any

import pandas as pd

from gelassen.answers.comparison import StudyComparison
from gelassen.core.foundation.counted import counted, listed
from gelassen.core.foundation.result import MADE_UP
from gelassen.core.recording.channel_words import channel_words
from gelassen.show.layout import wrapped
from gelassen.show.numbers import (
    fixed,
    interval,
    share,
    signed,
    signed_interval,
    warmer,
    warmer_interval,
)
from gelassen.show.tables import aligned, markdown, with_bars

# Setups whose power differs by more than this did not do the same work.
_SAME_POWER = 0.05
_MOST_SENTENCES = 8


def comparison_text(comparison: StudyComparison, also: Sequence[str] = ()) -> str:
    """Return the comparison for people; `also` are sentences that belong to the answer."""
    title = comparison.title + (f"   ({MADE_UP})" if comparison.made_up else "")
    parts = ["\n".join([title, *(wrapped(s) for s in [*sentences(comparison), *also])])]
    parts += _tables(comparison)
    parts.append(legend(comparison))
    for heading, lines in _sections(comparison):
        parts.append("\n".join([heading, *(f"  - {text}" for text in lines)]))
    for other in comparison.others:
        parts.append(f"in {other.unit}, compared among themselves:")
        parts += _tables(other)
    return "\n\n".join(parts)


def _tables(comparison: StudyComparison) -> list[str]:
    values = comparison.setups["rise_k"].tolist()
    header, rows = conditions(comparison)
    more = [aligned(header, rows)] if rows else []
    return [aligned(*with_bars(*table(comparison), values)), *more]


def _sections(comparison: StudyComparison) -> list[tuple[str, list[str]]]:
    """Return what stands after the tables, from what was tested to what to measure next."""
    sections: list[tuple[str, list[str]]] = [
        (
            "what was tested",
            [f"{level} ({factor}): {said}" for level, factor, said in comparison.details],
        ),
        ("left out", [f"{run}: {reason}" for run, reason in comparison.left_out]),
        ("were the runs comparable?", unequal(comparison)),
        ("cautions", list(comparison.cautions)),
        ("what to measure next", next_steps(comparison)),
    ]
    return [(heading, lines) for heading, lines in sections if lines]


def comparison_markdown(comparison: StudyComparison, also: Sequence[str] = ()) -> str:
    """Return the comparison as Markdown; `also` are sentences that belong to the answer."""
    title = comparison.title + (f" ({MADE_UP})" if comparison.made_up else "")
    words = "\n".join(f"- {sentence}" for sentence in [*sentences(comparison), *also])
    notes = [
        "\n".join([f"### {heading}", "", *(f"- {text}" for text in lines)])
        for heading, lines in _sections(comparison)
    ]
    header, rows = conditions(comparison)
    return "\n\n".join(
        part
        for part in (
            f"## {title}", words, markdown(*table(comparison)),
            markdown(header, rows) if rows else "", legend(comparison), *notes,
        )
        if part
    )  # fmt: skip


def table(comparison: StudyComparison) -> tuple[list[str], list[list[str]]]:
    """Return header and rows of the table for people."""
    setups = comparison.setups
    against = comparison.baseline is not None
    header = [
        f"setup ({comparison.measured})",
        _quantity(comparison),
        "95 % interval",
        "runs",
        "rank",
    ]
    header[2] = f"{100 * comparison.confidence:g} % interval"
    if against:
        header += ["difference", "interval", "told apart"]
    doubted, digits = _doubted(comparison), _digits(comparison)
    rows = []
    for row in setups.to_dict("records"):
        at_limit = bool(row["at_limit"])
        cells = [
            str(row["setup"]),
            fixed(row["rise_k"], digits)
            + ("*" if at_limit else "~" if row["extrapolated"] else ""),
            "at limit" if at_limit else interval(row["low_k"], row["high_k"], digits),
            str(row["runs"]),
            "–" if at_limit else str(row["group"]),
        ]
        if against:
            if row["setup"] == comparison.baseline:
                cells += ["baseline", "", ""]
            else:
                cells += [
                    signed(row["difference_k"], digits),
                    signed_interval(row["difference_low_k"], row["difference_high_k"], digits),
                    _verdict(row) + (", but see below" if row["setup"] in doubted else ""),
                ]
        rows.append(cells)
    return header, rows


def conditions(comparison: StudyComparison) -> tuple[list[str], list[list[str]]]:
    """Return header and rows of the second table, the conditions of each setup; no rows without any."""
    setups = comparison.setups
    header = ["setup", "power W", "clock MHz", "fan rpm", "work /s", "by heat", "by limit"]
    equal = setups["equal_power_k"].notna().sum() > 1 and comparison.unit == "K"
    if equal:
        header.append("at equal power K")
    if comparison.room_c is not None:
        header.append(f"°C in {comparison.room_c:g} °C")
    rows = []
    for row in setups.to_dict("records"):
        cells = [
            str(row["setup"]), fixed(row["power_w"]), fixed(row["clock_mhz"], 0),
            fixed(row["fan_rpm"], 0), fixed(row["work_per_s"], 0), share(row["thermal_share"]),
            share(row["power_share"]),
        ]  # fmt: skip
        if equal:
            cells.append(fixed(row["equal_power_k"]))
        if comparison.room_c is not None:
            held = comparison.limit_c is not None and row["temperature_c"] >= comparison.limit_c
            star = "*" if row["at_limit"] else ""
            cells.append("at limit" if held else fixed(row["temperature_c"]) + star)
        rows.append(cells)
    if all(cell == "–" for row in rows for cell in row[1:]):  # at rest, there are none
        return [], []
    return header, rows


_MOST_LINES = 8


def unequal(comparison: StudyComparison) -> list[str]:
    """Return what differed between runs apart from the setup."""
    found = comparison.comparability
    if found is None:
        return []
    lines = [str(words) for words in found.odd_runs["words"]]
    for row in found.corrected.to_dict("records"):
        if 0 < row["runs_left"] < row["runs"]:
            lines.append(
                f"without its odd runs, {row['setup']} is at {row['without_odd']:.1f} K instead of "
                f"{row['mean']:.1f} K ({row['runs_left']} of {row['runs']} runs left)"
            )
    lines += _unlike_pairs(found.pairs[~found.pairs["expected"]], comparison)
    more = len(lines) - _MOST_LINES
    if more > 0:
        lines = [*lines[:_MOST_LINES], f"and {more} more: see comparability in --format json"]
    if len(found.odd_runs):
        lines.append("to leave a run out: --leave-out RUN=WHY, or [left_out] in study.toml")
    return lines


def _unlike_pairs(pairs: pd.DataFrame, comparison: StudyComparison) -> list[str]:
    """Return what differed between setups, and the difference that remains without it."""
    without = {
        frozenset((row["setup"], row["versus"])): row
        for row in comparison.unlike.to_dict("records")
        if row["what"]
    }
    told: list[tuple[bool, list[str]]] = []
    if comparison.baseline is not None:
        against = pairs[["setup", "versus"]].eq(comparison.baseline).any(axis=1)
        pairs = pairs[against]
    on_days = pairs[pairs["quantity"] == "day"]
    if len(on_days) > 2:  # one line says it for all
        of_day = comparison.runs.groupby("setup", sort=False)["started"].min().dropna().str[:10]
        setups = sorted({*on_days["setup"], *on_days["versus"]}, key=of_day.to_dict().get)
        shown = ", ".join(f"{name} from {of_day[name]}" for name in setups[:_MOST_LINES])
        told.append((True, [f"setups were run on different days: {shown}"]))
        pairs = pairs.drop(index=on_days.index)
    for (a, b), rows in pairs.groupby(["setup", "versus"], sort=False):
        lines = [str(words) for words in rows["words"]]
        row = without.get(frozenset((a, b)))
        if row is not None:
            lines[-1] += f" ({_without(row)} instead of {warmer(row['difference'])})"
        matters = row is not None and (row["may_be_that_alone"] or row["may_hide"])
        told.append((not matters, lines))
    return [line for _, lines in sorted(told, key=lambda one: one[0]) for line in lines]


def _doubted(comparison: StudyComparison) -> set[str]:
    """Return the setups whose difference from the baseline their conditions alone may explain."""
    return {
        name
        for row in comparison.unlike.to_dict("records")
        if row["may_be_that_alone"]
        for name in (row["setup"], row["versus"])
        if comparison.baseline in (row["setup"], row["versus"])
    }


def _without(row: Mapping[Any, Any]) -> str:
    return f"without that, {row['setup']} would be {warmer(row['corrected'])} than {row['versus']}"


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
        return [f"But {row['what']}: {_without(row)}, so {end}."]
    return []


def next_steps(comparison: StudyComparison) -> list[str]:
    """Return what to measure next, made from the open questions."""
    steps: list[str] = []
    setups = comparison.setups
    limited = setups.loc[setups["at_limit"], "setup"]
    if len(limited):
        steps.append(
            f"a lower power limit for {listed(limited)}: at the limit, temperature says nothing"
        )
    once = setups.loc[setups["runs"] < 2, "setup"]
    if len(once) and len(setups) > 1:
        steps.append(f"a second and third run of {listed(once)}, remounted each time")
    open_pairs = comparison.differences[~comparison.differences["distinguishable"].astype(bool)]
    free = comparison.runs.loc[~comparison.runs["at_limit"], "standard_error"]
    if comparison.by is None and len(open_pairs) and free.median() > comparison.repeatability_k:
        steps.append(
            f"longer soaks: each run leaves ±{1.96 * free.median():.1f} K open by itself, more than "
            "repeats scatter by. That asks for longer runs before more of them"
        )
    rooms = _rooms_matter(comparison)
    if len(open_pairs) and rooms:
        steps.append(
            "runs of all setups in one room temperature: their different rooms leave up to "
            f"±{_in_doubt_by_room(comparison):.1f} K of a difference open"
        )
    needed = open_pairs[open_pairs["runs_needed"].gt(0)].sort_values("runs_needed")
    for row in needed.head(2).to_dict("records"):
        steps.append(
            f"{counted(row['runs_needed'], 'more run')} each of "
            f"{row['setup']} and {row['versus']}: then a difference of {_matters(comparison)} would be "
            "found 4 times in 5"
        )
    hopeless = open_pairs["runs_needed"].isna() & ~open_pairs["alike"].astype(bool)
    close = int((hopeless & open_pairs["smallest"].notna()).sum())
    if close:
        steps.append(
            f"nothing for {close} pair{'s' * (close != 1)} of setups: 50 more runs "
            f"{'in these rooms ' * rooms}will hardly tell a difference of {_matters(comparison)}"
        )
    smallest = comparison.differences["smallest"].dropna()
    if len(smallest):
        steps.append(
            f"as it stands, a true difference of {fixed(smallest.median(), _digits(comparison))} "
            f"{comparison.unit if comparison.by else 'K'} would be found 4 times in 5"
        )
    if comparison.unit == "°C":
        steps.append(
            "the room temperature, so that runs in rooms of different warmth can be compared"
        )
    return steps


def _in_doubt_by_room(comparison: StudyComparison) -> float:
    """Return the doubt from room temperatures for the two setups whose rooms differ most."""
    if comparison.room_effect is None:
        return 0.0
    rooms = comparison.runs.groupby("setup")["reference_c"].mean()
    _, low, high = comparison.room_effect
    return float((high - low) / 2 * (rooms.max() - rooms.min()))


def _rooms_matter(comparison: StudyComparison) -> bool:
    """Return whether the doubt from rooms exceeds that from repeats. Then more runs in them help little."""
    return _in_doubt_by_room(comparison) > comparison.repeatability_k


def _digits(comparison: StudyComparison) -> int:
    """Return how many decimals to show: one for temperatures, four figures in all for other quantities."""
    if _is_temperature(comparison):
        return 1
    middle = float(comparison.setups["rise_k"].abs().median())
    return 1 if not middle > 0 else min(max(3 - math.floor(math.log10(middle)), 0), 6)


def _amount(difference: float, comparison: StudyComparison) -> str:
    """Return a difference with its direction in words."""
    if _is_temperature(comparison):
        return warmer(difference)
    return f"{fixed(abs(difference), _digits(comparison))} {comparison.unit} " + (
        "more" if difference > 0 else "less"
    )


def _amounts(low: float, high: float, comparison: StudyComparison) -> str:
    """Return an interval of differences with directions in words."""
    if _is_temperature(comparison):
        return warmer_interval(low, high)
    return signed_interval(low, high, _digits(comparison))


def _quantity(comparison: StudyComparison) -> str:
    if comparison.by is not None:
        return comparison.unit
    return "rise K" if comparison.unit == "K" else f"settles {comparison.unit}"


def _level(row: "Mapping[Any, Any] | pd.Series[Any]", comparison: StudyComparison) -> str:
    over = f" above {comparison.over}" if comparison.unit == "K" else ""
    return f"{fixed(row['rise_k'], _digits(comparison))} {comparison.unit}{over}"


def _verdict(row: dict[str, object]) -> str:
    verdict = str(row["verdict"])
    if row["distinguishable"]:
        return "likely" if verdict.startswith("likely") else "yes"
    if row["alike"]:
        return verdict
    needed = row["runs_needed"]
    if isinstance(needed, float) and math.isfinite(needed) and needed > 0:
        return f"no; {needed:.0f} more"
    return "cannot tell"


def legend(comparison: StudyComparison) -> str:
    """Return what the columns and marks of the table mean."""
    lines = ["rank: setups that share a letter cannot be told apart."]
    if conditions(comparison)[1]:
        lines[0] += " by heat, by limit: share of the load during which the chip was held back."
    if comparison.over not in ("the room", "the reference"):
        lines.append(f"rise: over {comparison.over}, not over the room.")
    if comparison.baseline is not None:
        lines.append(
            f"difference: setup minus {comparison.baseline}, in {comparison.unit}. told apart allows for "
            'the number of setups; "no; 5 more" means that five more runs of each of the two would find '
            f'a difference of {_matters(comparison)} 4 times in 5; "the same", that they differ by less '
            "than that."
        )
    if comparison.setups["at_limit"].any():
        lines.append("* at the temperature limit: it would be warmer if it were not held back.")
    if (comparison.setups["extrapolated"] > 0).any():
        lines.append("~ runs of it ended before they settled: its value is extrapolated in part.")
    return "\n".join(wrapped(line) for line in lines)


def sentences(comparison: StudyComparison) -> list[str]:
    """Return the sentences that answer the question, made from the numbers."""
    if len(comparison.setups) == 1:
        row = comparison.setups.iloc[0]
        return [
            f"There is one setup: {row['setup']} settles at {_level(row, comparison)} "
            f"({interval(row['low_k'], row['high_k'])}). There is nothing to compare it with."
        ]
    peers, at_power = _peers(comparison)
    free, limited = peers[~peers["at_limit"]], peers[peers["at_limit"]]
    said = _of_free_setups(comparison, free, at_power) if not free.empty else []
    said += [_sat_at_limit(row, comparison) for row in limited.to_dict("records")[:2]]
    said += _ran_unlike_loads(comparison)
    said += [*_held_by_others(comparison, peers), *_unlike_powers(comparison, peers, at_power)]
    if comparison.spread.source == "repeats" and math.isfinite(comparison.repeatability_k):
        known = math.isfinite(comparison.repeatability_at_w)
        at_power = (
            f" at {comparison.repeatability_at_w:.0f} W, in proportion to power" if known else ""
        )
        least = 10.0 ** -_digits(comparison)
        size = fixed(comparison.repeatability_k, _digits(comparison))
        size = f"less than {least:g}" if comparison.repeatability_k < least / 2 else size
        said.append(
            f"Repeats of one setup scatter by {size} "
            f"{comparison.unit if comparison.by else 'K'}{at_power} (standard deviation over all setups, "
            "combined with the usual scatter of remounting)."
        )
    return said[:_MOST_SENTENCES]


def _of_free_setups(comparison: StudyComparison, free: pd.DataFrame, at_power: str) -> list[str]:
    """Return which of the setups below their limit is the coolest, and which cannot be told apart."""
    best = free.iloc[0]
    leaders = free[[_share_rank(best, row) for row in free.to_dict("records")]]
    alone = len(leaders) == 1
    if alone:
        said = [
            f"{at_power}{best['setup']} {_likely(comparison, 'is')} {_best(comparison)}: "
            f"{_level(best, comparison)} ({interval(best['low_k'], best['high_k'], _digits(comparison))}; "
            f"{counted(best['runs'], 'run')})."
        ]
    else:
        said = [
            f"{at_power}{listed(leaders['setup'])} share the first rank: they cannot be told apart."
        ]
    baseline = comparison.baseline
    if alone and baseline in (None, best["setup"]) and len(free) > 1:
        said += _next_best(best, free.iloc[1], comparison)
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


def _sat_at_limit(row: dict[Hashable, Any], comparison: StudyComparison) -> str:
    """Return the clock or power that a setup held at its temperature limit."""
    limit = fixed(comparison.limit_c, 0, "°C") if comparison.limit_c is not None else "its limit"
    told = ((row["power_w"], "W"), (row["clock_mhz"], "MHz"))
    held = ", ".join(fixed(value, 0, unit) for value, unit in told if not math.isnan(value))
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


def _held_by_others(comparison: StudyComparison, peers: pd.DataFrame) -> list[str]:
    """Return which setups another part held back: their temperature is not only the cooler's."""
    runs = comparison.runs
    said: list[str] = []
    for row in peers.to_dict("records") if "held_by" in runs else ():
        own = runs[runs["setup"] == row["setup"]]
        held = own["held_by"].dropna()
        if held.empty:
            continue
        part = str(held.mode().iloc[0])
        how = "took its power" if part.endswith(".power_w") else "was at its limit"
        said.append(
            f"In {row['setup']}, {channel_words(part)} {how} and held the chip back "
            f"({held.size} of {counted(len(own), 'run')}, {share(row['power_share'])} of the load). Its "
            "rise shows that part as well as the cooler."
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
    if setups["power_w"].isna().any() or not _is_temperature(comparison):
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
    verb = _likely(comparison, "is" if _is_temperature(comparison) else "has")
    return f"{whose} {verb} {amount}, {_by_what(comparison)}."


def _is_temperature(comparison: StudyComparison) -> bool:
    return comparison.by is None or comparison.by.is_rise


def _percent(row: "pd.Series[Any]", comparison: StudyComparison) -> str:
    """Return the difference as a share of the baseline's value, where that has a meaning."""
    if _is_temperature(comparison):
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
    pair = {best["setup"], second["setup"]}
    for row in comparison.differences.to_dict("records"):
        if {row["setup"], row["versus"]} != pair or not row["distinguishable"]:
            continue
        difference, low, high = row["difference"], row["low"], row["high"]
        if row["setup"] == best["setup"]:
            difference, low, high = -difference, -high, -low
        return [
            f"{second['setup']} follows, {_likely(comparison)} {_amount(difference, comparison)} "
            f"({_amounts(low, high, comparison)}), {_by_what(comparison)}.".replace("  ", " ")
        ]
    return []


def _open_difference(row: dict[Hashable, Any], comparison: StudyComparison) -> str:
    low, high = row["difference_low_k"], row["difference_high_k"]
    if math.isinf(low) and math.isinf(high):
        return (
            f"{row['setup']} reads {_amount(row['difference_k'], comparison)} than {comparison.baseline}; "
            "without repeats it cannot be told whether that means anything."
        )
    if row["alike"]:
        return (
            f"{row['setup']} and {comparison.baseline} are the same for your purpose: they differ by less "
            f"than {_matters(comparison)} ({_amounts(low, high, comparison)})."
        )
    more = row["runs_needed"]
    needed = "runs in one room" if _rooms_matter(comparison) else "many more runs"
    advice = f"{needed} would be needed to settle it"
    if math.isfinite(more):
        advice = (
            f"{counted(more, 'more run')} of each would find a difference of "
            f"{_matters(comparison)} 4 times in 5"
        )
    return (
        f"{row['setup']} reads {_amount(row['difference_k'], comparison)} than {comparison.baseline} "
        f"({_amounts(low, high, comparison)}), too little to tell; {advice}."
    )


def _matters(comparison: StudyComparison) -> str:
    """Return the smallest difference that matters."""
    in_k = _is_temperature(comparison)
    return f"{comparison.matters_k:g} {'K' if in_k else '%'}"


def _share_rank(a: "Mapping[Any, Any] | pd.Series[Any]", b: "Mapping[Any, Any]") -> bool:
    return bool(set(str(a["group"])) & set(str(b["group"]))) or a["setup"] == b["setup"]
