"""Fan curves in words and numbers."""

import math

import pandas as pd

from gelassen.answers.fans.curves import StudyCurves
from gelassen.core.fans.priors import Choice
from gelassen.core.foundation.result import MADE_UP
from gelassen.show.numbers import fixed, interval, moment
from gelassen.show.tables import aligned, markdown

_REFUSED = "no_such_curve"  # said with the answers
Table = tuple[list[str], list[list[str]]]


def curve_text(found: StudyCurves) -> str:
    """Return curves for people: the answer first, then where each settles, then what it rests on."""
    made_up = f"   ({MADE_UP})" if found.made_up else ""
    parts = ["\n".join([f"{found.title}: fan curves{made_up}", *sentences(found)])]
    parts += [f"{head}:\n{aligned(*table, left=left)}" for head, table, left in tables(found)]
    if len(found.runs):
        parts.append("K: over the reference. !: outside the interval.")
    if rest := [text for text in found.cautions if text.code != _REFUSED]:
        parts.append("\n".join(["cautions", *(f"  - {text}" for text in rest)]))
    return "\n\n".join(parts)


def curve_markdown(found: StudyCurves) -> str:
    """Return curves as Markdown."""
    title = f"## {found.title}: fan curves" + (f" ({MADE_UP})" if found.made_up else "")
    words = "\n".join(f"- {sentence}" for sentence in sentences(found))
    shown = [f"### {head}\n\n{markdown(*table)}" for head, table, _ in tables(found)]
    rest = [text for text in found.cautions if text.code != _REFUSED]
    notes = "\n".join(f"- caution: {text}" for text in rest)
    return "\n\n".join(part for part in (title, words, *shown, notes) if part)


def tables(found: StudyCurves) -> list[tuple[str, Table, tuple[int, ...]]]:
    """Return each table with its heading, and the columns that stand to the left."""
    all_of_it: list[tuple[str, Table, tuple[int, ...]]] = []
    all_of_it += [(head, table, ()) for head, table in entries(found)]
    if len(found.points):
        all_of_it.append(("predicted, not measured", points(found), (0, 1)))
    power = f"cooling over fan speed, at {found.power_w:g} W"
    all_of_it.append((power, resistance(found), (0,)))
    if len(found.runs):
        head = "each run beside what the other runs predict for it"
        all_of_it.append((head, borne_out(found), (0, 1)))
    return all_of_it


def sentences(found: StudyCurves) -> list[str]:
    """Return what is suggested, what hunts, and where more speed no longer pays."""
    said = []
    for row in found.curves.to_dict("records"):
        own = found.points[
            (found.points["setup"] == row["setup"]) & (found.points["curve"] == row["curve"])
        ]
        if _suggested(row):
            said.append(_suggestion(row, own))
        for point in own.to_dict("records"):
            said += _trouble(found, row, point)
    said += [
        f"{text.sizes['setup']}: {text.sizes['why']}."
        for text in found.cautions
        if text.code == _REFUSED
    ]
    for setup, rpm in found.pays_until.items():
        own = found.resistance[found.resistance["setup"] == setup]
        low, high = own["rpm"].min(), own["rpm"].max()
        said.append(
            f"{setup}: above {rpm:.0f} rpm, a tenth more fan speed gains less than {Choice.PAYS_K:g} K at "
            f"{found.power_w:g} W."
            if math.isfinite(rpm)
            else f"{setup}: from {low:.0f} to {high:.0f} rpm, more fan speed pays throughout."
        )
    if len(found.runs):
        inside = int(found.runs["inside"].sum())
        said.append(f"{inside} of {len(found.runs)} runs settled where the other runs predict.")
    return said


def entries(found: StudyCurves) -> list[tuple[str, Table]]:
    """Return each suggested curve as it is entered in firmware, and how it is to be followed."""
    said = []
    for row in found.curves.to_dict("records"):
        if not _suggested(row):
            continue
        pairs = [pair.split(":") for pair in str(row["points"]).split(",")]
        follows = found.follows.get(str(row["setup"])) or "the processor's temperature"
        how = f"following {follows}, hysteresis {row['hysteresis_k']:g} K, averaged over "
        head = f"{row['setup']}, {row['curve']}, to enter ({how}{row['average_s']:g} s)"
        said.append((head, (["°C", "duty %"], [[t.strip(), d.strip()] for t, d in pairs])))
    return said


