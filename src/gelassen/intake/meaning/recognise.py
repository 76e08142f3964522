"""What a column is, from the words of its header, its unit and its values.

Doubtful columns are left alone.
"""

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from gelassen.core.recording.channels import slug
from gelassen.core.recording.units import factors, kinds_of
from gelassen.intake.meaning import vocabulary as words
from gelassen.intake.meaning.unit_guess import Spread, guess_unit, plausible
from gelassen.intake.text.cells import folded
from gelassen.intake.text.headers import STATE, Header

SURE, LIKELY, UNSURE = "sure", "likely", "unsure"
NO_PART = "it is not clear which part it belongs to"
UNNAMED = "log"  # stands for the part of channels that no header names
_SOCKET = r"\bsocket (\d+)\b"
_NUMBERED_CHIP = (
    r"(?P<item>cpu\.socket|gpu\.(?:package|hotspot|memory))(?P<number>\d+)"
    r"(?:_(?P<core>core\w+))?\.(?P<quantity>\w+)"
)
_NUMBERED_CORE = r"(?:\bcore|kern|\bcoeur|\bnucleo)[a-z]* (\d+)\b"


@dataclass(frozen=True, slots=True)
class Guess:
    """The meaning found for a column.

    Attributes
    ----------
    channel
        Its channel; None if it is left alone.
    unit
        The unit its values have ("" if it is the channel's own).
    confidence
        "sure", "likely", or "" where it is left alone.
    why
        Why it is left alone, or what was guessed.
    only_named
        Whether nothing was guessed but the name of the item.
    """

    channel: str | None
    unit: str = ""
    confidence: str = ""
    why: str = ""
    only_named: bool = False


class _Reading(NamedTuple):
    """The words of one header, before its unit is settled."""

    header: Header
    text: str
    part: str
    quantity: str


_SUFFIX = {
    "temperature": "temp_c", "clock": "clock_mhz", "power": "power_w", "voltage": "voltage_v",
    "current": "current_a",
    "speed": "speed_rpm", "duty": "duty_pct", "load": "load_pct", "flow": "flow_lpm", "noise": "level_dba",
    "rate": "rate_per_s", "energy": "energy_j", "count": "events_count",
}  # fmt: skip
_OF_UNIT = {
    "c": "temperature", "w": "power", "v": "voltage", "a": "current", "rpm": "speed",
    "lpm": "flow", "dba": "noise",
    "per_s": "rate", "j": "energy", "mhz": "clock",
}  # fmt: skip


def recognise(
    headers: Sequence[Header], spreads: Mapping[int, Spread], *, taken: Collection[str] = ()
) -> list[Guess]:
    """Find the meaning of each column.

    Parameters
    ----------
    headers
        All columns that are not the time, in order.
    spreads
        Position in `headers` to the spread of its values; columns without numbers are not in it.
    taken
        Channels that other columns are already.
    """
    readings = [_read(header, spreads.get(k)) for k, header in enumerate(headers)]
    numbered = [
        r for r in readings if r.part == "cpu" and re.fullmatch(r"(.* )?cpu \d+( .*)?", r.text)
    ]
    many = len({re.search(r"cpu (\d+)", r.text)[1] for r in numbered}) > 2  # type: ignore[index]
    fahrenheit = any(
        r.quantity == "temperature" and not r.header.unit and k in spreads
        and (spreads[k].high > 125 or (r.part == "room" and 50 < spreads[k].middle < 120))
        and spreads[k].middle < 250
        for k, r in enumerate(readings)
    )  # fmt: skip
    guesses = [
        _guess(r, spreads.get(k), many_cpus=many, fahrenheit=fahrenheit)
        for k, r in enumerate(readings)
    ]
    guesses = _without_lone_number(_with_inlet_air(readings, guesses, taken), taken)
    for quantity in ("clock", "load", "power"):
        _the_only_one(quantity, readings, guesses, taken)
    _the_only_chip(readings, guesses, taken)
    _the_only_supply(readings, guesses, taken)
    return _each_once(headers, guesses, taken)


