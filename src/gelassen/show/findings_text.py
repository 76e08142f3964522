"""Effects, courses, trade-offs, drift, parts and repeatability: a sentence, then a table."""

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import pandas as pd

from gelassen.answers.fans.equal_fans import FROM_LAW
from gelassen.answers.judged import StudyJudged
from gelassen.answers.ladder import Ladder
from gelassen.answers.parts import cores_of
from gelassen.core.comparing.along.response import Response
from gelassen.core.comparing.effects import Effects
from gelassen.core.comparing.machine_drift import MachineDrift
from gelassen.core.comparing.repeatability import Repeatability
from gelassen.core.comparing.tradeoff import Tradeoff
from gelassen.core.foundation.counted import counted, listed
from gelassen.core.foundation.result import MADE_UP
from gelassen.core.recording.channel_words import judged_words
from gelassen.show.numbers import (
    fixed,
    interval,
    signed,
    signed_interval,
    warmer,
    warmer_interval,
)
from gelassen.show.tables import aligned, with_bars

_MOST_ROWS = 40
_MOST_PAIRS = 6  # sentences about pairs of setups
# K: a drift that may be larger than this over the whole study was not ruled out.
_MATTERS_K = 1.0
_MOST_CORES = 16  # columns that a wide terminal shows


def effects_table(found: Effects) -> tuple[list[str], list[list[str]]]:
    """Return header and rows of the main effects, at most 40 of them."""
    rows = [
        [r.factor, r.level, r.versus, signed(r.effect), signed_interval(r.low, r.high),
         _told(r.distinguishable, r.low, found.cautions)]
        for r in found.main.head(_MOST_ROWS).itertuples()
    ]  # fmt: skip
    return ["factor", "level", "instead of", "effect K", "interval", "told apart"], rows


def effects_text(found: Effects) -> str:
    """Return effects for people: in words, then as tables."""
    parts = ["\n".join(effects_lines(found))]
    left = len(found.main) - _MOST_ROWS
    more = f"\n… and {left} more: --format csv shows all" if left > 0 else ""
    parts.append(aligned(*effects_table(found)) + more)
    if len(found.conditional):
        rows = [
            [r.factor, r.level, r.versus, r.where, signed(r.effect), signed_interval(r.low, r.high),
             _told(r.distinguishable, r.low, found.cautions)]
            for r in found.conditional.head(_MOST_ROWS).itertuples()
        ]  # fmt: skip
        parts.append(
            aligned(
                ["factor", "level", "instead of", "where", "effect K", "interval", "told apart"],
                rows,
            )
        )
    return "\n\n".join([*parts, *_cautions(found.cautions)])


def effects_lines(found: Effects) -> list[str]:
    """Return what each factor does, in at most eight sentences."""
    said = []
    likely = "likely " if _is_likely(found.cautions) else ""
    averaged = ", on average over the rest" if len(set(found.main["factor"])) > 1 else ""
    for row in found.main.itertuples():
        size = f"{warmer(row.effect)} than {row.versus} ({warmer_interval(row.low, row.high)})"
        if math.isinf(row.low) and math.isinf(row.high):
            said.append(
                f"{row.factor}: {row.level} reads {warmer(row.effect)} than {row.versus}; "
                f"without repeats it cannot be told whether that means anything."
            )
        elif row.depends:
            said.append(
                f"{row.factor}: how {row.level} differs from {row.versus} depends on the rest: "
                f"{_at_ends(found.conditional, row)}; {signed_interval(row.low, row.high)} over all "
                "combinations."
            )
        elif row.distinguishable:
            said.append(f"{row.factor}: {row.level} is {likely}{size}{averaged}.")
        else:
            said.append(
                f"{row.factor}: {row.level} cannot be told from {row.versus} "
                f"({warmer_interval(row.low, row.high)})."
            )
    return said[:8]


def _at_ends(conditional: pd.DataFrame, row: Any) -> str:
    """Return the smallest and the largest effect, and the combinations that show them."""
    named = conditional[["factor", "level", "versus"]] == [row.factor, row.level, row.versus]
    own = conditional[named.all(axis=1)].sort_values("effect")
    ends = [(own.iloc[k]["effect"], own.iloc[k]["where"]) for k in (0, -1)]
    return " to ".join(f"{warmer(float(effect))} ({where})" for effect, where in ends)


