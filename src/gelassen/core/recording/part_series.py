"""The series of the judged part: power, clock, load, throttle counters and flags."""

from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.foundation.inputs import Floats
from gelassen.core.recording.chips import chip_of, of_chip, whole_chips
from gelassen.core.recording.judging import hottest_reading
from gelassen.core.recording.series import columns_of, highest_of, mean_of, read_ones, series_of


@dataclass(frozen=True, slots=True)
class PartSeries:
    """Series of one part, one entry a sample; None where it was not logged."""

    hottest_c: Floats  # the temperature that its limit applies to
    power_w: Floats | None
    clock_mhz: Floats | None
    load_pct: Floats | None
    throttle_count: Floats | None
    heat_flag: Floats | None
    power_flag: Floats | None
    is_processor: bool


def part_series(frame: pd.DataFrame, channel: str, temperature_c: Floats) -> PartSeries:
    """Return the series of the graphics card if that is what is judged, else of the processor.

    Regulators, drives and boards have no power of their own in a log: the processor's warms them.
    """
    part = "gpu" if channel.startswith("gpu.") else "cpu"
    processor, chip = part == "cpu", chip_of(channel)
    return PartSeries(
        hottest_c=hottest_reading(frame, temperature_c) if processor else temperature_c,
        power_w=part_level(frame, part, "power_w", chip),
        clock_mhz=(
            _mean_clock(frame, chip) if processor else part_level(frame, part, "clock_mhz", chip)
        ),
        load_pct=part_level(frame, part, "load_pct", chip),
        throttle_count=_thermal_count(frame, part, chip),
        heat_flag=_any_flag(frame, part, ".held_by_heat_flag", chip),
        power_flag=_any_flag(frame, part, ".held_by_power_flag", chip),
        is_processor=processor,
    )


def part_level(frame: pd.DataFrame, part: str, quantity: str, chip: str = "") -> Floats | None:
    """Return a quantity of one processor or card: of its package, else of what reads highest of it."""
    if part == "cpu":
        over_all = series_of(frame, f"cpu.all.{quantity}") if quantity == "load_pct" else None
        if over_all is not None:
            return over_all
        names = whole_chips(frame, part, quantity)
    else:
        names = [n for n in frame.columns if n.startswith("gpu.") and n.endswith(f".{quantity}")]
        names = [n for n in names if "memory" not in n]
    names = of_chip(read_ones(frame, names), chip)
    package = f"{part}.package{chip}.{quantity}"
    if package in names:
        return series_of(frame, package)
    return series_of(frame, highest_of(frame, names)) if names else None


def _mean_clock(frame: pd.DataFrame, chip: str) -> Floats | None:
    """Return the mean clock of the cores of one processor."""
    clocks = [n for n in frame.columns if n.startswith("cpu.") and n.endswith(".clock_mhz")]
    return mean_of(frame[of_chip(clocks, chip)], "cpu.", ".clock_mhz")


def _any_flag(frame: pd.DataFrame, part: str, ending: str, chip: str) -> Floats | None:
    """Return whether any flag of the processor or card is set; None if it reports none."""
    names = [n for n in frame.columns if n.startswith(f"{part}.") and n.endswith(ending)]
    names = of_chip(read_ones(frame, names), chip)
    return np.fmax.reduce(columns_of(frame, names), axis=1) if names else None


def _thermal_count(frame: pd.DataFrame, part: str, chip: str) -> Floats | None:
    """Return the count of thermal events, else the time spent in them: either rises while it lasts."""
    for quantity in ("throttle_count", "throttled_ms"):
        names = read_ones(frame, of_chip(whole_chips(frame, part, quantity), chip))
        if names:
            return series_of(frame, names[0])
    return None
