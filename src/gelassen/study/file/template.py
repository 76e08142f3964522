"""A first study file: commented, complete, and made from a few answers."""

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from gelassen.core.foundation.errors import InputError
from gelassen.core.recording.channels import parse_channel

SCHEMA_FILE = ".study.schema.json"
_PAIR = re.compile(r"\s*([^:=]+?)\s*[:=]\s*(.+)")


@dataclass(frozen=True, slots=True, kw_only=True)
class Answers:
    """The content of a new study.

    Attributes
    ----------
    by_hand, by_software
        Factor to its levels; for software, the actuator's channel to its levels.
    known_channels
        Channels of the machine with what they are, kept as comments.
    missing
        What the study needs and the machine does not offer, in words.
    """

    title: str
    machine: str
    limit_c: float
    question: str = ""
    reference: str = "room.air.temp_c"
    compare: str = "hottest core"
    by_hand: Mapping[str, Sequence[str]] = field(default_factory=dict)
    by_software: Mapping[str, Sequence[str]] = field(default_factory=dict)
    combine: str = "full"
    baseline: str | None = None
    kind: str = "steady"
    fixed_times: bool = False
    load: str = "matrix"
    repeats: int = 3
    stop_c: Mapping[str, float] = field(default_factory=dict)
    known_channels: Mapping[str, str] = field(default_factory=dict)
    missing: Sequence[str] = ()
    made_up: bool = False


def parse_factor(text: str, option: str) -> tuple[str, list[str]]:
    """Return name and levels from "cooler: tower, low-profile".

    Raises
    ------
    InputError
        Text without a name or without levels.
    """
    match = _PAIR.fullmatch(text)
    levels = [part.strip() for part in match[2].split(",") if part.strip()] if match else []
    if match is None or not levels:
        raise InputError(
            f'{option} "{text}": write a name and its levels, like "cooler: tower, low"'
        )
    return match[1], levels


def factor_of(channel: str) -> str:
    """Return the name of the factor that an actuator's levels make: power_limit_w, fan_cpu_duty_pct."""
    name = parse_channel(channel)
    parts = "" if name.part == "cpu" and name.item == "package" else f"{name.part}_{name.item}_"
    return f"{parts}{name.quantity}_{name.unit}"


def first_setup(
    by_hand: Mapping[str, Sequence[str]], by_software: Mapping[str, Sequence[str]]
) -> str:
    """Return the name of the setup with the first level of every factor, as `combinations` names it."""
    parts = [levels[0] for levels in by_hand.values()]
    for channel, levels in by_software.items():
        symbol = parse_channel(channel).symbol
        parts.append(f"{float(levels[0]):g} {symbol}" if _is_number(levels[0]) else levels[0])
    return ", ".join(parts)


def study_text(answers: Answers) -> str:
    """Return the text of `study.toml`, with a comment for every choice."""
    lines = [
        f"#:schema {SCHEMA_FILE}",  # by which editors complete the file
        "# What is to be tested. Every key: docs/formats.md. The order: gelassen run FOLDER --dry-run",
        "format = 1",
        f"title = {_quoted(answers.title)}",
        f"question = {_quoted(answers.question)}",
    ]
    if answers.made_up:
        lines.append("made_up = true   # simulated data")
    lines += [f"# MISSING: {text}" for text in answers.missing]
    lines += [
        f"reference = {_quoted(answers.reference)}   # rises are relative to this channel",
        f'compare = {_quoted(answers.compare)}   # or "mean of cores", or any temperature channel',
    ]
    if answers.baseline is not None:
        lines.append(
            f"baseline = {_quoted(answers.baseline)}   # the others are compared against it"
        )
    lines += [
        f'combine = "{answers.combine}"   # "full": all combinations of levels; "baseline": it, and each',
        '                   # other level in its place; "list": only the [setups.NAME] that stand here',
        "# comfort_c = 80     # your own line, below the limit",
        "",
        "[machine]",
        f"name = {_quoted(answers.machine)}",
        f"limit_c = {answers.limit_c:g}   # the chip holds itself back at this temperature",
        "",
        *_factors(answers),
        *_protocol(answers),
        "[load]",
        f"name = {_quoted(answers.load)}   # matrix (the hottest), integer, memory; command, your own",
        "# workers = 4        # cores that work; all if left out",
        "",
        "[guard]",
        "# rise_k_per_s = 3   # stops when a watched temperature rises faster, once the load has set in",
        "fans = true          # stops when a fan that turned stops; or a list of fans, or false",
        "",
        "[guard.stop_c]       # stops at these temperatures, °C",
        *(f"{_quoted(name)} = {limit:g}" for name, limit in answers.stop_c.items()),
        "",
        *_setups(answers),
        *_channels(answers),
    ]
    return "\n".join(lines).rstrip() + "\n"