def response_text(found: Response, name: str) -> str:
    """Return a course along a scale."""
    likely = _is_likely(found.cautions)
    rows = [
        [f"{r.x:.4g}", f"{r.mean:.1f}", interval(r.low, r.high), str(r.runs)]
        for r in found.levels.itertuples()
    ]
    steps = [
        [f"{r.x:.4g} to {r.next_x:.4g}", signed(r.change), signed_interval(r.low, r.high),
         "likely" if r.pays == "yes" and likely else r.pays]
        for r in found.steps.itertuples()
    ]  # fmt: skip
    worth = f" more than {found.worth:g} K" if found.worth else ""
    if found.stops_paying_at is None:
        said = f"Every step of {name} up to the last one pays{worth}."
    elif found.stops_paying_at == found.levels["x"].iloc[0]:
        said = f"No step of {name} is known to pay{worth}."
    else:
        said = f"Beyond {name} = {found.stops_paying_at:.4g}, no step is known to pay{worth}."
    if math.isfinite(found.best_x):
        said += (
            f" It is coolest at {found.best_x:.3g} ({found.best_low:.3g} to {found.best_high:.3g})."
        )
    levels = aligned(
        *with_bars([name, "rise K", "interval", "runs"], rows, found.levels["mean"].tolist())
    )
    changes = aligned(["step", "change K", "interval", "pays"], steps)
    return "\n\n".join([said, levels, changes, *_cautions(found.cautions)])


def tradeoff_text(found: Tradeoff) -> str:
    """Return a trade-off."""
    # More is better for these, so a ratio makes sense. A ratio of a rise does not.
    gain = found.more_y and not found.x_words
    worth = found.table["x_per_gain"].notna().any()
    rows = [
        [
            r.setup, found.x_words[int(r.x) - 1] if found.x_words and r.x == r.x else fixed(r.x),
            fixed(r.y), interval(r.y_low, r.y_high),
            *([_ratio(r.y_per_x)] if gain else []), *([_ratio(r.x_per_gain)] if worth else []),
            _unbeaten(r),
        ]
        for r in found.table.itertuples()
    ]  # fmt: skip
    best = [str(name) for name in found.table.loc[found.table["unbeaten"], "setup"]]
    said = f"Nothing is better in both {found.x_name} and {found.y_name} than: {'; '.join(best)}."
    if found.baseline is not None and worth:
        said += f" Gains are counted from {found.baseline}."
    per = [f"{found.y_name.split(',')[0]} per {found.x_name.split(',')[0]}"] if gain else []
    y_unit = found.y_name.rpartition(", ")[2]
    per += [f"{found.x_name.split(',')[0]} per {y_unit} gained"] if worth else []
    header = ["setup", found.x_name, found.y_name, "interval", *per, "unbeaten"]
    table = aligned(*with_bars(header, rows, found.table["y"].tolist(), after=2))
    return "\n\n".join([said, table, *_cautions(found.cautions)])


def _unbeaten(row: Any) -> str:
    """Return whether a setup is unbeaten, or why it is not."""
    if row.unbeaten:
        return "yes"
    if row.beaten_by:
        return f"no: {row.beaten_by}"
    if row.less_work:
        return "no: does less work"
    return f"no: no gain over {row.no_gain_over}"


def _ratio(value: float) -> str:
    return "–" if math.isnan(value) else f"{value:.3g}"  # no ratio to zero


def drift_text(found: MachineDrift, setup: str) -> str:
    """Return the drift of a machine in words."""
    if not math.isfinite(found.low):
        words = f"Whether the machine drifted cannot be told: {found.cautions[0]} ({setup})."
        return "\n\n".join([words, *_cautions(found.cautions[1:])])
    size = f"{found.over_all:+.2f} K from the first to the last of {counted(found.runs, 'run')} of {setup}"
    days = abs(found.over_all / found.per_day) if found.per_day else 0.0
    span = _rate(found, days)
    open_k = (found.high - found.low) / 2 * days
    if found.distinguishable:
        words = f"The machine drifted: {size}, {span}. To take it out: compare --correct-drift."
    elif open_k > _MATTERS_K:
        words = f"Whether the machine drifted cannot be told: {size}, {span}. Repeat {setup} more often."
    else:
        words = f"No drift of the machine beyond chance: {size}, {span}."
    return "\n\n".join([words, *_cautions(found.cautions)])


