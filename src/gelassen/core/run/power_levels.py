"""Levels of power within one run: a load that goes up in steps, and where each of them settles."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.foundation.result import Result
from gelassen.core.recording.series import mean_of, mean_where, means_and_peaks
from gelassen.core.run.prepared import PreparedRun
from gelassen.core.run.stretches import Stretch
from gelassen.core.run.thresholds import Levels
from gelassen.core.throttling.throttling_result import Throttling


@dataclass(frozen=True, slots=True, kw_only=True)
class Level(Result):
    """One level of power in a load that went in steps.

    Attributes
    ----------
    start_s, end_s
        The stretch of the load, in s.
    power_w, rise, standard_error
        Power, where the temperature settles at it, and its standard error, in the unit of the
        stretch's steady state; infinite where it is too short to tell.
    low, high
        The interval of the rise; infinite ends mean "cannot tell".
    reached, missing_k
        Whether it was settled when the level ended, and how much of the rise was not reached, in K.
    at_limit
        Whether heat held the chip back: the power is what was held then.
    fan_rpm, duty_pct, reference_c
        Means over its last fifth, with fans extrapolated to the settled temperature; NaN where not logged.
    clock_mhz, work_per_s, thermal_share, power_share
        Means over its last third; NaN where not logged.
    channels
        Each channel, with its mean and its highest reading over the last third.
    """

    start_s: float
    end_s: float
    power_w: float
    rise: float
    standard_error: float
    low: float
    high: float
    reached: bool
    missing_k: float
    at_limit: bool
    fan_rpm: float
    duty_pct: float
    reference_c: float
    clock_mhz: float
    work_per_s: float
    thermal_share: float
    power_share: float
    channels: dict[str, tuple[float, float]]


def power_levels(
    run: PreparedRun, stretches: Sequence[Stretch], throttling: Throttling | None
) -> tuple[Level, ...]:
    """Return one level a stretch where they differ in power; none where they do not.

    Nor are there any where no power was logged, or where heat held the chip back in all stretches.
    A level counts as held at the limit if heat held the chip back, or if it stayed at the limit.
    """
    if run.power_w is None or len(stretches) < 2:
        return ()
    by = None if throttling is None else throttling.other_part
    if by is not None and stretches[1].start_s >= by.from_s - Levels.SETTLING_S:
        return ()  # what another part leaves is no level that was set, either
    told = levels_of(run, run.power_w, stretches, throttling)
    levels, late_c = [level for level, _ in told], np.array([late for _, late in told])
    powers = np.array([level.power_w for level in levels])
    if not np.isfinite(powers).all() or powers.min() <= 0:
        return ()
    if powers.max() <= (1 + Levels.APART) * powers.min():
        return ()
    if all(level.at_limit for level in levels):  # what heat leaves is no level that was set
        return ()
    return _with_settled_fans(levels, late_c)


def levels_of(
    run: PreparedRun, power: Floats, stretches: Sequence[Stretch], throttling: Throttling | None
) -> list[tuple[Level, float]]:
    """Return one level a stretch, each with the mean temperature over its last fifth in °C."""
    duty = mean_of(run.frame, "fan.", ".duty_pct")
    return [_level(run, power, duty, part, throttling) for part in stretches]


def _level(
    run: PreparedRun,
    power: Floats,
    duty: Floats | None,
    part: Stretch,
    throttling: Throttling | None,
) -> tuple[Level, float]:
    """Return one level, and the mean temperature over its last fifth in °C."""
    times, steady = run.times, part.steady
    nothing = np.full(times.size, np.nan)
    temperature_c = nothing if run.temperature_c is None else run.temperature_c
    by_heat = None if throttling is None else throttling.thermal
    by_power = None if throttling is None else throttling.power
    length_s = part.end_s - part.start_s
    inside = (times >= part.start_s + min(Levels.SETTLING_S, length_s / 4)) & (times < part.end_s)
    third, late = (inside & (times >= part.end_s - length_s * k) for k in (1 / 3, Levels.LATE))
    held = steady.limited or _held(third, temperature_c, by_heat, run.limit_c)
    told = np.isfinite(steady.power_w) and not held
    ended = np.isfinite([steady.low, steady.high]).all()
    means, peaks = means_and_peaks(run.frame.to_numpy(dtype=float)[third])
    level = Level(
        start_s=part.start_s,
        end_s=part.end_s,
        power_w=steady.power_w if told else mean_where(power, third if held else inside),
        rise=steady.value,
        standard_error=steady.standard_error if ended else float("inf"),
        low=steady.low,
        high=steady.high,
        reached=steady.reached,
        missing_k=steady.missing_k,
        at_limit=held,
        fan_rpm=mean_where(run.fan_rpm, late),
        duty_pct=mean_where(duty, late),
        reference_c=mean_where(run.reference_c, late),
        clock_mhz=mean_where(run.part.clock_mhz, third),
        work_per_s=mean_where(run.work_per_s, third),
        thermal_share=_share(by_heat, third),
        power_share=_share(by_power, third),
        channels={
            str(name): (float(mean), float(peak))
            for name, mean, peak in zip(run.frame.columns, means, peaks, strict=True)
        },
    )
    return level, mean_where(temperature_c, late)


def _share(flags: Bools | None, where: Bools) -> float:
    return float(flags[where].mean()) if flags is not None and where.any() else float("nan")


def _held(
    third: Bools, temperature_c: Floats, by_heat: Bools | None, limit_c: float | None
) -> bool:
    """Return whether heat held the chip back in the last third of a level, or it stayed at its limit."""
    if by_heat is not None and third.any() and by_heat[third].mean() > Levels.HELD_SHARE:
        return True
    if limit_c is None or not np.isfinite(temperature_c[third]).any():
        return False
    return bool(np.nanmedian(temperature_c[third]) >= limit_c - Levels.RIDES_K)


def _with_settled_fans(levels: list[Level], late_c: Floats) -> tuple[Level, ...]:
    """Extrapolate fans on a curve to the settled temperature, which the level had not reached."""
    settled_c = np.array(
        [lv.rise + (lv.reference_c if np.isfinite(lv.reference_c) else 0.0) for lv in levels]
    )
    read = np.array([level.fan_rpm for level in levels])
    warmer = np.diff(late_c)
    with np.errstate(divide="ignore", invalid="ignore"):
        per_k = np.where(np.abs(warmer) >= Levels.WARMER_K, np.diff(read) / warmer, 0.0)
    per_k = np.clip(np.append(per_k[0], per_k), 0.0, None)
    more = np.nan_to_num(per_k * (settled_c - late_c))
    fans = read + np.clip(more, -Levels.MOST_MORE * read, Levels.MOST_MORE * read)
    return tuple(
        level if level.at_limit else replace(level, fan_rpm=float(rpm))
        for level, rpm in zip(levels, fans, strict=True)
    )