def _with_inlet_air(
    readings: Sequence[_Reading], guesses: Sequence[Guess], taken: Collection[str]
) -> list[Guess]:
    """Name the air that enters a machine as its room. A log with a room or a liquid loop stays as it is."""
    known = {c.partition(".")[0] for c in (*(g.channel or "" for g in guesses), *taken)}
    if known & {"room", "loop"}:
        return list(guesses)
    return [
        replace(
            guess, channel="room.inlet.temp_c", confidence=LIKELY,
            why="the air that enters is taken as the room",
        )
        if guess.why == NO_PART and r.quantity == "temperature" and _only_inlet(r.text)
        else guess
        for r, guess in zip(readings, guesses, strict=True)
    ]  # fmt: skip


def _only_inlet(text: str) -> bool:
    rest = words.taken_out((*words.INLET_AIR, *words.QUANTITIES["temperature"]), text).split()
    return words.found(words.INLET_AIR, text) and not set(rest) - words.FILLERS


def _without_lone_number(guesses: Sequence[Guess], taken: Collection[str]) -> list[Guess]:
    """Leave the number out of the channels of a processor or card if the log has only one of the kind."""
    channels = [*(guess.channel or "" for guess in guesses), *taken]
    numbered = {c: match for c in channels if (match := re.fullmatch(_NUMBERED_CHIP, c))}
    numbers: dict[str, set[str]] = {}
    for channel, match in numbered.items():
        numbers.setdefault(channel[:3], set()).add(match["number"])

    def plain(channel: str) -> str:
        match = numbered[channel]
        item = match["item"].replace("socket", match["core"] or "package")
        return f"{item}.{match['quantity']}"

    lone = {
        channel: plain(channel) for channel in numbered
        if len(numbers[channel[:3]]) == 1 and plain(channel) not in channels
    }  # fmt: skip
    return [
        replace(guess, channel=lone.get(guess.channel or "", guess.channel)) for guess in guesses
    ]


def _the_only_one(
    quantity: str, readings: Sequence[_Reading], guesses: list[Guess], taken: Collection[str]
) -> None:
    """Use the only clock or load as the processor's, where its header names no part."""
    suffix = _SUFFIX[quantity]
    others = [*(g.channel for g in guesses if g.channel), *taken]
    start = "cpu." if quantity != "power" else ""  # a second power may be the processor's
    if any(
        c.startswith(start) and c.endswith(suffix)
        for c in others
        if not c.startswith(UNNAMED + ".")
    ):
        return
    alone = [
        k
        for k, r in enumerate(readings)
        if r.quantity == quantity
        and guesses[k].why == NO_PART
        and (guesses[k].channel or "").endswith(f".{suffix}")
    ]
    if len(alone) != 1 or not readings[alone[0]].header.unit:
        return
    unit = readings[alone[0]].header.unit
    item = "package" if quantity == "power" else "all"
    guesses[alone[0]] = Guess(
        f"cpu.{item}.{suffix}", unit, LIKELY, f"the only {quantity}: assumed to be the processor's"
    )


def _the_only_chip(
    readings: Sequence[_Reading], guesses: list[Guess], taken: Collection[str]
) -> None:
    """Use the temperature of "the SoC" as the processor's if the log has no other of a processor."""
    channels = [*(guess.channel or "" for guess in guesses), *taken]
    if any(c.startswith(("cpu.", "gpu.")) and c.endswith(".temp_c") for c in channels):
        return
    chips = [
        k
        for k, r in enumerate(readings)
        if r.quantity == "temperature"
        and guesses[k].why.endswith(NO_PART)
        and words.found(words.CHIP, r.text)
    ]
    if len(chips) == 1:
        guesses[chips[0]] = replace(
            guesses[chips[0]], channel="cpu.package.temp_c", confidence=LIKELY,
            why="the only chip: taken as the processor",
        )  # fmt: skip


