"""A comparison in words and numbers: the answer first, then the table, then open questions."""

import math
from collections.abc import Sequence

import pandas as pd

from gelassen.answers.comparison import StudyComparison
from gelassen.core.foundation.counted import counted, listed
from gelassen.core.foundation.result import MADE_UP
from gelassen.show.comparison_answer import (
    digits_shown,
    in_doubt_by_room,
    matters,
    rooms_matter,
    sentences,
    without_that,
)
from gelassen.show.layout import wrapped
from gelassen.show.numbers import (
    fixed,
    interval,
    share,
    signed,
    signed_interval,
    warmer,
)
from gelassen.show.tables import aligned, markdown, with_bars


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
    doubted, digits = _doubted(comparison), digits_shown(comparison)
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
    # Small boards often log what their supply gives, and no power of the chip.
    by_supply = setups["power_w"].isna().all() and setups["wall_w"].notna().any()
    power = "wall_w" if by_supply else "power_w"
    header = [
        "setup",
        "supply W" if by_supply else "power W",
        "clock MHz",
        "fan rpm",
        "work /s",
        "by heat",
        "by limit",
    ]
    equal = setups["equal_power_k"].notna().sum() > 1 and comparison.unit == "K"
    if equal:
        header.append("at equal power K")
    if comparison.room_c is not None:
        header.append(f"°C in {comparison.room_c:g} °C")
    rows = []
    for row in setups.to_dict("records"):
        cells = [
            str(row["setup"]), fixed(row[power]), fixed(row["clock_mhz"], 0),
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
_MANY_RUNS = 10  # with more, no pair is worth naming


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
            that = "that" if len(lines) == 1 else "all of that"
            lines[-1] += f" ({without_that(row, that)} instead of {warmer(row['difference'])})"
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
        typed = comparison.runs["by_hand"].astype(bool).all()
        steps.append(
            f"{'logs of the runs' if typed else 'longer soaks'}: each run leaves "
            f"±{1.96 * free.median():.1f} K open by itself, more than repeats scatter by. That asks for "
            f"{'logs, whose readings settle in sight,' if typed else 'longer runs'} before more "
            f"{'readings' if typed else 'of them'}"
        )
    rooms = rooms_matter(comparison)
    if len(open_pairs) and rooms:
        steps.append(
            "runs of all setups in one room temperature: their different rooms leave up to "
            f"±{in_doubt_by_room(comparison):.1f} K of a difference open"
        )
    needed = open_pairs[open_pairs["runs_needed"].gt(0)].sort_values("runs_needed")
    if len(needed) and needed["runs_needed"].iloc[0] > _MANY_RUNS:
        steps.append(
            f"at least {counted(needed['runs_needed'].iloc[0], 'more run')} of each setup: only then would "
            f"a difference of {matters(comparison)} be found 4 times in 5. A larger one needs fewer runs: "
            "[doubt] matters_k states the smallest that matters"
        )
        needed = needed.head(0)
    for row in needed.head(2).to_dict("records"):
        steps.append(
            f"{counted(row['runs_needed'], 'more run')} each of "
            f"{row['setup']} and {row['versus']}: then a difference of {matters(comparison)} would be "
            "found 4 times in 5"
        )
    hopeless = open_pairs["runs_needed"].isna() & ~open_pairs["alike"].astype(bool)
    close = int((hopeless & open_pairs["smallest"].notna()).sum())
    if close:
        steps.append(
            f"nothing for {close} pair{'s' * (close != 1)} of setups: 50 more runs "
            f"{'in these rooms ' * rooms}will hardly tell a difference of {matters(comparison)}"
        )
    smallest = comparison.differences["smallest"].dropna()
    if len(smallest):
        steps.append(
            f"as it stands, a true difference of {fixed(smallest.median(), digits_shown(comparison))} "
            f"{comparison.unit if comparison.by else 'K'} would be found 4 times in 5"
        )
    if comparison.unit == "°C":
        steps.append(
            "the room temperature, so that runs in rooms of different warmth can be compared"
        )
    return steps


def _quantity(comparison: StudyComparison) -> str:
    if comparison.by is not None:
        return comparison.unit
    return "rise K" if comparison.unit == "K" else f"settles {comparison.unit}"


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
    if comparison.by is not None and comparison.by.column:
        lines.append(f"{comparison.by.what}: over the whole load, and not only over the hold.")
    if comparison.over not in ("the room", "the reference"):
        lines.append(f"rise: over {comparison.over}, not over the room.")
    if comparison.baseline is not None:
        lines.append(
            f"difference: setup minus {comparison.baseline}, in {comparison.unit}. told apart allows for "
            'the number of setups; "no; 5 more" means that five more runs of each of the two would find '
            f'a difference of {matters(comparison)} 4 times in 5; "the same", that they differ by less '
            "than that."
        )
    if comparison.setups["at_limit"].any():
        lines.append("* at the temperature limit: it would be warmer if it were not held back.")
    if (comparison.setups["extrapolated"] > 0).any():
        lines.append("~ runs of it ended before they settled: its value is extrapolated in part.")
    return "\n".join(wrapped(line) for line in lines)