def _rate(found: MachineDrift, days: float) -> str:
    """Return the trend in a unit that the runs cover: some hours say nothing of a day."""
    if days < 1 / 24:
        return f"interval {days * found.low:+.2f} to {days * found.high:+.2f} K"
    if days < 1:
        share, unit = 1 / 24, "an hour"
    else:
        share, unit = 1.0, "a day"
    size, low, high = (share * rate for rate in (found.per_day, found.low, found.high))
    return f"{size:+.2f} K {unit} ({low:+.2f} to {high:+.2f})"


def drifts_text(found: pd.DataFrame) -> str:
    """Return the trends of other quantities as a table; nothing where none can be told."""
    told = found[np.isfinite(found["low"])] if len(found) else found
    if told.empty:
        return ""
    rows = []
    for row in told.to_dict("records"):
        digits = _digits_for(max(abs(row["low"]), abs(row["high"])))
        rows.append(
            (
                str(row["quantity"]), f"{row['over_all']:+z.{digits}f} {row['unit']}",
                f"{row['low']:+z.{digits}f} to {row['high']:+z.{digits}f}", str(row["runs"]),
                "yes" if row["distinguishable"] else "no",
            )
        )  # fmt: skip
    header = ("beside it", "first to last", "interval", "runs", "beyond chance")
    return aligned(header, rows)


def _digits_for(size: float) -> int:
    """Return how many digits show two of the larger end of an interval."""
    return max(0, 1 - math.floor(math.log10(size))) if size > 0 else 1


def repeatability_text(found: Repeatability) -> str:
    """Return the scatter of a rig in words."""
    if not math.isfinite(found.total):
        return f"Repeatability cannot be told: {found.cautions[0]}."
    lines = [
        f"Runs of one setup scatter by {found.total:.2f} K ({found.low:.2f} to {found.high:.2f} "
        f"K; standard "
        f"deviation, {counted(found.runs, 'run')} of {counted(found.setups, 'setup')})."
    ]
    for words, value in (
        ("Of that, runs of the same mount scatter by", found.same_mount),
        ("Remounting adds", found.remount),
        ("Another day adds", found.day),
    ):
        if math.isfinite(value):
            lines.append(f"{words} {value:.2f} K.")
    return "\n\n".join(["\n".join(lines), *_cautions(found.cautions)])


def judged_text(found: StudyJudged, *, lines: bool = True) -> str:
    """Return the setups by each judged temperature; with `lines`, also where these disagree."""
    made_up = f"   ({MADE_UP})" if found.made_up else ""
    title = f"{found.title}: judged side by side{made_up}"
    said = "\n".join(judged_lines(found)) if lines else ""
    return "\n\n".join(filter(None, [title, aligned(*judged_table(found), left=(0,)), said]))


def judged_table(found: StudyJudged) -> tuple[list[str], list[list[str]]]:
    """Return header and rows: each setup by each judged temperature."""
    setups = list(dict.fromkeys(
        str(name) for one in found.comparisons.values() for name in one.setups["setup"]
    ))  # fmt: skip
    rows = []
    for setup in setups:
        cells = [setup]
        for one in found.comparisons.values():
            own = one.setups[one.setups["setup"] == setup].to_dict("records")
            if not own:
                cells += ["–", ""]
                continue
            row = own[0]
            half = (row["high_k"] - row["low_k"]) / 2
            open_end = "at the limit" if row["at_limit"] else f"± {half:.1f}"
            cells += [
                f"{row['rise_k']:.1f} {open_end}",
                "–" if row["at_limit"] else str(row["group"]),
            ]
        rows.append(cells)
    header = ["setup"]
    for name, one in found.comparisons.items():
        header += [f"{judged_words(name)} {one.unit}", "rank"]
    return header, rows