def _the_only_supply(
    readings: Sequence[_Reading], guesses: list[Guess], taken: Collection[str]
) -> None:
    """Use the only voltage and the only current, of no part that is named, as those of the supply."""
    pair = []
    for quantity in ("voltage", "current"):
        suffix = f".{_SUFFIX[quantity]}"
        channels = [c for c in (*(g.channel or "" for g in guesses), *taken) if c.endswith(suffix)]
        if len(channels) != 1 or not channels[0].startswith(f"{UNNAMED}."):
            return
        pair += [k for k, r in enumerate(readings) if guesses[k].channel == channels[0]]
    for k in pair if len(pair) == 2 else ():
        guesses[k] = replace(
            guesses[k], channel=f"wall.supply.{_SUFFIX[readings[k].quantity]}", confidence=LIKELY,
            why=f"the only {readings[k].quantity}: assumed to be the supply's",
        )  # fmt: skip


def _read(header: Header, spread: Spread | None) -> _Reading:
    text = header_words(header.words)
    kinds = kinds_of(header.unit) if header.unit and header.unit != STATE else ()
    part = next((name for name, stems in words.PARTS.items() if words.found(stems, text)), "")
    numbered_core = bool(re.search(_NUMBERED_CORE, text)) or bool(
        re.fullmatch(r"c \d+", text) and ("c" in kinds or "mhz" in kinds)
    )
    if (not part and (numbered_core or words.found(words.CORE[:4], text))) or (
        part in ("board", "case") and numbered_core
    ):
        part = "cpu"
    if part in ("", "wall") and re.search(_SOCKET, text):
        part = "cpu"
    quantity = _quantity(text, kinds, header.unit, part, spread)
    if not part and quantity in ("voltage", "current", "power") and words.found(words.INPUT, text):
        part = "" if re.search(r"\d", text) else "wall"  # "VIN4" is any input of a sensor chip
    if quantity == "speed" and "rpm" in kinds and part != "pump":
        part = "fan"  # nothing else here turns
    return _Reading(header, text, part, quantity)


def header_words(text: str) -> str:
    """Return the words of a header in lower case, split also at changes of case and at digits."""
    text = re.sub(r"(?<=[a-zà-ÿ])(?=[A-Z])", " ", text.replace("SoC", "soc"))
    text = re.sub(r"[^\w%°]+|_", " ", text)
    text = folded(text)
    text = re.sub(r"(?<=[a-z])(?=\d)|(?<=\d)(?=[a-z])", " ", text)
    return " ".join(re.sub(r"\b(cpu|gpu|vrm)(?=[a-z]{3})", r"\1 ", text).split())


def _quantity(
    text: str, kinds: tuple[str, ...], unit: str, part: str, spread: Spread | None
) -> str:
    spoken = [name for name, stems in words.QUANTITIES.items() if words.found(stems, text)]
    if unit == STATE or (not unit and spread is not None and spread.states):
        return "throttle" if "throttle" in spoken else "state"
    for name in ("margin", "throttle"):
        if name in spoken and (name == "margin" or not kinds or set(kinds) <= {"pct"}):
            return name
    if "pct" in kinds:
        if "duty" in spoken or part in ("fan", "pump"):
            return "duty"
        return "load" if "load" in spoken else ""
    if kinds:
        fitting = [_OF_UNIT[kind] for kind in kinds if kind in _OF_UNIT]
        for name in spoken:
            if name in fitting:
                return name
        if fitting == ["clock", "speed", "rate"] or set(fitting) >= {"clock", "speed"}:  # Hz
            return "speed" if part in ("fan", "pump") else "rate" if "rate" in spoken else "clock"
        if "speed" in fitting and part not in ("fan", "pump") and "rate" in fitting:
            return "rate"
        return fitting[0] if fitting else ""
    if not unit and spoken:
        first = spoken[0]
        if part in ("fan", "pump") and first in ("speed", "power", "load") and spread is not None:
            return "duty" if spread.high <= 100 else "speed"
        return first
    if not unit and (words.found(words.HOT_SPOT, text) or part in ("room", "coolant")):
        return "temperature"
    if not unit and text.startswith("t ") and (part or words.found(words.CHIP, text)):
        return "temperature"
    if not unit and part in ("fan", "pump") and spread is not None and spread.high > 150:
        return "speed"
    return ""


