"""Units as people and instruments write them, and how they become those of our channels."""

import re
from dataclasses import dataclass

from gelassen.core.foundation.errors import InputError
from gelassen.core.recording.channels import UNITS, parse_channel

# Our unit -> what else it may be written as: (factor, offset) to ours, value * factor + offset.
_SPELLINGS: dict[str, dict[str, tuple[float, float]]] = {
    "c": {
        "°c": (1, 0), "c": (1, 0), "degc": (1, 0), "celsius": (1, 0),
        "°f": (5 / 9, -160 / 9), "f": (5 / 9, -160 / 9), "degf": (5 / 9, -160 / 9),
        "fahrenheit": (5 / 9, -160 / 9), "k": (1, -273.15), "kelvin": (1, -273.15),
        "m°c": (1e-3, 0), "℃": (1, 0), "℉": (5 / 9, -160 / 9), "deg.c": (1, 0), "deg.f": (5 / 9, -160 / 9),
        "degreescelsius": (1, 0), "degreesc": (1, 0), "degreesf": (5 / 9, -160 / 9), "gradcelsius": (1, 0),
        "gradc": (1, 0), "millidegc": (1e-3, 0), "degreecelsius": (1, 0), "°k": (1, -273.15),
        "degree_celsius": (1, 0), "deg_c": (1, 0), "deg_f": (5 / 9, -160 / 9),
        "degr\u00e9sc": (1, 0), "gradosc": (1, 0),
    },
    "mhz": {"mhz": (1, 0), "ghz": (1e3, 0), "khz": (1e-3, 0), "hz": (1e-6, 0)},
    "w": {"w": (1, 0), "mw": (1e-3, 0), "kw": (1e3, 0), "µw": (1e-6, 0), "uw": (1e-6, 0), "watt": (1, 0), "watts": (1, 0)},
    "v": {"v": (1, 0), "mv": (1e-3, 0), "µv": (1e-6, 0), "uv": (1e-6, 0), "volt": (1, 0), "volts": (1, 0)},
    "a": {"a": (1, 0), "ma": (1e-3, 0), "µa": (1e-6, 0), "ua": (1e-6, 0), "ampere": (1, 0), "amps": (1, 0), "amp": (1, 0)},
    "rpm": {
        "rpm": (1, 0), "1/min": (1, 0), "hz": (60, 0), "1/s": (60, 0), "u/min": (1, 0), "upm": (1, 0),
        "tr/min": (1, 0), "min-1": (1, 0), "min⁻¹": (1, 0), "r/min": (1, 0), "rev/min": (1, 0), "/min": (1, 0),
        "krpm": (1e3, 0),
    },
    "pct": {
        "%": (1, 0), "percent": (1, 0), "pct": (1, 0), "prozent": (1, 0), "pourcent": (1, 0), "perc": (1, 0),
    },
    "lpm": {
        "l/min": (1, 0), "lpm": (1, 0), "l/h": (1 / 60, 0), "lph": (1 / 60, 0),
        "gal/min": (3.785411784, 0), "gpm": (3.785411784, 0), "ml/min": (1e-3, 0),
        "gal/h": (3.785411784 / 60, 0), "l/s": (60, 0), "m³/h": (1000 / 60, 0),
    },
    "dba": {"db(a)": (1, 0), "dba": (1, 0), "db": (1, 0), "db_a": (1, 0)},
    "per_s": {"1/s": (1, 0), "/s": (1, 0), "fps": (1, 0), "hz": (1, 0), "1/min": (1 / 60, 0), "frames/s": (1, 0)},
    "ms": {"ms": (1, 0), "s": (1e3, 0), "µs": (1e-3, 0), "us": (1e-3, 0)},
    "s": {
        "s": (1, 0), "ms": (1e-3, 0), "min": (60, 0), "h": (3600, 0), "sec": (1, 0), "secs": (1, 0),
        "second": (1, 0), "seconds": (1, 0), "sekunden": (1, 0), "sek": (1, 0), "secondes": (1, 0),
        "segundos": (1, 0), "msec": (1e-3, 0), "milliseconds": (1e-3, 0), "millis": (1e-3, 0),
        "millisekunden": (1e-3, 0), "minutes": (60, 0), "minuten": (60, 0), "mins": (60, 0), "hours": (3600, 0),
        "hrs": (3600, 0), "stunden": (3600, 0), "µs": (1e-6, 0), "us": (1e-6, 0), "ns": (1e-9, 0),
    },
    "j": {"j": (1, 0), "kj": (1e3, 0), "wh": (3600, 0), "kwh": (3.6e6, 0), "mj": (1e-3, 0)},
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Conversion:
    """``value * scale + offset`` turns a value in a foreign unit into the channel's."""

    scale: float = 1.0
    offset: float = 0.0

    def __call__(self, value: float) -> float:
        """Convert a value."""
        return value * self.scale + self.offset


def conversion(unit: str, channel: str) -> Conversion:
    """Return how values in `unit` become values of `channel`.

    Raises
    ------
    InputError
        The channel's name is wrong, or the unit cannot become its unit.
    """
    own = parse_channel(channel).unit
    if not unit:
        return Conversion()
    known = _SPELLINGS.get(own, {})
    written = _written(unit)
    if written not in known:
        allowed = ", ".join(known) or "none, leave the unit out"
        raise InputError(
            f'"{unit}" cannot become {UNITS[own][0] or own}, the unit of {channel} (allowed: {allowed})'
        )
    return Conversion(*known[written])


def kinds_of(unit: str) -> tuple[str, ...]:
    """Return the units of ours that a foreign unit can become; none if it is not known."""
    written = _written(unit)
    return tuple(own for own, spellings in _SPELLINGS.items() if written in spellings)


def factors(unit: str, own: str) -> Conversion | None:
    """Return how a foreign unit becomes one of ours; None if it cannot."""
    found = _SPELLINGS.get(own, {}).get(_written(unit))
    return None if found is None else Conversion(*found)


def _written(unit: str) -> str:
    return re.sub(r"\s+", "", unit).lower().replace("μ", "µ").replace("º", "°").replace("˚", "°")
