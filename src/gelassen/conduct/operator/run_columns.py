"""What each column of a tester's table holds, by its header, its unit, or the tester's word."""

import re
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path

from gelassen.conduct.operator.entering import FIELDS, parse_reading
from gelassen.core.foundation.errors import FileError
from gelassen.core.foundation.spelling import nearest

IGNORED, FACTOR, DETAIL = "ignore", "factor", "detail"
LEVEL, DETAIL_OF = "level of ", "detail: "
_WORDS = {
    "setup": ("setup", "configuration", "config", "variant"),
    "ending": ("ending", "outcome", "result", "status", "stable", "ended"),
    "note": ("note", "notes", "remark", "remarks", "comment", "comments"),
    "when": ("when", "date"),
    "mount": ("mount", "mounting"),
    "load": ("load", "program", "workload"),
}
# Units that say by themselves what a column holds.
_UNITS = {
    "w": "power_w", "watt": "power_w", "watts": "power_w", "rpm": "fan_rpm", "mhz": "clock_mhz",
    "ghz": "clock_mhz", "db": "noise_dba", "dba": "noise_dba", "fps": "score", "min": "minutes",
}  # fmt: skip
# Words that together say how long a load ran.
_LENGTH = {
    "run",
    "time",
    "load",
    "length",
    "duration",
    "of",
    "the",
    "min",
    "minutes",
    "s",
    "sec",
    "h",
}
# Words that tell no two columns of such a table apart.
_FILLER = {
    "cpu", "processor", "package", "pkg", "core", "cores", "temp", "temps", "temperature", "under", "load",
    "the", "of", "in", "at", "level", "total", "c", "f", "t", "air",
}  # fmt: skip
# Parts whose readings are no results of the judged part.
_OTHER_PARTS = {
    "gpu", "graphics", "hotspot", "vrm", "regulator", "ssd", "nvme", "memory", "ram", "board", "chipset",
    "coolant", "water", "psu", "supply",
}  # fmt: skip
# What testers change. The levels may look like numbers: "120 mm".
_CHANGED = ("cooler", "case", "paste", "orientation", "fan curve", "pads", "lid", "position")
# What is known of a cooler, say, and not of a run.
_DETAILS = {"price": "price", "cost": "price", "weight": "weight", "size": "size"}
# What a tester may say of a column.
_MEANINGS = (*_WORDS, *(others[0] for _, _, others in FIELDS.values()), FACTOR, DETAIL, IGNORED)
_MEAN = ("avg", "average", "mean")


def places_of(
    path: Path,
    header: Sequence[str],
    rows: Sequence[tuple[int, Sequence[str]]],
    factors: Collection[str],
    columns: Mapping[str, str],
) -> dict[int, str]:
    """Return what each column holds, by its place."""
    for name in columns:
        if name not in header:
            raise FileError(
                f'{path}: no column is called "{name}" ({", ".join(header)}).'
                + nearest(name, header)
            )
    known = _known(factors)
    found = {
        place: _stated(path, name, columns[name], known)
        if name in columns
        else _meaning(name, known)
        for place, name in enumerate(header)
        if name
    }
    if "setup" not in found.values():  # then columns of words tell what was on the bench
        for place, meaning in found.items():
            cells = [row[place] for _, row in rows if place < len(row)]
            if meaning is None and (_plain(header[place]) in _CHANGED or _is_words(cells)):
                found[place] = LEVEL + _factor_name(header[place])
    for place, meaning in found.items():  # noise that nobody metered is told in words
        if meaning == "noise_dba" and _is_words(
            [row[place] for _, row in rows if place < len(row)]
        ):
            found[place] = DETAIL_OF + "noise"
    unknown = [header[place] for place, meaning in found.items() if meaning is None]
    if unknown:
        first = unknown[0]
        raise FileError(
            f'{path}: what is in the column "{first}"? Say it with --column "{first}=MEANING" '
            f"({', '.join(_MEANINGS)}). A factor is what you changed"
        )
    places = {place: name for place, name in found.items() if name is not None and name != IGNORED}
    for place, name in places.items():
        twin = next(one for one, other in places.items() if other == name)
        if twin != place:
            raise FileError(
                f'{path}: "{header[twin]}" and "{header[place]}" both mean {in_words(name)}. Leave one '
                f'out: --column "{header[place]}={IGNORED}"'
            )
    levels = [place for place, name in places.items() if name.startswith(LEVEL)]
    details = [name for name in places.values() if name.startswith(DETAIL_OF)]
    if (details or levels) and not factors:  # then the setups are levels of a factor, too
        of_setup = [place for place, name in places.items() if name == "setup"]
        places |= dict.fromkeys(of_setup, LEVEL + "setup")
        levels += of_setup
    if details and not levels:
        raise FileError(
            f"{path}: the {details[0].removeprefix(DETAIL_OF)} belongs to the levels of a factor: call the "
            'column of the setups "cooler", say, or leave the other out with "ignore"'
        )
    if not levels and "setup" not in places.values():
        raise FileError(f'{path}: no column is called "setup" (found: {", ".join(header)})')
    return places


