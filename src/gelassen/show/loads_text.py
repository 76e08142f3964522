"""Setups under several loads, in words and numbers."""

import pandas as pd

from gelassen.answers.loads import StudyLoads
from gelassen.answers.rows.by_quantity import Quantity, in_kelvin
from gelassen.core.foundation.counted import listed
from gelassen.core.foundation.result import MADE_UP
from gelassen.core.recording.channel_words import judged_words
from gelassen.show.layout import wrapped
from gelassen.show.numbers import fixed, interval, signed_interval, warmer, warmer_interval
from gelassen.show.tables import aligned

CAME_AND_WENT = (
    "the load came and went: this is the mean once the machine is warm, and no steady state. "
    "The column of means holds the whole load, its warming up included."
)
_MOST_TOLD = 4  # setups behind the first that the answer names


def loads_text(found: StudyLoads) -> str:
    """Return setups under each load, and their mean over all loads."""
    made_up = f"   ({MADE_UP})" if found.made_up else ""
    header, rows = loads_table(found)
    parts = [
        "\n".join([f"{found.title}: load by load{made_up}", *map(wrapped, loads_answer(found))]),
        aligned(header, rows, left=(0, 1, len(header) - 1)),
    ]
    if found.setups["uneven"].any():
        parts.append(wrapped(f"^ {CAME_AND_WENT}"))
    lines = loads_lines(found)
    parts += ["\n".join(lines)] if lines else []
    if found.cautions:
        parts.append("\n".join(["cautions", *(f"  - {text}" for text in loads_cautions(found))]))
    if found.left_out:
        parts.append("\n".join(["left out", *(f"  - {run}: {why}" for run, why in found.left_out)]))
    return "\n\n".join([*parts, *map(loads_text, found.other_parts.values())])


def loads_table(found: StudyLoads) -> tuple[list[str], list[list[str]]]:
    """Return header and rows of the table: one row for each setup under each load."""
    in_unit = found.unit if in_kelvin(found.by) else "K"
    # One column shows the work: the score, or frames or rounds a second where no score is known.
    done = {"score": "score", "work_per_s": "work /s"} if in_kelvin(found.by) else {}
    scored = next((name for name in done if found.setups[name].notna().any()), "")
    supplied = found.setups["supply_w"].notna().any()
    rows = [
        [
            str(r.load), str(r.setup), "at the limit" if r.at_limit else fixed(r.rise_k) + "^" * r.uneven,
            "–" if r.at_limit else interval(r.low_k, r.high_k), fixed(r.mean_k), fixed(r.highest_k),
            fixed(r.highest_99_k), str(r.runs), fixed(r.power_w), fixed(r.clock_mhz, 0),
            *([fixed(getattr(r, scored))] if scored else []),
            *([fixed(r.supply_w), fixed(r.supply_a, 2), fixed(r.supply_margin_w)] if supplied else []),
            "–" if pd.isna(r.first) else f"{judged_words(str(r.first))} {fixed(r.headroom_k)} K",
        ]
        for r in found.setups.itertuples()
    ]  # fmt: skip
    header = [
        "load", "setup", _what(found), f"{100 * found.confidence:g} %",
        *(f"{what} {in_unit}" for what in ("mean", "highest", "99 %")),
        "runs", "W", "MHz", *([done[scored]] if scored else []),
        *(["supply W", "A", "margin W"] if supplied else []), "left to its limit",
    ]  # fmt: skip
    return header, rows


def loads_answer(found: StudyLoads) -> list[str]:
    """Return which setup is the coolest over all loads, and where one load says otherwise."""
    said = []
    for load, part in found.differences.groupby("load", sort=False):
        if load not in found.comparisons:  # a mean over several loads
            said += _over_loads(f"{str(load)[:1].upper()}{str(load)[1:]}", part, found)
    if not said:
        setups = list(dict.fromkeys(found.setups["setup"]))
        alone = f"There is one setup, {setups[0]}: there is nothing to compare it with."
        apart = "No two setups can be set side by side over all loads: they are under one load at a time."
        said.append(alone if len(setups) == 1 else apart)
    held = found.setups[found.setups["at_limit"].astype(bool)]
    said += [
        f"Under {load}, {listed(own['setup'])} sat at the limit: how much warmer is not known."
        for load, own in held.groupby("load", sort=False)
    ]
    return said


