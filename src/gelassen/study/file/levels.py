"""Levels of factors: how people write them, what they change, and what is known about them."""

import math
import re

from gelassen.study.file.study_file import StudyFile

FAN_WORDS = ("fan", "curve", "duty", "rpm", "blower", "pump", "noise")
# A cooler brings its own fans, whose speeds say nothing beside those of another.
_COOLER_WORDS = ("cooler", "heatsink", "heat sink", "radiator")
# Factors of these names change without touching the cooler.
_LEFT_ON = (
    *FAN_WORDS, "panel", "door", "case", "enclosure", "cabinet", "lid", "filter", "vent", "duct",
    "orientation", "position", "direction", "room", "place", "flow", "limit", "power", "load", "clock",
    "core",
)  # fmt: skip
_POWER_IN_NAME = re.compile(r"[\s,;/_-]*\b\d+(?:[.,]\d+)?\s?W\b(?:atts?)?", re.IGNORECASE)
_POWER_FACTORS = ("power", "power_w", "power_limit_w")


def level_text(level: object) -> str:
    """Return a level as people write it: 125, not 125.0."""
    try:
        return f"{float(level):g}"  # type: ignore[arg-type]
    except (TypeError, ValueError, OverflowError):
        return str(level)


def takes_cooler_off(file: StudyFile, name: str) -> bool:
    """Return whether a change of this factor takes the cooler off: as the study says, else by name."""
    if file.factors[name].changed_by != "hand":
        return False
    told = file.factors[name].remounts
    return told if told is not None else not any(word in name.lower() for word in _LEFT_ON)


def mounted_as(file: StudyFile, setup: str) -> str:
    """Return what a mounting of a setup depends on: levels that take the cooler off, else its name."""
    levels = file.setups.get(setup, {})
    if not levels:
        return without_power(setup)
    own = [f"{name} {level_text(x)}" for name, x in levels.items() if takes_cooler_off(file, name)]
    return ", ".join(own)


def expected_quantities(file: StudyFile) -> list[str]:
    """Return the quantities that factors change on purpose."""
    words = " ".join([*file.factors, *(f.channel or "" for f in file.factors.values())])
    # Without factors, the names of the setups are all that says what was tested.
    of_air = words if file.factors else " ".join(file.setups).lower()
    expected = []
    if any(stem in of_air for stem in (*FAN_WORDS, *_COOLER_WORDS)):
        expected += ["fan_rpm", "duty_pct"]
    if any(stem in of_air for stem in ("pump", "flow", *_COOLER_WORDS)):
        expected += ["flow_lpm", "pump_rpm"]
    if any(stem in words for stem in ("power", "limit", "load", "cores", "clock", "work")):
        expected += ["power_w", "clock_mhz", "work_per_s", "fan_rpm", "load_pct"]
    if any(stem in words for stem in ("room", "ambient")):
        expected.append("reference_c")
    return expected


def moves_fans(file: StudyFile) -> list[str]:
    """Return the factors that move fans."""
    return [name for name in file.factors if any(word in name for word in FAN_WORDS)]


def power_factors(file: StudyFile) -> list[str]:
    """Return the factors that set a power limit."""
    return [
        name for name, factor in file.factors.items()
        if (factor.channel or "").endswith(".power_limit_w") or name in _POWER_FACTORS
    ]  # fmt: skip


def without_power(setup: str) -> str:
    """Return the name of a setup without the power limit in it."""
    return _POWER_IN_NAME.sub("", setup).strip(" ,;/_-") or setup


def setups_without_power(file: StudyFile) -> dict[str, str]:
    """Return each setup's levels without the power limit, where a factor is the power limit."""
    powers = power_factors(file)
    if not powers:
        return {}
    groups = {}
    for name, levels in file.setups.items():
        rest = [level_text(x) for factor, x in levels.items() if factor not in powers]
        groups[name] = ", ".join(rest) or without_power(name)
    return groups


def level_details(file: StudyFile) -> list[tuple[str, str, dict[str, str]]]:
    """Return each level, its factor, and what is known of it (price, size, note, photo), as words."""
    return [
        (level_text(level), name, {
            what: level_text(value)
            for what, value in factor.details.get(level_text(level), {}).items()
        })
        for name, factor in file.factors.items()
        for level in factor.levels
    ]  # fmt: skip


def detail(file: StudyFile, setup: str, name: str) -> float:
    """Return the sum of a detail over the levels of a setup; NaN if none has it.

    Of words, it is the place of the worst on their scale, from 1.
    """
    scale = file.scales.get(name)
    values = []
    for factor, level in file.setups.get(setup, {}).items():
        value = file.factors[factor].details.get(level_text(level), {}).get(name)
        if scale is not None and value is not None:
            values.append(float(scale.index(str(value)) + 1))
        elif isinstance(value, (int, float)):
            values.append(float(value))
    if not values:
        return math.nan
    return sum(values) if scale is None else max(values)
