"""What a run says in one number each, beside where it settles: rest, highest, mean, score, work, clock."""

import math
from typing import TYPE_CHECKING

import numpy as np

from gelassen.core.foundation.inputs import Floats
from gelassen.core.recording.judging import with_mean_of_cores
from gelassen.core.recording.part_series import part_series
from gelassen.core.recording.recording import Recording
from gelassen.core.recording.series import columns_of, series_of
from gelassen.core.run.thresholds import Quantities

if TYPE_CHECKING:
    from gelassen.core.run.summary import RunSummary

SCORE = "load.program.score_count"
WARM_UP = "warm-up"


def run_quantities(
    recording: Recording, summary: "RunSummary", level_s: tuple[float, float] | None = None
) -> dict[str, tuple[float, float]]:
    """Return each quantity that the run tells, with its standard error; of one level, where it lasted.

    Returns
    -------
    mapping
        "rest", "highest", "mean" in K over the reference (°C without one): of the judged temperature
        in the minute before the load, and over the whole load. "highest 99" is its 99th percentile.
        "warm-up" in s: how long the load heats up to 63 % of the way, its first seconds left out.
        "supply" in W and "supply current" in A: means over the load of what the supply gives; "supply
        highest" in W: its highest reading. "score" as the program gave it, "work" in rounds per second,
        "clock" in MHz, "voltage" in V, "power" in W: means over the load. "score per watt" and "work per
        watt".

    Notes
    -----
    The standard error of a mean is that of ten blocks of it, which allows for readings that depend on
    their neighbours.
    """
    frame = with_mean_of_cores(recording.frame, summary.channel)
    times = frame.index.to_numpy(dtype=float)
    start_s, end_s = summary.load_s
    loaded = (times >= start_s) & (times <= end_s)
    if level_s is not None:
        loaded &= (times >= level_s[0]) & (times <= level_s[1])
    found: dict[str, tuple[float, float]] = {}
    if summary.channel is not None and (rise := series_of(frame, summary.channel)) is not None:
        reference = series_of(frame, summary.reference) if summary.reference else None
        if reference is not None:
            rise = rise - reference
        before = (times < start_s) & (times >= start_s - Quantities.REST_S)
        _take(found, "rest", rise[before], least=Quantities.REST_DOUBT_K)
        _take(found, "mean", rise[loaded])
        # A later level of power or duty begins warm.
        first_s = next((level.end_s for level in (*summary.levels, *summary.fan_levels)), end_s)
        if level_s is None:
            _take_warm_up(
                found, times - start_s, np.where(loaded & (times < first_s), rise, np.nan)
            )
        _take_top(found, rise[loaded])
    volts = [n for n in frame.columns if n.startswith(_part(summary)) and n.endswith(".voltage_v")]
    if volts:
        _take(found, "voltage", _mean(columns_of(frame, volts))[loaded])
    # The part's own: neither the clock of its memory, nor that of another card.
    part = part_series(frame, summary.channel or "", np.full(times.size, np.nan))
    for name, own in (("clock", part.clock_mhz), ("power", part.power_w)):
        if own is not None:
            _take(found, name, own[loaded])
    for name, channel in (
        ("score", SCORE), ("work", "load.work.rate_per_s"), ("errors", "load.work.errors_count"),
        ("supply", "wall.supply.power_w"), ("supply current", "wall.supply.current_a"),
    ):  # fmt: skip
        if (series := series_of(frame, channel)) is not None:
            _take(found, name, series[loaded & (series > 0) if name == "work" else loaded])
    supply = series_of(frame, "wall.supply.power_w")
    if supply is not None and np.isfinite(supply[loaded]).any():
        found["supply highest"] = (float(np.nanmax(supply[loaded])), 0.0)
    for name in ("score", "work"):
        if name in found and found.get("power", (0.0, 0.0))[0] > 0:
            found[f"{name} per watt"] = _ratio(found[name], found["power"])
    return found


def _part(summary: "RunSummary") -> str:
    return "gpu." if (summary.channel or "").startswith("gpu.") else "cpu."


def _mean(values: Floats) -> Floats:
    known = np.isfinite(values)
    count = known.sum(axis=1)
    total = np.where(known, values, 0.0).sum(axis=1)
    return np.asarray(np.divide(total, count, where=count > 0, out=np.full(count.size, np.nan)))


def _take(
    found: dict[str, tuple[float, float]], name: str, values: Floats, *, least: float = 0.0
) -> None:
    """Add a mean and its standard error, if there is any reading."""
    values = values[np.isfinite(values)]
    if not values.size:
        return
    blocks = [part.mean() for part in np.array_split(values, min(Quantities.BLOCKS, values.size))]
    error = float(np.std(blocks, ddof=1) / math.sqrt(len(blocks))) if len(blocks) > 1 else 0.0
    found[name] = (float(values.mean()), math.hypot(error, least))


def _take_top(found: dict[str, tuple[float, float]], rise: Floats) -> None:
    """Add the highest reading and the 99th percentile."""
    rise = rise[np.isfinite(rise)]
    if not rise.size:
        return
    top = float(rise.max())
    high = float(np.percentile(rise, Quantities.PERCENTILE))
    found["highest"] = (top, Quantities.HIGHEST_DOUBT_K)
    halves = [
        np.percentile(half, Quantities.PERCENTILE) for half in np.array_split(rise, 2) if half.size
    ]
    spread = float(np.ptp(halves)) / 2
    found["highest 99"] = (high, math.hypot(spread, Quantities.REST_DOUBT_K))


def _take_warm_up(found: dict[str, tuple[float, float]], since_s: Floats, rise: Floats) -> None:
    """Add how long the slow part of the heating takes, if the load is long enough to show it."""
    known = np.isfinite(rise)
    since_s, rise = since_s[known], rise[known]
    first = (since_s >= Quantities.CHIP_S) & (since_s < 2 * Quantities.CHIP_S)
    if not first.any() or since_s[-1] < Quantities.WARM_UP_LEAST_S:
        return
    begins, ends = rise[first].mean(), rise[since_s > 0.8 * since_s[-1]].mean()
    if ends - begins < Quantities.WARM_UP_LEAST_K:
        return
    # Readings scatter: the crossing of a running mean, not the first reading above.
    smooth = np.convolve(rise, np.ones(5) / 5, mode="same")
    above = np.flatnonzero(smooth[2:-2] >= begins + 0.632 * (ends - begins))
    if above.size:
        seconds = float(since_s[above[0] + 2])
        found[WARM_UP] = (seconds, Quantities.WARM_UP_DOUBT * seconds)


def _ratio(above: tuple[float, float], below: tuple[float, float]) -> tuple[float, float]:
    value = above[0] / below[0]
    shares = [pair[1] / pair[0] for pair in (above, below) if pair[0]]
    return value, abs(value) * math.hypot(*shares)
