"""Units where a header has none, from plausible values. They are always reported as a guess."""

from typing import NamedTuple

from gelassen.core.recording.units import Conversion


class Spread(NamedTuple):
    """Lowest, middle and highest of a column's values, and whether they are states such as On."""

    low: float
    middle: float
    high: float
    states: bool = False


# Our unit -> candidates in order, each with the range in which the middle of the values must lie.
_CANDIDATES: dict[str, tuple[tuple[str, float, float], ...]] = {
    "c": (("°C", -20, 125), ("K", 250, 400), ("m°C", 5_000, 130_000)),
    "mhz": (("GHz", 0.2, 9), ("MHz", 90, 9_000), ("kHz", 90_000, 9e6), ("Hz", 9e7, 1e10)),
    "w": (("W", 0, 3_000), ("mW", 3_000, 3e6), ("µW", 3e6, 3e9)),
    "v": (("V", 0, 450), ("mV", 450, 1e5)),
    "a": (("A", -500, 500), ("mA", 500, 1e6)),
    "rpm": (("rpm", 0, 30_000),),
    "pct": (("%", 0, 100),),
    "lpm": (("L/min", 0, 60), ("L/h", 60, 3_000)),
    "dba": (("dB(A)", 5, 130),),
    "per_s": (("1/s", 0, 1e12),),
    "count": (("1", 0, 1e12),),
}
# Possible readings of a cooled computer, in our units.
_RANGE = {
    "c": (-60.0, 250.0),
    "mhz": (0.0, 20_000.0),
    "w": (-50.0, 20_000.0),
    "pct": (-1.0, 1_000.0),
    "rpm": (-1.0, 60_000.0),
}


def guess_unit(own: str, spread: Spread) -> str:
    """Return the unit the values are plausible in; "" if there is none."""
    for unit, low, high in _CANDIDATES.get(own, ()):
        if low <= spread.middle <= high and (own != "c" or spread.high <= 1.5 * high):
            return unit
    return ""


def plausible(own: str, unit: str, spread: Spread, conversion: Conversion) -> str:
    """Return why values in this unit cannot be readings; "" if they can."""
    if own not in _RANGE:
        return ""
    low, high = _RANGE[own]
    middle = conversion(spread.middle)
    if own == "c" and unit.strip().lower() in ("k", "kelvin") and spread.high < 200:
        return f"{spread.middle:g} {unit} is a difference of temperatures, not a temperature"
    if not low <= middle <= high:
        return f"values around {spread.middle:g} {unit} are not readings of a computer"
    return ""