def _over_loads(where: str, pairs: pd.DataFrame, found: StudyLoads) -> list[str]:
    """Return the coolest setup by the mean over several loads, and the loads that disagree."""
    turned = pairs.rename(columns={"setup": "versus", "versus": "setup"})
    turned = turned.assign(
        difference_k=-pairs["difference_k"], low_k=-pairs["high_k"], high_k=-pairs["low_k"]
    )
    every = pd.concat([pairs, turned], ignore_index=True)
    by, means = found.by, every.groupby("setup", sort=False)["difference_k"].mean()
    most = by is not None and by.more_is_better
    best = str(means.idxmax() if most else means.idxmin())
    beside = every[every["versus"] == best].sort_values("difference_k", ascending=not most)
    told = beside["distinguishable"].astype(bool)
    open_ones = beside[~told]["setup"].tolist()
    likely = "likely " * any(one.spread.source == "usual" for one in found.comparisons.values())
    behind = [
        f"{r.setup} {_by(found, r.difference_k)} ({_between(found, r.low_k, r.high_k)})"
        for r in beside[told].head(_MOST_TOLD).itertuples()
    ]
    if open_ones:
        first = f"{where}, {listed([best, *open_ones])} cannot be told apart"
    else:
        first = f"{where}, {best} is {likely}{_first(by)}"
    said = [f"{first}{': ' * bool(behind)}{'; '.join(behind)}."]
    lacking = [
        name for name in dict.fromkeys(found.setups["setup"]) if name not in set(every["setup"])
    ]
    if lacking:
        said.append(
            f"{listed(lacking)} cannot be set beside them: not run under all of these loads."
        )
    for load, one in found.comparisons.items():
        for r in one.differences[one.differences["distinguishable"].astype(bool)].itertuples():
            ahead = r.setup if (r.difference > 0) == most else r.versus
            if best in (r.setup, r.versus) and ahead != best:
                size = abs(r.difference) if most else -abs(r.difference)
                said.append(f"But under {load}, {ahead} {_by(found, size)} than {best}.")
    return said


def _by(found: StudyLoads, difference: float, likely: str = "") -> str:
    """Return by how much a setup is warmer, or has more of what is compared."""
    if in_kelvin(found.by):
        return f"is {likely}{warmer(difference)}"
    unit, way = "" if found.by is None else found.by.unit, "more" if difference > 0 else "less"
    return f"{likely}has {fixed(abs(difference), 1, unit)} {way}"


def _between(found: StudyLoads, low: float, high: float) -> str:
    return warmer_interval(low, high) if in_kelvin(found.by) else signed_interval(low, high)


def _what(found: StudyLoads) -> str:
    """Return the header of what is compared."""
    if found.by is None:
        return f"settles {found.unit}"
    return f"compared {found.unit}" if found.by.is_rise else found.by.unit


def _first(by: Quantity | None) -> str:
    if by is None:
        return "the coolest"
    return f"the coolest by {by.what}" if by.is_rise else f"first by {by.what}"


def loads_cautions(found: StudyLoads) -> list[str]:
    """Return the cautions, each once with the loads that it holds for."""
    loads: dict[str, list[str]] = {}
    for one in found.cautions:
        words = str(one).removeprefix(f"{one.about}: ") if one.about else str(one)
        loads.setdefault(words, []).append(one.about)
    return [
        f"{', '.join(filter(None, about))}: {words}" if any(about) else words
        for words, about in loads.items()
    ]


def loads_lines(found: StudyLoads) -> list[str]:
    """Return which load is the hottest, and each difference under one load, in words."""
    lines, unit = [], found.unit if in_kelvin(found.by) else "K"
    for setup, own in found.setups.groupby("setup", sort=False):
        known = own.dropna(subset="highest_k")
        if len(known) > 1:
            top = known.loc[known["highest_k"].idxmax()]
            lines.append(
                f"{setup} is hottest under {top['load']}: {fixed(top['highest_k'])} {unit} at most"
            )
    for load, one in found.comparisons.items():
        likely = "likely " * (one.spread.source == "usual")
        for r in found.differences[found.differences["load"] == load].itertuples():
            said = (
                f"{r.setup} {_by(found, r.difference_k, likely)} than {r.versus}"
                if r.distinguishable
                else f"cannot tell {r.setup} from {r.versus}"
            )
            lines.append(f"{load}: {said} ({_between(found, r.low_k, r.high_k)})")
    return lines
