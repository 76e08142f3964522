"""Capacities in words and numbers."""

import math

from gelassen.answers.capacities import StudyCapacity
from gelassen.core.foundation.result import MADE_UP
from gelassen.show.tables import aligned, markdown, with_bars


def capacity_text(found: StudyCapacity) -> str:
    """Return capacities for people."""
    title = (
        f"{found.title}: power sustained at {found.room_c:g} °C room, limit {found.limit_c:g} °C"
    )
    parts = [
        "\n".join([title + (f"   ({MADE_UP})" if found.made_up else ""), *sentences(found)]),
        aligned(*with_bars(*table(found), found.setups["capacity_w"].tolist())),
        aligned(*resistances(found)),
    ]
    marks = "*: beyond what was measured"
    if found.points["throttled"].any():
        marks += "; for a resistance: held back by heat, so at less power than its limit"
    parts.append(marks)
    notes = [f"left out: {run}: {why}" for run, why in found.left_out] + list(found.cautions)
    if notes:
        parts.append("\n".join(["cautions", *(f"  - {text}" for text in notes)]))
    return "\n\n".join(parts)


def capacity_markdown(found: StudyCapacity) -> str:
    """Return capacities as Markdown."""
    words = "\n".join(f"- {sentence}" for sentence in sentences(found))
    title = f"## {found.title}: capacity" + (f" ({MADE_UP})" if found.made_up else "")
    notes = "\n".join(f"- caution: {text}" for text in found.cautions)
    return "\n\n".join(
        part
        for part in (title, words, markdown(*table(found)), markdown(*resistances(found)), notes)
        if part
    )


def sentences(found: StudyCapacity) -> list[str]:
    """Return at most five sentences, never more certain than the numbers."""
    said = []
    known = found.setups[[math.isfinite(x) for x in found.setups["high_w"]]]
    known = known[[math.isfinite(x) for x in known["low_w"]]]
    if len(known):
        best = known.iloc[0]
        said.append(
            f"{best['setup']} is good for {best['capacity_w']:.0f} W ({best['low_w']:.0f} to "
            f"{best['high_w']:.0f} W)"
            + (", beyond what was measured." if best["extrapolated"] else ".")
        )
    if len(known) > 1:
        first, second = known.iloc[0]["setup"], known.iloc[1]["setup"]
        pairs = found.differences
        pair = pairs[(pairs["setup"] == first) & (pairs["versus"] == second)]
        if len(pair):
            row = pair.iloc[0]
            span = f"{row['low_w']:+.0f} to {row['high_w']:+.0f} W"
            said.append(
                f"That is {row['difference_w']:.0f} W more than {second} ({span})."
                if row["distinguishable"]
                else f"{second} cannot be told from it ({row['difference_w']:+.0f} W, {span})."
            )
    for row in found.setups.to_dict("records"):
        if not math.isfinite(row["low_w"]):
            said.append(f"What {row['setup']} is good for cannot be told from these runs.")
        elif math.isfinite(row["high_w"]):
            continue
        elif not row["throttled"]:
            said.append(
                f"{row['setup']} held {row['low_w']:.0f} W below its limit; one level does not tell how "
                "much more it would."
            )
        else:
            said.append(
                f"{row['setup']} held at least {row['low_w']:.0f} W at its limit; "
                "no run of it stayed below."
            )
    if found.at_power_w is not None and "passes" in found.setups:
        words = {"yes": "passes", "no": "does not pass", "cannot tell": "cannot be told"}
        for verdict, text in words.items():
            same = found.setups["passes"] == verdict
            names = [str(n) for n in found.setups.loc[same, "setup"]]
            if names:
                said.append(f"At {found.at_power_w:g} W, {text}: {'; '.join(names)}.")
    return said[:6] + _ratings(found)


def _ratings(found: StudyCapacity) -> list[str]:
    """Return whether each setup holds what its maker states, and with how much to spare."""
    if "rated_w" not in found.setups:
        return []
    said = []
    for row in found.setups.to_dict("records"):
        rated_w = row["rated_w"]
        if not math.isfinite(rated_w):
            continue
        spare = _margin(row["low_w"] - rated_w, row["high_w"] - rated_w)
        words = {
            "yes": f"holds its rating of {rated_w:g} W, with {spare} to spare",
            "no": f"does not hold its rating of {rated_w:g} W: it sustains {row['capacity_w']:.0f} W",
        }.get(
            row["holds_rating"],
            f"may or may not hold its rating of {rated_w:g} W ({spare} to spare)",
        )
        said.append(f"{row['setup']} {words}.")
    return said


def _margin(low: float, high: float) -> str:
    if math.isfinite(high):
        return f"{low:.0f} to {high:.0f} W"
    return f"at least {low:.0f} W" if math.isfinite(low) else "nothing known"


def table(found: StudyCapacity) -> tuple[list[str], list[list[str]]]:
    """Return header and rows of the table for people."""
    header = [
        "setup", "capacity W", f"{100 * found.confidence:g} % interval", "measured W", "runs", "at limit",
        "K/W there", "how rise grows",
    ]  # fmt: skip
    if found.at_power_w is not None:
        header.append(f"at {found.at_power_w:g} W")
    rows = []
    for row in found.setups.to_dict("records"):
        points = found.points[found.points["setup"] == row["setup"]]
        measured = f"{points['power_w'].min():.0f} to {points['power_w'].max():.0f}"
        cells = [
            str(row["setup"]),
            f"{row['capacity_w']:.0f}" + ("*" if row["extrapolated"] else ""),
            _span(row["low_w"], row["high_w"]),
            measured,
            str(row["runs"]),
            str(row["throttled"] or ""),
            f"{row['resistance_k_per_w']:.3f}",
            str(row["model"]).removeprefix("rise "),
        ]
        if found.at_power_w is not None:
            cells.append({"yes": "passes", "no": "fails"}.get(str(row["passes"]), "cannot tell"))
        rows.append(cells)
    return header, rows


_MOST_LEVELS = 8


def resistances(found: StudyCapacity) -> tuple[list[str], list[list[str]]]:
    """Return thermal resistance by power, as measured: header and rows; "*" where held back by heat."""
    levels = found.points["wanted_w"].fillna(found.points["power_w"]).round()
    if levels.nunique() > _MOST_LEVELS:
        levels = (levels / 10).round() * 10
    shown = sorted(levels.unique())[:_MOST_LEVELS]
    header = ["thermal resistance, K/W", *(f"at {level:.0f} W" for level in shown)]
    rows = []
    for name in found.setups["setup"]:
        cells = []
        for level in shown:
            runs = found.points[(found.points["setup"] == name) & (levels == level)]
            held = "*" if len(runs) and runs["throttled"].any() else ""
            cells.append(f"{runs['resistance_k_per_w'].mean():.3f}{held}" if len(runs) else "–")
        rows.append([str(name), *cells])
    return header, rows


def _span(low: float, high: float) -> str:
    if math.isfinite(low) and math.isfinite(high):
        return f"{low:.0f} to {high:.0f}"
    return f"{low:.0f} or more" if math.isfinite(low) else "cannot tell"