def judged_lines(found: StudyJudged) -> list[str]:
    """Return where judged temperatures disagree, which gave way first, and what is not compared."""
    lines = _some_of([*judged_conflicts(found), *_told_elsewhere(found)])
    lines += [
        f"{r.setup}: {judged_words(r.part)} reached its limit first, {r.at_s / 60:.1f} min after the load "
        f"began ({counted(int(r.runs), 'run')})."
        for r in found.first.itertuples()
    ]
    return lines + [
        f"{judged_words(name)}: not compared ({why})." for name, why in found.left_out.items()
    ]


def _at(part: str) -> str:
    """Return at which part, in words."""
    words = judged_words(part)
    return f"at {words}" if words[-1:].isdigit() else f"at the {words}"


def judged_conflicts(found: StudyJudged) -> list[str]:
    """Return the pairs of setups that are cooler by one temperature and warmer by another."""
    return [
        f"{r.setup} is {fixed(r.cooler_k)} K cooler than {r.versus} {_at(r.cooler)}, and "
        f"{fixed(r.warmer_k)} K warmer {_at(r.warmer)}."
        for r in found.conflicts.itertuples()
    ]


def _told_elsewhere(found: StudyJudged) -> list[str]:
    """Return sentences about setups that only the second or a later judged temperature tells apart."""
    opposite = set(zip(found.conflicts["setup"], found.conflicts["versus"], strict=True))
    lines = []
    for (setup, versus), own in found.only_elsewhere.groupby(["setup", "versus"], sort=False):
        if opposite & {(setup, versus), (versus, setup)}:
            continue
        parts = [f"{_at(r.part)} ({fixed(r.cooler_k)} K)" for r in own.itertuples()]
        lines.append(f"{setup} is cooler than {versus} {listed(parts)}.")
    return lines


def _some_of(lines: list[str]) -> list[str]:
    """Return the first lines, and how many there are beside them."""
    if len(lines) <= _MOST_PAIRS:
        return lines
    return [*lines[:_MOST_PAIRS], f"{len(lines) - _MOST_PAIRS} more pairs differ by part."]


def ladder_text(found: Ladder) -> str:
    """Return how far each setup holds, and every attempt."""
    made_up = f"   ({MADE_UP})" if found.made_up else ""
    said = [_held_to(found, r) for r in found.setups.itertuples()]
    units = set(found.attempts["unit"]) - {""}
    warmth = "rise K" if units <= {"K"} else "settles °C" if units == {"°C"} else "settles"
    rows = [
        [
            r.setup, f"{r.level:g}",
            r.ending + (" (coolest)" if found.coolest.get(r.setup) == r.run else ""),
            fixed(r.minutes, 0), fixed(r.rise_k, 1, r.unit if len(units) > 1 else ""),
            fixed(r.power_w), fixed(r.clock_mhz, 0),
            fixed(r.errors, 0), r.run,
        ]
        for r in found.attempts.astype(dict.fromkeys(_LADDER_NUMBERS, float)).itertuples()
    ]  # fmt: skip
    header = ["setup", found.factor, "ended", "min", warmth, "W", "MHz", "errors", "run"]
    table = aligned(header, rows, left=(0, 2, 8))
    return "\n\n".join([f"{found.title}: along {found.factor}{made_up}\n" + "\n".join(said), table])


def _held_to(found: Ladder, r: Any) -> str:
    """Return how far one setup held."""
    held = "nothing held"
    if not math.isnan(r.held_to):
        held = f"held {'down to ' if found.downwards else ''}{r.held_to:g}"
        held += "" if math.isnan(r.minutes) else f" for {r.minutes:.0f} min"
    ends = [] if math.isnan(r.fails_at) else [f"{r.ending} at {r.fails_at:g}"]
    ends += [] if math.isnan(r.held_back_at) else [f"held back at {r.held_back_at:g}"]
    said = "; ".join([held, *(ends or ["nothing failed"])])
    if not r.contradicted:
        return f"{r.setup}: {said}."
    own = found.attempts[found.attempts["setup"] == r.setup]
    clocks = own["clock_mhz"].dropna().astype(float)
    unlike = found.factor != "clock" and clocks.max() > _SAME_CLOCK * clocks.min()
    cause = (
        f"The clock differed, too ({clocks.min():.0f} to {clocks.max():.0f} MHz): enter it as a factor"
        if unlike
        else "Repeat both"
    )
    further = "The same or a lower" if found.downwards else "A higher"
    return f"{r.setup}: {said}. {further} level held all the same. {cause}."


