"""Levels of power within one run: a load that goes up in steps, and where each of them settles."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.inputs import Bools, Floats
from gelassen.core.result import Result
from gelassen.core.stretches import Stretch
from gelassen.core.tabular import mean_of, mean_where

# Powers further apart than this are levels of their own.
_APART = 0.05
_SETTLING_S = 60.0
# Held back by heat for more than this share of its last third, a level is none that was reached.
_HELD_SHARE = 0.1
# So near to the limit a chip rides on it.
_RIDES_K = 0.75


@dataclass(frozen=True, slots=True, kw_only=True)
class Level(Result):
    """One level of power in a load that went in steps.

    Attributes
    ----------
    start_s, end_s
        The stretch of the load, in s.
    power_w, rise, standard_error
        Mean power, where the temperature settles at it, and its standard error, in the unit of the
        stretch's steady state.
    at_limit
        Whether heat held the chip back: the power is what was held then.
    fan_rpm, duty_pct, reference_c
        Means over the level; NaN where not logged.
    """

    start_s: float
    end_s: float
    power_w: float
    rise: float
    standard_error: float
    at_limit: bool
    fan_rpm: float
    duty_pct: float
    reference_c: float


def power_levels(
    frame: pd.DataFrame,
    times: Floats,
    stretches: Sequence[Stretch],
    power: Floats | None,
    room: Floats | None,
    by_heat: Bools | None = None,
    hottest_c: Floats | None = None,
    limit_c: float | None = None,
) -> tuple[Level, ...]:
    """Return one level a stretch where they differ in power; none where they do not, or none was logged.

    A level counts as held at the limit where heat held the chip back, or where it rode on the limit.
    """
    if power is None or len(stretches) < 2:
        return ()
    fan = mean_of(frame, "fan.", ".speed_rpm", moving=True)
    duty = mean_of(frame, "fan.", ".duty_pct")
    levels = []
    for part in stretches:
        length_s = part.end_s - part.start_s
        inside = (times >= part.start_s + min(_SETTLING_S, length_s / 4)) & (times < part.end_s)
        late = (times >= part.end_s - length_s / 3) & (times < part.end_s)
        held = by_heat is not None and late.any() and float(by_heat[late].mean()) > _HELD_SHARE
        if hottest_c is not None and limit_c is not None and np.isfinite(hottest_c[late]).any():
            held = held or float(np.nanmedian(hottest_c[late])) >= limit_c - _RIDES_K
        where = late if held else inside
        levels.append(
            Level(
                start_s=part.start_s,
                end_s=part.end_s,
                power_w=mean_where(power, where),
                rise=part.steady.value,
                standard_error=part.steady.standard_error,
                at_limit=bool(held),
                fan_rpm=mean_where(fan, where),
                duty_pct=mean_where(duty, where),
                reference_c=mean_where(room, where),
            )
        )
    powers = np.array([level.power_w for level in levels])
    if not np.isfinite(powers).all() or powers.min() <= 0:
        return ()
    return tuple(levels) if powers.max() > (1 + _APART) * powers.min() else ()
