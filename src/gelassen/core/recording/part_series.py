"""The series of the judged part: power, clock, load, throttle counters and flags."""

from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.foundation.inputs import Floats
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
    processor = part == "cpu"
    return PartSeries(
        hottest_c=hottest_reading(frame, temperature_c) if processor else temperature_c,
        power_w=part_level(frame, part, "power_w"),
        clock_mhz=(
            mean_of(frame, "cpu.", ".clock_mhz")
            if processor
            else part_level(frame, part, "clock_mhz")
        ),
        load_pct=part_level(frame, part, "load_pct"),
        throttle_count=_thermal_count(frame, part),
        heat_flag=_any_flag(frame, part, ".held_by_heat_flag"),
        power_flag=_any_flag(frame, part, ".held_by_power_flag"),
        is_processor=processor,
    )


def part_level(frame: pd.DataFrame, part: str, quantity: str) -> Floats | None:
    """Return a quantity of a whole part: of its package, else (a card) of what reads highest."""
    if part == "cpu":
        item = "all" if quantity == "load_pct" else "package"
        return series_of(frame, f"cpu.{item}.{quantity}")
    whole = series_of(frame, f"{part}.package.{quantity}")
    if whole is not None:
        return whole
    names = [n for n in frame.columns if n.startswith(f"{part}.") and n.endswith(f".{quantity}")]
    names = read_ones(frame, [n for n in names if "memory" not in n])
    if not names:
        return None
    return series_of(frame, highest_of(frame, names))


def _any_flag(frame: pd.DataFrame, part: str, ending: str) -> Floats | None:
    """Return whether any flag of the part is set; None if it reports none."""
    names = [n for n in frame.columns if n.startswith(f"{part}.") and n.endswith(ending)]
    names = read_ones(frame, names)
    return np.fmax.reduce(columns_of(frame, names), axis=1) if names else None


def _thermal_count(frame: pd.DataFrame, part: str) -> Floats | None:
    """Return the count of thermal events, else the time spent in them: either rises while it lasts."""
    count = series_of(frame, f"{part}.package.throttle_count")
    return series_of(frame, f"{part}.package.throttled_ms") if count is None else count
