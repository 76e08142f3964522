"""Channels as people call them: "core 3", "room", "fan front 1"."""

import re

from gelassen.core.recording.channels import is_channel, parse_channel
from gelassen.core.recording.chips import chip_of

_PARTS = {
    "cpu": "processor", "gpu": "graphics", "vrm": "regulator", "load": "", "log": "",
}  # fmt: skip
_CHIPS = {"cpu": "processor", "gpu": "graphics card"}
_WHOLE = {
    "cpu.package": "processor", "cpu.all": "processor", "room.air": "room", "case.air": "case air",
    "loop.coolant": "coolant", "loop.coolant_in": "coolant in", "loop.coolant_out": "coolant out",
    "loop.flow": "flow", "wall.supply": "wall", "load.work": "work", "load.program": "score",
    "room.noise": "noise", "gpu.hotspot": "graphics hot spot", "gpu.package": "graphics",
}  # fmt: skip


def channel_words(name: str) -> str:
    """Return a channel's name in words, without its quantity and unit."""
    channel = parse_channel(name)
    key = f"{channel.part}.{channel.item}"
    if key in _WHOLE:
        return _WHOLE[key]
    chip = chip_of(name)
    if chip and chip.isdigit():
        # The number names the card or the processor: "graphics card 2 hot spot", "processor 1 core 3".
        of, rest = _CHIPS[channel.part], channel.item.replace(chip, "", 1).strip("_")
        rest = re.sub(r"^(package|socket)_?", "", rest).replace("hotspot", "hot spot")
        return f"{of} {chip} {re.sub(r'(?<=[a-z])(?=[0-9])', ' ', rest)}".strip()
    item = re.sub(r"(?<=[a-z])(?=\d)", " ", channel.item.replace("_", " "))
    part = _PARTS.get(channel.part, channel.part)
    if channel.part == "cpu" and channel.item.startswith("core"):
        return item
    return f"{part} {item}".strip()


def judged_words(name: str) -> str:
    """Return what a run is judged by in words: a channel, or words already, such as "hottest core"."""
    return channel_words(name) if is_channel(name) else name
