"""Means over blocks of time, one line a block."""

import pandas as pd

from gelassen.core.recording.channels import parse_channel
from gelassen.show.numbers import digits_of, fixed, moment

_MOST_COLUMNS = 8
# What a tester looks at together; single cores and flags are in CSV and JSON.
_ENDINGS = (".temp_c", ".power_w", ".clock_mhz", ".speed_rpm", ".rate_per_s")


def block_rows(means: pd.DataFrame) -> tuple[tuple[str, ...], list[tuple[str, ...]]]:
    """Return header and rows: start of the block, samples, and the channels that matter most."""
    channels = _chosen([str(name) for name in means.columns[2:]])
    units = {name: parse_channel(name) for name in channels}
    header = ("from", "samples", *(f"{name} ({units[name].symbol})" for name in channels))
    rows = [
        (
            moment(float(row["t_s"])),
            f"{row['samples']:.0f}",
            *(fixed(float(row[name]), digits_of(units[name].unit)) for name in channels),
        )
        for _, row in means.iterrows()
    ]
    return header, rows


def _chosen(names: list[str]) -> list[str]:
    """Return the channels for people: each kind once over, no single cores."""
    found = []
    for ending in _ENDINGS:
        kind = [n for n in names if n.endswith(ending) and not n.startswith("cpu.core")]
        if not kind and ending != ".rate_per_s":
            kind = [n for n in names if n.endswith(ending)][:1]
        found += kind[:3]
    return found[:_MOST_COLUMNS]