def points(found: StudyCurves) -> Table:
    """Return header and rows: where each curve settles."""
    heard = found.points["noise_dba"].notna().any()
    share = f"{100 * found.confidence:g} %"
    header = ["setup", "curve", "W", "room", "settles °C", share, "rpm", share,
              "duty %", "fan there after", *(["dB(A)"] if heard else []), "loop"]  # fmt: skip
    rows = [
        [
            row["setup"], row["curve"], f"{row['power_w']:g}", f"{row['room_c']:g}",
            fixed(row["temp_c"]) + "*" * bool(row["beyond"]), interval(row["low_c"], row["high_c"]),
            fixed(row["rpm"], 0), interval(row["low_rpm"], row["high_rpm"], 0), fixed(row["duty_pct"], 0),
            moment(row["reaches_s"]),
            *([fixed(row["noise_dba"])] if heard else []), row["hunting"],
        ]
        for row in found.points.to_dict("records")
    ]  # fmt: skip
    return header, rows


def resistance(found: StudyCurves) -> Table:
    """Return header and rows: rise per watt over fan speed."""
    header = [
        "setup",
        "rpm",
        "duty %",
        "K/W",
        f"{100 * found.confidence:g} %",
        "a tenth more gains K",
    ]
    rows = [
        [
            row["setup"], f"{row['rpm']:.0f}", f"{row['duty_pct']:.0f}", f"{row['k_per_w']:.3f}",
            interval(row["low"], row["high"], 3), fixed(row["next_tenth_k"], 2),
        ]
        for row in found.resistance.to_dict("records")
    ]  # fmt: skip
    return header, rows


def borne_out(found: StudyCurves) -> Table:
    """Return header and rows: each run beside what the others predict."""
    header = ["run", "curve", "W", "rpm", "predicted rpm", "measured K", "predicted K",
              f"{100 * found.confidence:g} %", "off K"]  # fmt: skip
    rows = [
        [
            row["run"], row["curve"] or "–", f"{row['power_w']:.0f}", f"{row['rpm']:.0f}",
            f"{row['predicted_rpm']:.0f}" if row["curve"] else "–", fixed(row["measured_k"]),
            fixed(row["predicted_k"]), interval(row["low_k"], row["high_k"]),
            f"{row['off_k']:+.1f}" + "!" * (not row["inside"]),
        ]
        for row in found.runs.to_dict("records")
    ]  # fmt: skip
    return header, rows


def _suggestion(row: dict[str, object], own: pd.DataFrame) -> str:
    hottest = own.loc[own["high_c"].idxmax()]
    return (
        f"{row['setup']}, {row['curve']}: at worst "
        f"{hottest['temp_c']:.1f} °C ({interval(hottest['low_c'], hottest['high_c'])}) at "
        f"{hottest['rpm']:.0f} rpm. One run proves it: {row['prove_w']:g} W in a room of "
        f"{row['prove_room_c']:g} °C."
    )


def _trouble(found: StudyCurves, row: dict[str, object], point: dict[str, object]) -> list[str]:
    where = f"{row['setup']}, {row['curve']}, {point['power_w']:g} W, room {point['room_c']:g} °C"
    said = []
    period = point["period_s"]
    every = "" if pd.isna(period) else f", every {period:.0f} s"
    if point["hunting"] == "hunts":
        said.append(
            f"{where}: the loop hunts by {point['swing_k']:.1f} K{every}. More "
            "hysteresis, a longer average or a flatter curve calms it."
        )
    elif point["hunting"] == "near the edge":
        said.append(f"{where}: whether the loop hunts cannot be told; it is near the edge.")
    if point["over_limit"]:
        passed = point["passes_limit_s"]
        after = (
            "" if pd.isna(passed) else f", about {moment(float(str(passed)))} after the load starts"
        )
        may = "passes" if float(str(point["low_c"])) > found.limit_c else "may pass"
        said.append(f"{where}: it {may} the limit of {found.limit_c:g} °C{after}.")
    return said


def _suggested(row: dict[str, object]) -> bool:
    """Return whether a curve is proposed: then a run is named that would prove it."""
    return bool(pd.notna(row["prove_w"]))
