"""Levels of power, checked and sorted: those that stayed below the limit, and those held back at it."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from gelassen.core.capacity.priors import Input
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Bools, Floats, SeriesLike, as_series


class Bounds(NamedTuple):
    """Runs that were held back: arrays with one entry a run."""

    power: Floats
    rise: Floats
    wanted: Floats  # the power they would have drawn; NaN where not known
    error: Floats  # of the rise, remounting included
    rooms_c: Floats


@dataclass(frozen=True, slots=True)
class BelowLimit:
    """Levels that stayed below the limit: arrays with one entry a level."""

    power: Floats
    rise: Floats
    error: Floats | None
    rooms_c: Floats
    moved: Floats  # added to the covariance of the rises by another mounting, K²


@dataclass(frozen=True, slots=True, kw_only=True)
class PowerLevels:
    """All levels with a power and a rise; arrays with one entry a level.

    `held` are those that were held back by heat. `moved` is the covariance that another mounting adds.
    """

    power: Floats
    rise: Floats
    error: Floats | None
    held: Bools
    wanted: Floats
    speed: Floats
    rooms_c: Floats
    moved: Floats
    mounting_spread: float

    @property
    def below_limit(self) -> BelowLimit:
        """The levels that stayed below the limit: points of the course."""
        free = ~self.held
        return BelowLimit(
            self.power[free],
            self.rise[free],
            None if self.error is None else self.error[free],
            self.rooms_c[free],
            self.moved[np.ix_(free, free)],
        )

    @property
    def bounds(self) -> Bounds:
        """The levels that were held back: bounds of the course."""
        error = np.zeros(self.power.size) if self.error is None else self.error
        error = np.hypot(error, self.mounting_spread * self.rise)
        held = self.held
        return Bounds(
            self.power[held], self.rise[held], self.wanted[held], error[held], self.rooms_c[held]
        )

    @property
    def known_speeds(self) -> tuple[Floats, Floats] | None:
        """Temperature and fan speed of each level; None unless the speed is known of all."""
        if (self.speed > 0).all() or (self.speed == 0).all():
            return self.rise + self.rooms_c, self.speed
        return None


def read_power_levels(
    power_w: SeriesLike,
    rise_k: SeriesLike,
    *,
    rise_se_k: SeriesLike | None,
    throttled: SeriesLike | None,
    wanted_w: SeriesLike | None,
    fan_rpm: SeriesLike | None,
    measured_room_c: SeriesLike | None,
    mount: Sequence[str | None] | None,
    mounting_spread: float,
    mounting_freedom: float,
    ambient_c: float,
) -> PowerLevels:
    """Check the arguments of `sustainable_power`; levels without a power or a rise are left out."""
    if not mounting_freedom > 0:
        raise InputError(f"mounting_freedom is {mounting_freedom:g}: give a number above zero")
    power = as_series("power_w", power_w)
    rise = as_series("rise_k", rise_k)
    if rise.size != power.size:
        raise InputError(f"rise_k has {rise.size} entries, power_w has {power.size}: one a level")
    error = None if rise_se_k is None else _beside(power, "rise_se_k", rise_se_k)
    known = np.isfinite(power) & np.isfinite(rise)
    if error is not None:
        known &= np.isfinite(error) & (error >= 0)
    if not known.any():
        raise InputError("no power level has both a power and a rise")
    if (power[known] < Input.LEAST_W).any():
        raise InputError(f"power_w holds {power[known].min():g} W; powers above zero are needed")
    held = np.zeros(known.size, dtype=bool)
    if throttled is not None:
        held = np.asarray(throttled, dtype=bool)
        if held.size != known.size:
            raise InputError(f"throttled has {held.size} entries, power_w has {known.size}")
    wanted = _beside(power, "wanted_w", wanted_w)
    speed = _beside(power, "fan_rpm", fan_rpm)
    rooms = _beside(power, "measured_room_c", measured_room_c)
    rooms = np.where(np.isfinite(rooms), rooms, ambient_c)[known]
    alone = np.full(known.sum(), -1.0) if mount is None else _mountings(mount, known)
    own = rise[known]
    moved = np.outer(own, own) * mounting_spread**2
    moved = np.where(np.equal.outer(alone, alone) & (alone >= 0), moved, np.diag(np.diag(moved)))
    return PowerLevels(
        power=power[known],
        rise=own,
        error=None if error is None else error[known],
        held=held[known],
        wanted=wanted[known],
        speed=speed[known],
        rooms_c=rooms,
        moved=moved,
        mounting_spread=mounting_spread,
    )


def _beside(power: Floats, name: str, values: SeriesLike | None) -> Floats:
    """Return one value a level; NaN where nothing was given."""
    if values is None:
        return np.full(power.size, np.nan)
    series = as_series(name, values)
    if series.size != power.size:
        raise InputError(f"{name} has {series.size} entries, power_w has {power.size}")
    return series


def _mountings(mount: Sequence[str | None], known: Bools) -> Floats:
    """Return a number for the mounting of each level; -1 where none is named."""
    names = list(mount)
    if len(names) != known.size:
        raise InputError(f"mount has {len(names)} entries, power_w has {known.size}")
    distinct = [name for name in dict.fromkeys(names) if name is not None]
    numbers = [-1.0 if name is None else float(distinct.index(name)) for name in names]
    return np.array(numbers)[known]
