"""The channels of a bench as a table. It takes plain values, so it needs no bench."""

import textwrap
from collections.abc import Mapping, Sequence

from gelassen.core.probing.channel_response import Response
from gelassen.core.recording.channels import parse_channel
from gelassen.show.numbers import digits_of, fixed
from gelassen.show.tables import aligned

_ALARM = ".alarm_flag"
# The channels that testers look at first.
_ORDER = (
    "room",
    "cpu",
    "gpu",
    "memory",
    "vrm",
    "loop",
    "case",
    "fan",
    "board",
    "drive",
    "wall",
    "load",
)


def _rank(row: Sequence[str]) -> int:
    part = row[0].split(".", 1)[0]
    return _ORDER.index(part) if part in _ORDER else len(_ORDER)


def channels_text(
    rows: Sequence[tuple[str, str, str, str, str]],
    settable: Sequence[tuple[str, str, str, str]],
    missing: Sequence[tuple[str, str]],
) -> str:
    """Return channels (name, value, resolution, what, problem), what can be set, what is missing."""
    rows = sorted(rows, key=_rank)
    alarms = [(name, value) for name, value, *_ in rows if name.endswith(_ALARM)]
    good = [
        (name, value, step, what)
        for name, value, step, what, problem in rows
        if not problem and not name.endswith(_ALARM)
    ]
    bad = [(name, problem) for name, _, _, _, problem in rows if problem]
    parts = []
    if good:
        width = max(len(name) for name, *_ in good)
        values = max(len(value) for _, value, *_ in good)
        steps = max(len("step"), *(len(step) for _, _, step, _ in good))
        header = (
            f"{'channel'.ljust(width)}  {'now'.rjust(values)}  {'step'.rjust(steps)}  what it is"
        )
        lines = [
            f"{name.ljust(width)}  {value.rjust(values)}  {step.rjust(steps)}  {what}"
            for name, value, step, what in good
        ]
        parts.append("\n".join([header, *lines]))
    if alarms:
        on = [name.removesuffix(_ALARM) for name, value in alarms if value not in ("0", "–")]
        told = "on: " + ", ".join(on) if on else "none is on"
        parts.append(f"alarms, of {len(alarms)} channels ({_ALARM[1:]}): {told}")
    if bad:
        parts.append("cannot be read\n" + _columns(bad))
    if settable:
        parts.append(
            "can be set for a run, and is put back afterwards (gelassen record --set CHANNEL=VALUE)\n"
            + _columns(settable)
        )
    if missing:
        parts.append("\n".join(["missing", *(_paragraph(f"{w}: {why}") for w, why in missing)]))
    return "\n\n".join(parts)


def _columns(rows: Sequence[Sequence[str]]) -> str:
    """Return rows of text, all columns to the left."""
    widths = [max(len(row[k]) for row in rows) for k in range(len(rows[0]))]
    lines = []
    for row in rows:
        cells = [cell.ljust(width) for cell, width in zip(row, widths, strict=True)]
        lines.append("  " + "  ".join(cells).rstrip())
    return "\n".join(lines)


PROBE_HEADER = (
    "channel", "idle", "loaded", "change", "follows after", "step", "new every", "what it says it is",
)  # fmt: skip


def probe_rows(
    found: Mapping[str, Response | None], what: Mapping[str, str]
) -> list[tuple[str, ...]]:
    """Return the channels that moved, those that changed most against their own scale first."""
    moved = {name: r for name, r in found.items() if r is not None and r.moved}
    order = sorted(moved, key=lambda n: (parse_channel(n).unit, -abs(moved[n].change)))
    return [(*_probe_row(name, moved[name]), what.get(name, "")) for name in order]


def _probe_row(name: str, response: Response) -> tuple[str, ...]:
    channel = parse_channel(name)
    digits = digits_of(channel.unit)
    # A difference of temperatures is in K.
    change = fixed(response.change, digits, "K" if channel.unit == "c" else channel.symbol)
    return (
        name,
        fixed(response.idle, digits, channel.symbol),
        fixed(response.loaded, digits, channel.symbol),
        change if change.startswith("-") else f"+{change}",
        "–" if response.follows_s is None else f"{response.follows_s:.1f} s",
        f"{response.step:.3g}" if response.step else "–",
        "–" if response.renewed_s is None else f"{response.renewed_s:.1f} s",
    )


def probe_text(found: Mapping[str, Response | None], what: Mapping[str, str]) -> str:
    """Return which channels moved when load came on, which did not, and which gave nothing."""
    rows = probe_rows(found, what)
    parts = ["moved when load was put on"]
    if rows:  # words to the left, numbers to the right
        parts[0] += "\n" + aligned(PROBE_HEADER, rows, left=(0, len(PROBE_HEADER) - 1))
    else:
        parts[0] += ": none"
    still = [name for name, r in found.items() if r is not None and not r.moved]
    silent = [name for name, r in found.items() if r is None]
    if still:
        parts.append("did not move\n" + _wrapped(still))
    if silent:
        parts.append("gave no reading\n" + _wrapped(silent))
    parts.append(
        'A part further from the chip needs longer: "follows after" is counted to 63 % of what was '
        "seen here."
    )
    return "\n\n".join(parts)


def _wrapped(names: Sequence[str]) -> str:
    return _paragraph(", ".join(names))


def _paragraph(text: str) -> str:
    return textwrap.fill(
        text, 98, initial_indent="  ", subsequent_indent="  ", break_on_hyphens=False
    )
