"""When a chip was held back, and by what: heat, a power limit or something else."""

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.inputs import Bools, Floats, SeriesLike
from gelassen.core.signal.flags import forward, spans_of, tidied
from gelassen.core.throttling.boost_end import lighter_load
from gelassen.core.throttling.chip_log import ChipLog, read_chip_log
from gelassen.core.throttling.load_levels import levels_of_load, shared_powers
from gelassen.core.throttling.states import State
from gelassen.core.throttling.temperature_limit import (
    AtLimit,
    at_limit_probability,
    states_at_limit,
)
from gelassen.core.throttling.thresholds import Throttling as At
from gelassen.core.throttling.throttling_result import Throttling, is_unsure


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
    A hidden Markov model (`states.State`) gives each sample the probability of each state. Free: the
    clock keeps its course over temperature. Heat: the clock is below that, and the limit was reached. Power
    limit: power keeps a level, stated or not. Something else: the clock is lower, and none of these
    explains it. A chip's own flags and counters count for more than all of this. A load that gets lighter
    lowers power and not the clock. So without a clock and a load the answer is "cannot tell". Where the
    load has levels, as a staircase of busy cores has, each is judged by itself.
    """
    log = read_chip_log(
        time_s, temperature_c, clock_mhz=clock_mhz, power_w=power_w, power_limit_w=power_limit_w,
        load_pct=load_pct, throttle_count=throttle_count, heat_flag=heat_flag, power_flag=power_flag,
    )  # fmt: skip
    found = _level_by_level(log, limit_c) or _by_own_word(log, limit_c)
    by_heat, by_power, by_other = (
        found.probability[:, state] for state in (State.HEAT, State.POWER, State.OTHER)
    )
    unclear, said = lighter_load(log, by_power + by_other)
    if unclear:
        by_power, by_other = np.zeros((2, log.times.size))
    limits = by_power + by_other
    thermal = by_heat >= At.SURE
    thermal |= tidied(log.times, thermal)
    power = tidied(log.times, (limits >= At.SURE) & ~thermal) & ~thermal
    shows = log.clock is not None or log.power is not None
    heat_shows = shows or log.count is not None or log.heat_flag is not None
    power_shows = (shows or log.count is not None or log.power_flag is not None) and not unclear
    intervals = sorted(
        [(*span, "thermal") for span in spans_of(log.times, thermal)]
        + [(*span, "power") for span in spans_of(log.times, power)]
    )
    return Throttling(
        heat_probability=np.round(by_heat, 4),
        power_probability=np.round(by_power, 4),
        other_probability=np.round(by_other, 4),
        thermal=thermal,
        power=power,
        other=power & (by_other > by_power),
        sag_mhz=_sag(log.temperature, log.clock, log.loaded & ~thermal & ~power),
        intervals=tuple(intervals),
        onset_s=intervals[0][0] if intervals else None,
        thermal_share=_share(log, thermal) if heat_shows else float("nan"),
        power_share=_share(log, power) if power_shows else float("nan"),
        at_limit_probability=at_limit_probability(log, found.limit_c, np.maximum(by_heat, thermal)),
        unsure_share=_share(log, is_unsure(by_heat, limits)) if shows else 0.0,
        limit_w=found.limit_w if power.any() else None,
        cautions=(*_missing(log), *found.cautions, *said),
    )


_AT_POWER = np.eye(len(State))[State.POWER]


def _level_by_level(log: ChipLog, limit_c: float) -> AtLimit | None:
    """Return the states. Of a load with levels, what else than heat held the chip is judged within each."""
    found = states_at_limit(log, limit_c)
    levels = levels_of_load(log)
    if found is None or len(levels) < 2:
        return found
    shared_w = shared_powers(log, levels)
    limits = found.probability[:, [State.POWER, State.OTHER]].sum(axis=1)
    if np.isnan(shared_w).all() and not (limits[log.loaded] >= At.SURE).any():
        return found  # nothing is to be judged
    probability, limits_w = found.probability.copy(), []
    by_heat = found.probability[:, State.HEAT] >= At.SURE
    for level, power_w in zip(levels, shared_w, strict=True):
        judged = level & ~by_heat
        if not np.isnan(power_w):
            probability[judged] = _AT_POWER
            limits_w.append(power_w)
        elif own := states_at_limit(replace(log, loaded=level), limit_c):
            probability[judged] = own.probability[judged]
            if own.limit_w is not None and own.probability[level, State.POWER].mean() >= At.SURE:
                limits_w.append(own.limit_w)
    alike = bool(limits_w) and max(limits_w) < (1 + At.LOST) * min(limits_w)
    return replace(found, probability=probability, limit_w=limits_w[0] if alike else None)


def _missing(log: ChipLog) -> Iterator[Caution]:
    """Yield what is said of channels that were not read under load."""
    if not log.loaded.any():
        return
    words = (log.count, log.heat_flag, log.power_flag)
    if log.clock is None and log.power is None:
        if all(word is None for word in words):
            yield caution("throttling_cannot_be_told")
    elif log.clock is None:
        yield caution("throttling_from_power")
    elif log.power is None and log.power_flag is None and log.count is None:
        yield caution("power_limit_shows_little")


def _by_own_word(log: ChipLog, limit_c: float) -> AtLimit:
    """Return what the chip's own count and flags tell, if nothing else was logged."""
    probability = np.zeros((log.times.size, len(State)))
    for word, state in ((log.heat_flag, State.HEAT), (log.power_flag, State.POWER)):
        if word is not None:
            probability[:, state] = log.loaded & (forward(word) > 0)
    if log.count is not None:
        risen = np.diff(forward(log.count), prepend=np.nan) > 0
        probability[risen & log.loaded, State.HEAT] = 1.0
    return AtLimit(probability, limit_c, None, ())


def _share(log: ChipLog, flags: Bools) -> float:
    """Return for which share of the load the flags are set, 0 to 1."""
    times = log.times
    weight = np.gradient(times) if times.size > 1 else np.ones(times.size)
    total = float(weight[log.loaded].sum())
    return float(weight[flags & log.loaded].sum() / total) if total > 0 else 0.0


def _sag(temperature: Floats, clock: Floats | None, free: Bools) -> float:
    """Return the boost loss in MHz, from a straight line of clock over temperature."""
    if clock is None:
        return float("nan")
    use = free & np.isfinite(clock) & np.isfinite(temperature)
    if use.sum() < At.FEWEST:
        return float("nan")
    cold, hot = np.percentile(temperature[use], At.SAG_PCT)
    if hot - cold < At.SAG_K:
        return 0.0
    slope = float(np.polyfit(temperature[use], clock[use], 1)[0])
    return max(-slope * float(hot - cold), 0.0)
