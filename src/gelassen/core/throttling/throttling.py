"""When a chip was held back, and by what: heat, its power limit, or nothing but a warm boost."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import (
    Bools,
    Floats,
    SeriesLike,
    as_series,
    as_time,
    need_readings,
)
from gelassen.core.foundation.result import Result
from gelassen.core.recording.under_load import under_load, without_pauses
from gelassen.core.signal.flags import forward, running_median, spans_of, tidied
from gelassen.core.signal.noise import step_size
from gelassen.core.signal.renewal import bridged
from gelassen.core.throttling.lower_limit import shown_limit
from gelassen.core.throttling.power_limit import on_limit
from gelassen.core.throttling.throttle_cause import Chip, from_clock, from_power

# A governor keeps the hottest reading within about this of the limit while it holds the chip back.
_NEAR_K = 2.5
# A load that was not read for so long went on; what it did in a longer gap nobody knows.
_LOAD_UNREAD_S = 60.0
# Held back by heat for more than this share of the last third of the load: at the limit.
_CUTS_SHARE = 0.1
# No governor lets a chip stay so far above its limit.
_BEYOND_K = 5.0
# Where a limit shows, the chip stays about so far below it.
_HELD_BELOW_K = 0.5
# Unless it has lost so much of the best it held for a while once a boost was over.
_LOST, _HELD_S, _BOOST_S = 0.035, 11.0, 60.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Throttling(Result):
    """When the chip was held back, and by what.

    Attributes
    ----------
    thermal, power
        One value a sample: held back by heat; held back by a power limit. Both can be true.
    sag_mhz
        Clock lost gradually with heat while nothing held the chip back, in MHz; NaN without clock.
    intervals
        (start, end, cause) in s, cause "thermal" or "power".
    onset_s
        When the chip was first held back; None if never.
    thermal_share, power_share
        Share of the time under load, 0 to 1.
    at_limit
        True if heat held the chip back in the last third of the load: temperature can no longer tell this
        setup from a better one. Clock, power and work can.
    """

    thermal: Bools
    power: Bools
    sag_mhz: float
    intervals: tuple[tuple[float, float, str], ...]
    onset_s: float | None
    thermal_share: float
    power_share: float
    at_limit: bool
    cautions: tuple[str, ...] = ()

    def __str__(self) -> str:
        if self.onset_s is None:
            answer = "not held back"
        else:
            parts = [
                f"{100 * share:.0f} % of the load by {cause}"
                for share, cause in (
                    (self.thermal_share, "heat"),
                    (self.power_share, "a power limit"),
                )
                if share > 0
            ]
            answer = f"held back from {self.onset_s:.0f} s: " + ", ".join(parts)
        if self.at_limit:
            answer += "; at the temperature limit: compare power, clock or work instead"
        if np.isfinite(self.sag_mhz) and self.sag_mhz > 0:
            answer += f"; boost sagged by {self.sag_mhz:.0f} MHz with heat, which is not throttling"
        return "\n".join([answer, *(f"  caution: {text}" for text in self.cautions)])


def find_throttling(
    time_s: SeriesLike,
    *,
    temperature_c: SeriesLike,
    limit_c: float,
    clock_mhz: SeriesLike | None = None,
    power_w: SeriesLike | None = None,
    power_limit_w: float | SeriesLike | None = None,
    load_pct: SeriesLike | None = None,
    throttle_count: SeriesLike | None = None,
    heat_flag: SeriesLike | None = None,
    power_flag: SeriesLike | None = None,
) -> Throttling:
    """Say for each sample whether heat or a power limit held the chip back.

    Parameters
    ----------
    time_s, temperature_c : array_like, shape (n,)
        Sample times in s and the hottest reading of the chip in °C.
    limit_c : float
        The temperature at which the chip holds itself back.
    clock_mhz, power_w, load_pct, throttle_count : array_like, shape (n,), optional
        Mean clock, package power, load, and the kernel's count (or time) of thermal events.
    heat_flag, power_flag : array_like, shape (n,), optional
        The chip's own word that heat or power holds it back: above zero where it does.
    power_limit_w : float or array_like, optional
        The power the chip may use. Where it is not told, a plateau of power shows it.

    Raises
    ------
    InputError
        Arrays of different lengths, times that run backwards, no temperature, an impossible limit.

    Notes
    -----
    Held back at all: under load, the clock is more than 3.5 % below the best it held for a while in
    this run. By heat: the temperature is within 2.5 K (or two sensor steps) of its limit, or the
    thermal counter rises. By power: the temperature is below that and the power sits at its limit,
    or (limit not told) on a level that it keeps within 2.5 %, or the stretch began with a sudden drop
    of power (a board that switches in coarse steps). A chip whose clock is cut at its limit and given
    back once it has cooled by some kelvins is held back by heat for as long as the clock is cut. A limit
    that is not told and holds from the first second on shows where the clock gives way to the warming
    chip while power keeps its level.
    Without a clock, a fall of power at the temperature limit takes its place. Not to be told: such
    a limit on a chip whose power does not depend on temperature.
    """
    times = as_time(time_s)
    temperature = as_series("temperature_c", temperature_c, like=times)
    need_readings("temperature_c", temperature)
    if not -50 < limit_c < 250:
        raise InputError(f"limit_c is {limit_c} °C; a limit between -50 and 250 °C is needed")
    clock = _optional("clock_mhz", clock_mhz, times)
    if clock is not None:  # no clock stands still: a reading of zero is none
        clock = np.where(clock > 0, clock, np.nan) if (clock > 0).any() else None
    power = _optional("power_w", power_w, times)
    # Several loggers laid together: each read at moments of its own.
    temperature = bridged(times, temperature)
    clock = None if clock is None else bridged(times, clock)
    power = None if power is None else bridged(times, power)
    load = _optional("load_pct", load_pct, times)
    # A load that was not read for a while has not stopped for that.
    load = None if load is None else bridged(times, load, _LOAD_UNREAD_S)
    count = _optional("throttle_count", throttle_count, times)
    allowed = _allowed(power_limit_w, times)
    cautions: list[str] = []
    impossible = bool(np.nanmin(temperature) > limit_c)
    if impossible:
        cautions.append(
            f"every reading is above the limit of {limit_c:g} °C, at rest too: it cannot be the limit of "
            "this part, and being held back by heat is not concluded from it"
        )

    loaded = under_load(times, temperature, load, power, clock)
    beyond_k = _beyond(times, temperature, limit_c, power if clock is None else clock, loaded)
    if beyond_k > _BEYOND_K and not impossible and heat_flag is None:
        impossible = True
        cautions.append(
            f"it stayed {beyond_k:.0f} K above the limit of {limit_c:g} °C and was not held back by heat: "
            "that is not the limit of this part. Tell the one at which it cuts its clock"
        )
    near_k = max(_NEAR_K, 2 * min(step_size(temperature), 2.0))
    shown_c = None
    if clock is not None and not impossible:
        shown_c = shown_limit(times, temperature, clock, power, loaded, limit_c)
    if shown_c is not None:
        cautions.append(
            f"it was held back at {shown_c:.0f} °C, {limit_c - shown_c:.0f} K below the limit of "
            f"{limit_c:g} °C: tell the limit at which it cuts its clock"
        )
        limit_c = shown_c + _HELD_BELOW_K
    near = running_median(temperature, times, 5.0) >= limit_c - near_k
    if impossible:
        near = np.zeros(times.size, dtype=bool)
    steady = without_pauses(times, loaded, power)
    chip = Chip(times, temperature, loaded, steady, near, limit_c, near_k, impossible)
    again = np.zeros(times.size, dtype=bool)
    if clock is not None:
        thermal, by_power, again = from_clock(chip, clock, power, load, allowed)
    elif power is not None:
        thermal, by_power, again = from_power(chip, power, load)
        cautions.append("no clock was logged: being held back is told from power alone")
    else:
        thermal, by_power = loaded & near, np.zeros(times.size, dtype=bool)
        cautions.append(
            "neither clock nor power was logged: sitting at the limit is taken as being held back"
        )
    if power is not None and allowed is not None:
        by_power |= loaded & ~thermal & on_limit(running_median(power, times, 5.0), allowed)
    if count is not None:
        risen = np.concatenate([[False], np.diff(forward(count)) > 0])
        thermal |= risen & loaded
    elif power is None and clock is not None and power_flag is None:
        cautions.append(
            "power was not logged: a power limit shows only where the clock drops at once"
        )
    # The chip's own word counts for more than anything concluded.
    says_heat, says_power = (
        _optional(name, flag, times)
        for name, flag in (("heat_flag", heat_flag), ("power_flag", power_flag))
    )
    if says_heat is not None:
        again = np.zeros(times.size, dtype=bool)
        thermal = loaded & (forward(says_heat) > 0)
    if says_power is not None:
        by_power = loaded & (forward(says_power) > 0)

    thermal = tidied(times, thermal) | again
    by_power = tidied(times, by_power & ~thermal)
    intervals = sorted(
        [(*span, "thermal") for span in spans_of(times, thermal)]
        + [(*span, "power") for span in spans_of(times, by_power)]
    )
    late = loaded & (times >= _late(times, loaded))
    # Close below the limit is not at it: a chip that is held back hovers around its limit itself.
    sits = thermal | (
        running_median(temperature, times, 15.0) >= limit_c - max(0.75, step_size(temperature) / 2)
    )
    # A clock that is cut and given back is cut for a part of the time only, and yet heat sets the pace.
    rests = late.any() and (np.mean(sits[late]) > 0.5 or np.mean(thermal[late]) > _CUTS_SHARE)
    at_limit = bool(rests) and not impossible
    return Throttling(
        thermal=thermal,
        power=by_power,
        sag_mhz=_sag(temperature, clock, loaded & ~thermal & ~by_power),
        intervals=tuple(intervals),
        onset_s=intervals[0][0] if intervals else None,
        thermal_share=_share(times, thermal, loaded),
        power_share=_share(times, by_power, loaded),
        at_limit=at_limit,
        cautions=tuple(cautions),
    )


def _optional(name: str, values: SeriesLike | None, times: Floats) -> Floats | None:
    if values is None:
        return None
    series = as_series(name, values, like=times)
    return series if np.isfinite(series).any() else None


def _allowed(power_limit_w: float | SeriesLike | None, times: Floats) -> Floats | None:
    if power_limit_w is None:
        return None
    if np.ndim(power_limit_w) == 0:
        limit = float(np.asarray(power_limit_w, dtype=float))
        if not limit > 0:
            raise InputError(f"power_limit_w is {limit} W; a limit above zero is needed")
        return np.full(times.size, limit)
    limits = _optional("power_limit_w", power_limit_w, times)
    return None if limits is None else forward(limits)


def _share(times: Floats, flags: Bools, loaded: Bools) -> float:
    weight = np.gradient(times) if times.size > 1 else np.ones(times.size)
    total = float(weight[loaded].sum())
    return float(weight[flags & loaded].sum() / total) if total > 0 else 0.0


def _beyond(
    times: Floats, temperature: Floats, limit_c: float, runs_at: Floats | None, loaded: Bools
) -> float:
    """Return how far above its limit a part stayed whose clock or power is still the best it held."""
    late = loaded & (times >= _late(times, loaded))
    if runs_at is None or not loaded.any():
        return 0.0
    read = late & np.isfinite(runs_at) & np.isfinite(temperature)
    warm = loaded & (times >= times[loaded][0] + _BOOST_S)
    if not (read.any() and warm.any()):
        return 0.0
    best = float(running_median(runs_at, times, _HELD_S)[warm].max())
    if float(np.median(runs_at[read])) < (1 - _LOST) * best:
        return 0.0
    return float(np.median(temperature[read])) - limit_c


def _late(times: Floats, loaded: Bools) -> float:
    if not loaded.any():
        return float("inf")
    start, end = times[loaded][[0, -1]]
    return float(end - (end - start) / 3)


def _sag(temperature: Floats, clock: Floats | None, free: Bools) -> float:
    """Return how much clock went with heat alone, from a straight line of clock over temperature."""
    if clock is None:
        return float("nan")
    use = free & np.isfinite(clock) & np.isfinite(temperature)
    if use.sum() < 20:
        return float("nan")
    cold, hot = np.percentile(temperature[use], [5, 95])
    if hot - cold < 3:
        return 0.0
    slope = float(np.polyfit(temperature[use], clock[use], 1)[0])
    return max(-slope * float(hot - cold), 0.0)