def _guess(r: _Reading, spread: Spread | None, *, many_cpus: bool, fahrenheit: bool) -> Guess:
    left = _left_alone(r, spread)
    if left and left != NO_PART:
        return Guess(None, why=left)
    unit, confidence, why = r.header.unit, SURE, ""
    if r.quantity in ("throttle",):
        return _throttle(r, spread)
    suffix = _SUFFIX[r.quantity]
    own = next(k for k in ("per_s", suffix.rsplit("_", 1)[1]) if suffix.endswith("_" + k))
    if not unit and spread is not None:
        unit = "°F" if own == "c" and fahrenheit else guess_unit(own, spread)
        if not unit:
            return Guess(
                None, why=f"the header names no unit, and its values fit none of {r.quantity}"
            )
        confidence, why = LIKELY, f"no unit in the header: taken as {unit} from its values"
    conversion = factors(unit, own)
    if conversion is None:
        return Guess(None, why=f"{r.header.unit} is not a unit of {r.quantity}")
    doubt = "" if spread is None else plausible(own, unit, spread, conversion)
    if doubt:
        return Guess(None, why=doubt)
    if own == "w" and words.found(words.LIMIT, r.text):
        suffix, confidence = "power_limit_w", LIKELY
    if left == NO_PART:  # kept, so that nothing is lost for want of a name
        return Guess(f"{UNNAMED}.{_item_of(r)}.{suffix}", unit, UNSURE, NO_PART)
    part, item, left_over = _place(r, many_cpus)
    if left_over and confidence == SURE:
        named = f'"{left_over}" is kept as its name'
        return Guess(f"{part}.{item}.{suffix}", unit, LIKELY, named, only_named=True)
    return Guess(f"{part}.{item}.{suffix}", unit, confidence, why)


def _item_of(r: _Reading) -> str:
    """Return the item of a channel without a part: what is left of its header, else its quantity."""
    rest = words.taken_out((*words.QUANTITIES[r.quantity], *words.LIMIT), r.text).split()
    rest = [word for word in rest if word not in words.FILLERS]
    named = "".join(rest)
    if not named or named.isdigit():
        named = _SUFFIX[r.quantity].rsplit("_", 1)[0] + named
    return slug(named)


def _left_alone(r: _Reading, spread: Spread | None) -> str:
    """Return why a column cannot be a channel, or "" if it can."""
    if spread is None:
        return "it holds no numbers; if it says what ran, map it to mark"
    if r.quantity == "margin":
        return "it is a distance to a limit, not a reading"
    if r.quantity == "throttle":
        return (
            "" if r.part in ("", "cpu", "gpu", "vrm") else "it is not clear which part it describes"
        )
    if r.quantity in ("", "state"):
        bare = not r.header.unit and not re.search(r"[\[(/]", r.header.text)
        return "what it measures is not clear" + (", and it names no unit" if bare else "")
    if r.quantity == "rate" and r.part not in ("", "cpu", "gpu"):
        return "what it measures is not clear"
    without = r.part == "" and r.quantity not in ("flow", "noise", "rate")
    statistics = (words.AVERAGE, words.LOWEST, words.HIGHEST)
    over_cores = r.part == "cpu" and (
        words.found(words.CORE[:4], r.text) or words.found(("cores",), r.text)
    )
    if any(words.found(kind, r.text) for kind in statistics) and not (
        over_cores and not re.search(r"\d", r.text) and not words.found(words.LOWEST, r.text)
    ):
        return "it seems to be a running mean or extreme of another column"
    if words.found(words.LIMIT, r.text) and r.quantity != "power":
        return "it seems to be a limit or a target, not a reading"
    return NO_PART if without else ""


