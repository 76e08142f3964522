"""Machines with several processors or graphics cards: which channels belong to which of them.

The number of a processor or card stands after the item: cpu.package1, cpu.package1_core3, cpu.socket2,
gpu.package2, gpu.hotspot2. The kernel gives cards the address of their slot instead: gpu.package_0300. The
only processor or card has no number. Neither has the first processor where the kernel counts them.
"""

import re
from functools import lru_cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import pandas as pd

_NUMBER = r"(?:_?(\d+)|_([0-9a-f]{4,}))?"
_CHIP = re.compile(
    rf"(?:cpu\.(?:package|socket)|gpu\.(?:package|board|hotspot|memory)){_NUMBER}(?:_core\w+)?\.\w+"
)
# The temperature of a card's board is not that of its chip. Its power is that of the whole card.
_WHOLE = re.compile(
    rf"(?:cpu\.(?:package|socket)|gpu\.(?:package|board(?=\w*\.power_w))){_NUMBER}\.\w+"
)
_CORE = re.compile(r"cpu\.(?:(?:package|socket)\d+_)?core\w*\.temp_c")


def chip_of(channel: str) -> str:
    """Return the number of the processor or card that a channel belongs to; "" if its name has none."""
    match = _CHIP.fullmatch(channel)
    return "" if match is None else match[1] or match[2] or ""


def of_chip(names: list[str], chip: str) -> list[str]:
    """Return the channels of this processor or card.

    Without any, they are those that have no number, and never those of another one. A part without a number
    has no chip of its own: then they are all.
    """
    own = [name for name in names if chip_of(name) == chip]
    if own or not chip:
        return own or names
    return [name for name in names if not chip_of(name)]


def whole_chips(frame: "pd.DataFrame", part: str, quantity: str) -> list[str]:
    """Return the channels of this quantity that each stand for one whole processor or card."""
    return [
        name for name in frame.columns
        if name.startswith(f"{part}.") and name.endswith(f".{quantity}") and _WHOLE.fullmatch(name)
    ]  # fmt: skip


@lru_cache(maxsize=4096)  # asked of every channel at every sample
def is_core(channel: str) -> bool:
    """Return whether a channel is the temperature of one core."""
    return _CORE.fullmatch(channel) is not None


def core_channels(frame: "pd.DataFrame") -> list[str]:
    """Return the temperatures of single cores, of all processors."""
    return [name for name in frame.columns if is_core(name)]