def _known(factors: Collection[str]) -> dict[str, str]:
    """Return headers as they are written in full, and what they mean."""
    known = {word: name for name, words in _WORDS.items() for word in words}
    for name, (_, _, others) in FIELDS.items():
        known |= dict.fromkeys((name.replace("_", " "), *others), name)
    known |= {word: DETAIL_OF + name for word, name in _DETAILS.items()}
    known |= dict.fromkeys(("power limit", "power limit w"), LEVEL + "power_limit_w")
    return known | {name.replace("_", " ").lower(): LEVEL + name for name in factors}


def _stated(path: Path, header: str, said: str, known: Mapping[str, str]) -> str:
    """Return what a column holds by the tester's word."""
    word = _plain(said)
    if word in (FACTOR, DETAIL):
        return (LEVEL if word == FACTOR else DETAIL_OF) + _factor_name(header)
    if word != IGNORED and word not in known:
        raise FileError(
            f'{path}: --column "{header}={said}": "{said}" is none of {", ".join(_MEANINGS)}.'
            + nearest(word, _MEANINGS)
        )
    return IGNORED if word == IGNORED else known[word]


def _meaning(header: str, known: Mapping[str, str]) -> str | None:
    """Return what a column holds by its header; None if it does not say."""
    plain = _plain(header)
    if plain in known:
        return known[plain]
    words = re.findall(r"[a-z]+", plain)
    if _OTHER_PARTS & set(words):
        return None
    if {"run", "time", "length", "duration"} & set(words) and set(words) <= _LENGTH:
        return "minutes"
    told = [word for word in words if word not in _FILLER]
    by_unit = {_UNITS[word]: word for word in (_unit(header), *words) if word in _UNITS}
    if len(by_unit) == 1 and "min" not in by_unit.values():  # "min" is the lowest, too
        ((name, unit),) = by_unit.items()
        allowed = {unit, *_MEAN, *" ".join(FIELDS[name][2]).split()}
        return name if set(told) <= allowed else None
    return known.get(" ".join(told)) or (None if told else _UNITS.get(_unit(header)))


def _plain(header: str) -> str:
    return re.sub(r"[\s_]+", " ", re.sub(r"[\[(].*?[\])]|°\s*[CF]\b", "", header)).strip().lower()


def _unit(header: str) -> str:
    """Return the unit in a header, in small letters: that in brackets, else its last word."""
    text = header.replace("dB(A)", "dBA").replace("dB (A)", "dBA")
    bracketed = re.search(r"[\[(]\s*°?\s*(\w+)\s*[\])]", text)
    last = re.search(r"°?(\w+)\s*$", text)
    found = bracketed or last
    return found[1].lower() if found else ""


def with_unit(name: str, text: str, header: str) -> str:
    """Return a cell, with the unit of its header added if it would be taken in another one without it."""
    unit = _unit(header)
    if name == "clock_mhz" and unit == "ghz":
        return str(1000 * parse_reading(name, text))
    bare = not re.search(r"[A-Za-z]", text)
    if name.endswith("_c") and unit in ("f", "k") and bare:
        return f"{text}{unit.upper()}"
    return f"{text} {unit[0]}" if name == "minutes" and unit in ("s", "sec", "h") and bare else text


def _is_words(cells: Sequence[str]) -> bool:
    """Return whether a column holds words: names of coolers, say, and no readings."""
    said = [cell.strip() for cell in cells if cell.strip()]
    return bool(said) and not any(
        re.match(r"[-+]?\d+([.,]\d+)?\s*(\D{0,6})$", cell) for cell in said
    )


def _factor_name(header: str) -> str:
    return re.sub(r"\s+", "_", _plain(header))


def in_words(name: str) -> str:
    """Return what a column holds, in words."""
    if name in FIELDS:
        return f"the {FIELDS[name][0]}"
    if name.startswith(LEVEL):
        return f'the factor "{name.removeprefix(LEVEL)}"'
    if name.startswith(DETAIL_OF):
        return f"the {name.removeprefix(DETAIL_OF)} of a level"
    return f"the {name}"