def _throttle(r: _Reading, spread: Spread | None) -> Guess:
    part = r.part if r.part in ("gpu", "vrm") else "cpu"
    if "count" in r.text or "events" in r.text or "anzahl" in r.text:
        return Guess(f"{part}.package.throttle_count", "", LIKELY if not r.part else SURE)
    if spread is None or not spread.states:
        return Guess(None, why="it describes throttling, but neither as a state nor as a count")
    core = re.search(_NUMBERED_CORE, r.text)
    item = f"core{core[1]}" if core and part == "cpu" else "package"
    power = words.found(
        (
            "power",
            "leistung",
            "puissance",
            "potencia",
            "current",
            "strom",
            "courant",
            "pl1",
            "pl2",
            "tdp",
        ),
        r.text,
    )
    heat = words.found(
        ("therm", "temp", "heat", "hitze", "chaleur", "calor", "termic", "hot"), r.text
    )
    if power and not heat:
        return Guess(f"{part}.{item}.held_by_power_flag", "", SURE if r.part else LIKELY)
    if heat and not power:
        return Guess(f"{part}.{item}.held_by_heat_flag", "", SURE if r.part else LIKELY)
    return Guess(f"{part}.{item}.held_back_flag", "", LIKELY, "what holds it back is not said")


def _place(r: _Reading, many_cpus: bool) -> tuple[str, str, str]:
    """Return part and item of the channel, and the words that were not understood."""
    text = r.text
    rest = text
    for stems in (
        words.PARTS.get(r.part, ()),
        words.QUANTITIES.get(r.quantity, ()),
        words.LIMIT if r.quantity == "power" else (),
    ):
        rest = words.taken_out(stems, rest)
    symbol = {"temperature": "t", "power": "p", "clock": "f", "voltage": "u", "current": "i"}.get(
        r.quantity
    )
    if symbol is not None and text.startswith(symbol + " "):  # as in T_CPU/°C
        rest = re.sub(rf"\b{symbol}\b", " ", rest, count=1)
    tokens = [t for t in rest.split() if t not in words.FILLERS]
    rest = " ".join(tokens)
    number = next((t for t in tokens if t.isdigit()), "")
    if r.part == "cpu":
        return _processor(r, rest, number, many_cpus)
    if r.part == "gpu":
        return _graphics(r, rest)
    if r.quantity == "flow":
        return "loop", "flow" + number, ""
    if r.quantity == "noise" and r.part in ("", "room"):
        return "room", "noise" + number, ""
    if r.quantity == "rate" and not r.part:
        return "load", "work", ""
    if r.part == "room":
        return (
            "room",
            "air" + number if not [t for t in tokens if not t.isdigit()] else slug(rest),
            "",
        )
    if r.part == "coolant":
        side = (
            "_in" if words.found(words.IN, text) else "_out" if words.found(words.OUT, text) else ""
        )
        return "loop", "coolant" + side + number, ""
    if r.part == "pump":
        return "loop", "pump" + number, ""
    if r.part == "wall":
        return "wall", "supply" + number, ""
    if r.part == "drive":
        kind = next((w for w in ("nvme", "ssd", "hdd") if w in text), "")
        others = [t for t in tokens if t not in ("nvme", "ssd", "hdd")]
        return "drive", slug(kind + "".join(others)) if kind or others else "1", ""
    if r.part == "case":
        return "case", slug("".join(tokens)) if tokens else "air", ""
    if r.part == "board" and not tokens:
        return "board", "chipset" if "chipset" in text or "pch" in text else "1", ""
    return r.part, slug("".join(tokens)) if tokens else "1", ""


