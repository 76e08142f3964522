"""Power of a part from its voltage and current, where no power was read."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import pandas as pd


def pairs_of_power(names: Sequence[str]) -> dict[str, tuple[str, str]]:
    """Return the powers from a voltage and a current of one part, by channel name."""
    found = {}
    for name in names:
        if name.endswith(".voltage_v"):
            base = name.removesuffix(".voltage_v")
            power, current = f"{base}.power_w", f"{base}.current_a"
            if current in names and power not in names:
                found[power] = (name, current)
    return found


def with_power(frame: "pd.DataFrame") -> tuple["pd.DataFrame", dict[str, tuple[str, str]]]:
    """Return a table with the powers that its voltages and currents give, and where each comes from."""
    pairs = pairs_of_power([str(name) for name in frame.columns])
    powers = {power: frame[volts] * frame[amps] for power, (volts, amps) in pairs.items()}
    return (frame.assign(**powers) if powers else frame), pairs