def _factors(answers: Answers) -> list[str]:
    lines = []
    for name, levels in answers.by_hand.items():
        lines += [
            f"[factors.{_key(name)}]",
            f"levels = [{', '.join(_level(level) for level in levels)}]",
            'changed_by = "hand"   # you are asked for it at the right moment',
            "# What else is known of a level is shown at its turn; of channels, what they should read:",
            f'# details.{_quoted(levels[0])} = {{ price = 45, orientation = "fan towards the door", '
            '"fan.cpu.speed_rpm" = "turns" }',
            "",
        ]
    for channel, levels in answers.by_software.items():
        lines += [
            f"[factors.{_key(factor_of(channel))}]",
            f"levels = [{', '.join(_level(level) for level in levels)}]",
            'changed_by = "software"',
            f"channel = {_quoted(channel)}   # set for each run, and put back",
            "",
        ]
    return lines


def _protocol(answers: Answers) -> list[str]:
    lines = ["[protocol]"]
    if answers.kind == "capacity":
        lines += [
            'kind = "capacity"     # the power climbs until it is known how much the setup sustains',
            'idle = "until rested"',
            'cooldown = "2 min"',
        ]
    elif answers.fixed_times:
        lines += ['idle = "5 min"', 'soak = "20 min"', 'hold = "10 min"', 'cooldown = "5 min"']
    else:
        lines += [
            'idle = "until rested"   # or a time: "5 min"',
            'soak = { until = "known", within_k = 0.5, at_least = "5 min", at_most = "35 min" }',
            'hold = "5 min"',
            'cooldown = "5 min"',
        ]
    lines += [
        f"repeats = {answers.repeats}",
        "remount = true        # each repeat is a new pass over all mountings",
        "baseline_again = true # the baseline once more at the end of each pass, to catch a drift",
        "",
    ]
    if answers.kind == "capacity":
        lines += [
            "[protocol.climb]",
            "# from_w = 30       # the first power; a quarter of the highest if left out",
            "# to_w = 125        # the highest; what is set at present if left out",
            "within_pct = 3      # how well the capacity is to be known",
            "",
        ]
    return lines


def _setups(answers: Answers) -> list[str]:
    if answers.combine == "full" and (answers.by_hand or answers.by_software):
        return []
    named = {name: levels[0] for name, levels in answers.by_hand.items()}
    named |= {factor_of(channel): levels[0] for channel, levels in answers.by_software.items()}
    setup = answers.baseline or "as it is"
    lines = [f"[setups.{_quoted(setup)}]"]
    return [*lines, *(f"{_key(name)} = {_level(level)}" for name, level in named.items()), ""]


def _channels(answers: Answers) -> list[str]:
    if not answers.known_channels:
        return []
    lines = [
        "# What this machine offers. Names, offsets and instruments of your own: docs/bench.md"
    ]
    return lines + [f"#   {name}   {what}" for name, what in answers.known_channels.items()]


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else _quoted(name)


def _level(level: str) -> str:
    return level if _is_number(level) else _quoted(level)


def _is_number(level: str) -> bool:
    return re.fullmatch(r"-?\d+(\.\d+)?", level) is not None
