"""Machines with several processors or graphics cards: which channels belong to which of them.

The first processor of a machine has no number: cpu.package, cpu.core3. Others have one: cpu.package1,
cpu.package1_core3, cpu.socket2. Cards are numbered likewise: gpu.package2, gpu.hotspot2.
"""

import re
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import pandas as pd

_CHIP = re.compile(
    r"cpu\.(?:package|socket)_?(?P<cpu>\w*?)(?:_core\w+)?\.\w+"
    r"|gpu\.(?:package|board|hotspot|memory|core)_?(?P<gpu>\w*)\.\w+"
)
_WHOLE = re.compile(
    r"(?:cpu\.(?:package|socket)|gpu\.(?!memory|hotspot)[a-z]+)(?:_?\w*\d\w*)?\.\w+"
)
_CORE = re.compile(r"cpu\.(?:(?:package|socket)\w*_)?core\w*\.temp_c")


def chip_of(channel: str) -> str:
    """Return which processor or card a channel belongs to, as in its name; "" for the first or only one."""
    match = _CHIP.fullmatch(channel)
    return "" if match is None else match["cpu"] or match["gpu"] or ""


def whole_chips(frame: "pd.DataFrame", part: str, quantity: str) -> list[str]:
    """Return the channels of this quantity that each stand for one whole processor or card."""
    return [
        name for name in frame.columns
        if name.startswith(f"{part}.") and name.endswith(f".{quantity}")
        and "_core" not in name and _WHOLE.fullmatch(name)
    ]  # fmt: skip


def is_core(channel: str) -> bool:
    """Return whether this is the temperature of a single core, of any processor."""
    return _CORE.fullmatch(channel) is not None


def core_channels(frame: "pd.DataFrame") -> list[str]:
    """Return the temperature channels of single cores, of all processors."""
    return [name for name in frame.columns if is_core(name)]


def of_chip(names: list[str], chip: str) -> list[str]:
    """Return the channels of this processor or card; all of them if it has none of its own."""
    return [name for name in names if chip_of(name) == chip] or names