_SAME_CLOCK = 1.01  # ratio of clocks that are set alike: readings of a clock differ by less
_LADDER_NUMBERS = ("minutes", "rise_k", "power_w", "clock_mhz", "errors")


def parts_text(table: pd.DataFrame) -> str:
    """Return parts side by side, and below them the cores."""
    shown = table[~table["part"].str.match(r"cpu\.core\d")]
    rows = [
        [
            r.setup, r.part, f"{r.hold_mean_c:.1f}", f"{r.hold_peak_c:.1f}", fixed(r.limit_c, 0),
            fixed(r.headroom_k), fixed(r.comfort_k), "nearest" if r.first else "",
        ]
        for r in shown.itertuples()
    ]  # fmt: skip
    header = [
        "setup",
        "part",
        "mean °C",
        "peak °C",
        "limit °C",
        "headroom K",
        "to comfort K",
        "to limit",
    ]
    cores = cores_of(table)
    if cores.empty:
        return aligned(header, rows)
    numbers = [name for name in cores.columns if name != "spread_k"][:_MOST_CORES]
    lines = [
        [str(setup), *(fixed(row[name]) for name in numbers), fixed(row["spread_k"])]
        for setup, row in cores.iterrows()
    ]
    more = (
        ""
        if len(numbers) == cores.shape[1] - 1
        else f" (the first {_MOST_CORES}; all: --format csv)"
    )
    title = f"mean of each core under load, °C{more}"
    told = aligned(["setup", *(f"core {name}" for name in numbers), "apart K"], lines)
    return "\n\n".join([aligned(header, rows), f"{title}\n{told}"])


def equal_text(table: pd.DataFrame, quantity: str) -> str:
    """Return setups at equal noise, fan speed or duty."""
    told = table.attrs.get("cautions", [])
    rows = [
        [
            r.setup, fixed(r.power_w, 0), fixed(r.rise_k) + ("*" if r.passes_limit else ""),
            "not reached" if math.isnan(r.rise_k) else interval(r.low_k, r.high_k), str(r.levels),
            *(
                ["–", "–", "–"] if math.isnan(r.difference_low_k) else
                [signed(r.difference_k), signed_interval(r.difference_low_k, r.difference_high_k),
                 _told(r.distinguishable, r.difference_low_k, told)]
            ),
        ]
        for r in table.sort_values("rise_k").itertuples()
    ]  # fmt: skip
    method, at = str(table["method"].iloc[0]), f"{table['at'].iloc[0]:.4g}"
    by_law = method == FROM_LAW
    said = (
        f"At {quantity} {at}, {'predicted from' if by_law else 'by'} {method}"
        f"{', for the mean over mountings' if by_law else ''}.\n"
        "Differences are to the coolest under the same power limit and load"
        f"{', at the same power' if by_law else ''}."
    )
    headers = [
        "setup", "power W", "rise K", "interval", "runs" if by_law else "levels", "above the coolest K",
        "interval", "told apart",
    ]  # fmt: skip
    over = "* It would pass its temperature limit there: it would be held back." * int(
        table["passes_limit"].any()
    )
    cautions = "\n".join(["cautions", *(f"  - {text}" for text in told)]) if told else ""
    return "\n\n".join(filter(None, [said, aligned(headers, rows), over, cautions]))


def _told(distinguishable: bool, low: float, cautions: Sequence[str]) -> str:
    yes = "likely" if _is_likely(cautions) else "yes"
    return yes if distinguishable else "cannot tell" if math.isinf(low) else "no"


def _is_likely(cautions: Sequence[str]) -> bool:
    """Return whether verdicts are likely and no more, as the scatter of usual rigs was assumed."""
    return any(getattr(one, "code", "") == "spread_usual" for one in cautions)


def _cautions(cautions: Sequence[str]) -> list[str]:
    return ["\n".join(["cautions", *(f"  - {text}" for text in cautions)])] if cautions else []