def _processor(r: _Reading, rest: str, number: str, many_cpus: bool) -> tuple[str, str, str]:
    over_all = "all" if r.quantity in ("clock", "load") else "package"
    core = re.search(_NUMBERED_CORE, r.text) or re.fullmatch(r"c (\d+)", r.text)
    outside = " ".join(
        t
        for t in words.taken_out(words.PACKAGE, words.taken_out(words.CORE[:4], rest)).split()
        if t != "c"
    )
    if core:
        outside = " ".join(_without_first(outside.split(), core[1]))
        if outside in ("p", "e"):
            return "cpu", f"core_{outside}{core[1]}", ""
        if outside.isdigit() and re.search(rf"\b(?:cpu|socket) {outside}\b", r.text):
            return "cpu", f"socket{outside}_core{core[1]}", ""
        return "cpu", f"core{core[1]}" + (f"_{slug(outside)}" if outside else ""), outside
    if words.found(words.CORE[:4], r.text) or "cores" in r.text:
        outside = words.taken_out((*words.HIGHEST, *words.AVERAGE), outside)
        if words.found(words.HIGHEST, r.text):
            return "cpu", "hottest" if r.quantity == "temperature" else "fastest", outside
        if words.found(words.AVERAGE, r.text) and r.quantity == "temperature":
            return "cpu", "mean", outside
        if r.quantity in ("clock", "load") and not outside:
            return "cpu", "all", ""
        # "CPU core" as one: power and voltage of the cores without the rest of the package.
        return (
            "cpu",
            "cores"
            if r.quantity == "power"
            else "package"
            if r.quantity == "temperature"
            else "core",
            outside,
        )
    if re.search(_SOCKET, r.text) and words.taken_out(("socket",), outside) == number:
        return "cpu", f"socket{number}", ""
    if number and outside == number:
        if many_cpus:
            return "cpu", f"core{number}", ""
        return "cpu", f"socket{number}", f"number {number}"
    if not outside:
        return (
            "cpu",
            over_all
            if not words.found(("package", "pkg", "paket"), r.text) or over_all == "all"
            else "package",
            "",
        )
    return "cpu", slug(outside), outside


def _without_first(tokens: list[str], taken: str) -> list[str]:
    if taken in tokens:
        tokens.remove(taken)
    return tokens


def _graphics(r: _Reading, rest: str) -> tuple[str, str, str]:
    card = re.search(r"\bgpu (\d+)\b", r.text)
    number = card[1] if card is not None else ""
    if words.found(words.PARTS["memory"], r.text):
        return "gpu", "memory" + number, ""
    if words.found(words.HOT_SPOT, r.text):
        return "gpu", "hotspot" + number, ""
    rest = words.taken_out(
        ("core", "kern", "chip", "card", "karte", "carte", "tarjeta", *words.PACKAGE), rest
    )
    if not rest or rest.isdigit():
        return "gpu", "package" + rest, ""
    return "gpu", slug(rest), rest


# Items that differ in their number only.
_COUNTED = ("fan", "vrm", "drive", "memory", "board", "room")


def _each_once(
    headers: Sequence[Header], guesses: list[Guess], taken: Collection[str]
) -> list[Guess]:
    """Give each channel to one column only: first the surer one, then the leftmost one."""
    result = list(guesses)
    order = sorted(range(len(guesses)), key=lambda k: (guesses[k].confidence != SURE, k))
    owners: dict[str, int] = dict.fromkeys(taken, -1)
    for k in order:
        channel = result[k].channel
        if channel is None:
            continue
        if channel not in owners:
            owners[channel] = k
            continue
        part, item, last = channel.split(".")
        if part in _COUNTED:
            base = item.rstrip("0123456789")
            n = int(item[len(base) :] or 2)
            while f"{part}.{base}{n}.{last}" in owners:
                n += 1
            owners[f"{part}.{base}{n}.{last}"] = k
            result[k] = replace(
                result[k], channel=f"{part}.{base}{n}.{last}", confidence=LIKELY,
                why="numbered, since another column has the same words",
            )  # fmt: skip
        else:
            other = (
                f'"{headers[owners[channel]].text}"' if owners[channel] >= 0 else "another column"
            )
            result[k] = Guess(None, why=f"it reads like {other}, which is {channel} already")
    return result
