"""Setups under several loads, in words and numbers."""

import pandas as pd

from gelassen.answers.loads import StudyLoads
from gelassen.core.foundation.result import MADE_UP
from gelassen.core.recording.channel_words import judged_words
from gelassen.show.numbers import fixed, interval, warmer, warmer_interval
from gelassen.show.tables import aligned


def loads_text(found: StudyLoads) -> str:
    """Return setups under each load, and their mean over all loads."""
    made_up = f"   ({MADE_UP})" if found.made_up else ""
    header, rows = loads_table(found)
    parts = [
        f"{found.title}: load by load{made_up}",
        aligned(header, rows, left=(0, 1, len(header) - 1)),
    ]
    if found.setups["uneven"].any():
        parts.append("^ the load came and went: this is its mean, and no steady state.")
    lines = loads_lines(found)
    parts += ["\n".join(lines)] if lines else []
    if found.cautions:
        parts.append("\n".join(["cautions", *(f"  - {text}" for text in found.cautions)]))
    if found.left_out:
        parts.append("\n".join(["left out", *(f"  - {run}: {why}" for run, why in found.left_out)]))
    return "\n\n".join(parts)


def loads_table(found: StudyLoads) -> tuple[list[str], list[list[str]]]:
    """Return header and rows of the table: one row for each setup under each load."""
    scored = found.setups["score"].notna().any()
    supplied = found.setups["supply_w"].notna().any()
    rows = [
        [
            str(r.load), str(r.setup), "at the limit" if r.at_limit else fixed(r.rise_k) + "^" * r.uneven,
            "–" if r.at_limit else interval(r.low_k, r.high_k), fixed(r.mean_k), fixed(r.highest_k),
            fixed(r.highest_99_k), str(r.runs), fixed(r.power_w), fixed(r.clock_mhz, 0),
            *([fixed(r.score)] if scored else []),
            *([fixed(r.supply_w), fixed(r.supply_a, 2), fixed(r.supply_margin_w)] if supplied else []),
            "–" if pd.isna(r.first) else f"{judged_words(str(r.first))} ({fixed(r.headroom_k)} K left)",
        ]
        for r in found.setups.itertuples()
    ]  # fmt: skip
    header = [
        "load", "setup", "settles K", f"{100 * found.confidence:g} %", "mean K", "highest K", "99 % K",
        "runs", "W", "MHz", *(["score"] if scored else []),
        *(["supply W", "A", "margin W"] if supplied else []), "nearest to its limit",
    ]  # fmt: skip
    return header, rows


def loads_lines(found: StudyLoads) -> list[str]:
    """Return which load is the hottest, and each difference, in words."""
    lines = []
    for setup, own in found.setups.groupby("setup", sort=False):
        known = own.dropna(subset="highest_k")
        if len(known) > 1:
            top = known.loc[known["highest_k"].idxmax()]
            lines.append(
                f"{setup} is hottest under {top['load']}: {fixed(top['highest_k'])} K at most"
            )
    for load, part in found.differences.groupby("load", sort=False):
        for r in part.itertuples():
            said = (
                f"{r.setup} is {warmer(r.difference_k)} than {r.versus}"
                if r.distinguishable
                else f"cannot tell {r.setup} from {r.versus}"
            )
            lines.append(f"{load}: {said} ({warmer_interval(r.low_k, r.high_k)})")
    return lines
