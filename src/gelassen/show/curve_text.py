"""Fan curves in words and numbers."""

import math

import pandas as pd

from gelassen.answers.fans.curves import StudyCurves
from gelassen.core.fans.priors import Choice
from gelassen.core.foundation.result import MADE_UP
from gelassen.show.numbers import fixed
from gelassen.show.tables import aligned, markdown

_REFUSED = "no_such_curve"  # said with the answers
Table = tuple[list[str], list[list[str]]]


def curve_text(found: StudyCurves) -> str:
    """Return curves for people: the answer first, then where each settles, then what it rests on."""
    made_up = f"   ({MADE_UP})" if found.made_up else ""
    parts = ["\n".join([f"{found.title}: fan curves{made_up}", *sentences(found)])]
    parts += entries(found)
    if len(found.points):
        parts.append("predicted, not measured:\n" + aligned(*points(found), left=(0, 1)))
    parts += [
        f"cooling over fan speed, at {found.power_w:g} W:\n" + aligned(*resistance(found)),
        "each run beside what the other runs predict for it:\n"
        + aligned(*borne_out(found), left=(0, 1)),
    ]
    if rest := [text for text in found.cautions if text.code != _REFUSED]:
        parts.append("\n".join(["cautions", *(f"  - {text}" for text in rest)]))
    return "\n\n".join(parts)


def curve_markdown(found: StudyCurves) -> str:
    """Return curves as Markdown."""
    title = f"## {found.title}: fan curves" + (f" ({MADE_UP})" if found.made_up else "")
    words = "\n".join(f"- {sentence}" for sentence in sentences(found))
    rest = [text for text in found.cautions if text.code != _REFUSED]
    notes = "\n".join(f"- caution: {text}" for text in rest)
    tables = [points(found)] if len(found.points) else []
    tables += [resistance(found), borne_out(found)]
    return "\n\n".join(x for x in (title, words, *(markdown(*t) for t in tables), notes) if x)


def sentences(found: StudyCurves) -> list[str]:
    """Return what is suggested, what hunts, and where more speed no longer pays."""
    said = []
    for row in found.curves.to_dict("records") if len(found.curves) else []:
        own = found.points[
            (found.points["setup"] == row["setup"]) & (found.points["curve"] == row["curve"])
        ]
        if row["prove_w"] is not None and not _missing(row["prove_w"]):
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


def entries(found: StudyCurves) -> list[str]:
    """Return each suggested curve as it is entered in firmware."""
    said = []
    for row in found.curves.to_dict("records") if len(found.curves) else []:
        if row["prove_w"] is None or _missing(row["prove_w"]):
            continue
        pairs = [pair.split(":") for pair in str(row["points"]).split(",")]
        follows = found.follows.get(str(row["setup"])) or "the processor's temperature"
        table = aligned(["°C", "duty %"], [[t.strip(), d.strip()] for t, d in pairs], left=())
        more = f"following {follows}; hysteresis {row['hysteresis_k']:g} K; averaged over "
        head = f"{row['setup']}, {row['curve']}, to enter:"
        said.append(f"{head}\n{table}\n{more}{row['average_s']:g} s")
    return said


def points(found: StudyCurves) -> Table:
    """Return header and rows: where each curve settles."""
    heard = found.points["noise_dba"].notna().any()
    header = ["setup", "curve", "W", "room", "settles °C", f"{100 * found.confidence:g} %", "rpm", "",
              "duty %", *(["dB(A)"] if heard else []), "loop"]  # fmt: skip
    rows = [
        [
            row["setup"], row["curve"], f"{row['power_w']:g}", f"{row['room_c']:g}",
            fixed(row["temp_c"]) + "*" * bool(row["beyond"]), f"{row['low_c']:.1f} to {row['high_c']:.1f}",
            f"{row['rpm']:.0f}", f"{row['low_rpm']:.0f} to {row['high_rpm']:.0f}", f"{row['duty_pct']:.0f}",
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
            f"{row['low']:.3f} to {row['high']:.3f}", fixed(row["next_tenth_k"], 2),
        ]
        for row in found.resistance.to_dict("records")
    ]  # fmt: skip
    return header, rows


def borne_out(found: StudyCurves) -> Table:
    """Return header and rows: each run beside what the others predict."""
    header = ["run", "curve", "W", "rpm", "predicted", "measured K", "predicted K",
              f"{100 * found.confidence:g} %", "off K"]  # fmt: skip
    rows = [
        [
            row["run"], row["curve"] or "–", f"{row['power_w']:.0f}", f"{row['rpm']:.0f}",
            f"{row['predicted_rpm']:.0f}" if row["curve"] else "–", fixed(row["measured_k"]),
            fixed(row["predicted_k"]), f"{row['low_k']:.1f} to {row['high_k']:.1f}",
            f"{row['off_k']:+.1f}" + "!" * (not row["inside"]),
        ]
        for row in found.runs.to_dict("records")
    ]  # fmt: skip
    return header, rows


def _suggestion(row: dict[str, object], own: pd.DataFrame) -> str:
    hottest = own.loc[own["high_c"].idxmax()]
    return (
        f"{row['setup']}, {row['curve']}: at worst "
        f"{hottest['temp_c']:.1f} °C ({hottest['low_c']:.1f} to {hottest['high_c']:.1f}) at "
        f"{hottest['rpm']:.0f} rpm. One run proves it: {row['prove_w']:g} W in a room of "
        f"{row['prove_room_c']:g} °C."
    )


def _trouble(found: StudyCurves, row: dict[str, object], point: dict[str, object]) -> list[str]:
    where = f"{row['setup']}, {row['curve']}, {point['power_w']:g} W, room {point['room_c']:g} °C"
    said = []
    if point["hunting"] == "hunts":
        said.append(
            f"{where}: the loop hunts by {point['swing_k']:.1f} K, every {point['period_s']:.0f} s. More "
            "hysteresis, a longer average or a flatter curve calms it."
        )
    elif point["hunting"] == "near the edge":
        said.append(f"{where}: whether the loop hunts cannot be told; it is near the edge.")
    if point["over_limit"]:
        may = "passes" if float(str(point["low_c"])) > found.limit_c else "may pass"
        said.append(f"{where}: it {may} the limit of {found.limit_c:g} °C.")
    return said


def _missing(value: object) -> bool:
    return isinstance(value, float) and math.isnan(value)
