"""When a chip was held back, and by what: heat or its power limit. Boost loss is told apart from both."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import (
    Bools,
    Floats,
    SeriesLike,
)
from gelassen.core.foundation.result import Result
from gelassen.core.recording.under_load import without_pauses
from gelassen.core.signal.flags import forward, running_median, spans_of, tidied
from gelassen.core.signal.noise import step_size
from gelassen.core.throttling.boost_end import boost_limit
from gelassen.core.throttling.chip_log import ChipLog, read_chip_log
from gelassen.core.throttling.lower_limit import shown_limit
from gelassen.core.throttling.power_limit import on_limit
from gelassen.core.throttling.thresholds import Smooth
from gelassen.core.throttling.thresholds import Throttling as At
from gelassen.core.throttling.throttle_cause import Chip, from_clock, from_power


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
        Share of the time under load, 0 to 1; NaN where nothing was logged that could tell.
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
    cautions: tuple[Caution, ...] = ()

    @property
    def told(self) -> bool:
        """Whether anything was logged that tells whether heat held the chip back."""
        return bool(np.isfinite(self.thermal_share))

    def __str__(self) -> str:
        if not self.told:
            answer = "cannot tell whether it was held back"
        elif self.onset_s is None and not np.isfinite(self.power_share):
            answer = "not held back by heat; cannot tell whether by a power limit"
        elif self.onset_s is None:
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
    log = read_chip_log(
        time_s, temperature_c, clock_mhz=clock_mhz, power_w=power_w, power_limit_w=power_limit_w,
        load_pct=load_pct, throttle_count=throttle_count, heat_flag=heat_flag, power_flag=power_flag,
    )  # fmt: skip
    limit = _limit_of(log, limit_c)
    found = _causes(log, limit)
    thermal, by_power = _as_the_chip_says(log, found)
    shares = [_share(log.times, flags, log.loaded) for flags in (thermal, by_power)]
    known = (log.tells, log.tells and not found.power_unknown)
    thermal_share, power_share = (
        share if told else float("nan") for share, told in zip(shares, known, strict=True)
    )
    intervals = sorted(
        [(*span, "thermal") for span in spans_of(log.times, thermal)]
        + [(*span, "power") for span in spans_of(log.times, by_power)]
    )
    return Throttling(
        thermal=thermal,
        power=by_power,
        sag_mhz=_sag(log.temperature, log.clock, log.loaded & ~thermal & ~by_power),
        intervals=tuple(intervals),
        onset_s=intervals[0][0] if intervals else None,
        thermal_share=thermal_share,
        power_share=power_share,
        at_limit=_sits_at_limit(log, limit, thermal),
        cautions=(*limit.cautions, *found.cautions),
    )


@dataclass(frozen=True, slots=True)
class _Limit:
    """The limit temperature, and whether it can be that of this chip."""

    at_c: float
    impossible: bool
    cautions: tuple[Caution, ...]


def _limit_of(log: ChipLog, limit_c: float) -> _Limit:
    """Return the given limit, or the lower one that the chip shows."""
    if not -50 < limit_c < 250:
        raise InputError(f"limit_c is {limit_c} °C; a limit between -50 and 250 °C is needed")
    if np.nanmin(log.temperature) > limit_c:
        return _Limit(limit_c, True, (caution("limit_below_all_readings", limit_c=limit_c),))
    runs_at = log.power if log.clock is None else log.clock
    beyond_k = _beyond(log.times, log.temperature, limit_c, runs_at, log.loaded)
    if beyond_k > At.BEYOND_K and log.heat_flag is None:
        said = caution("not_the_limit", beyond_k=beyond_k, limit_c=limit_c)
        return _Limit(limit_c, True, (said,))
    if log.clock is None:
        return _Limit(limit_c, False, ())
    shown_c = shown_limit(log.times, log.temperature, log.clock, log.power, log.loaded, limit_c)
    if shown_c is None:
        return _Limit(limit_c, False, ())
    below_k = limit_c - shown_c
    said = caution("held_below_limit", shown_c=shown_c, below_k=below_k, limit_c=limit_c)
    return _Limit(shown_c + At.HELD_BELOW_K, False, (said,))


@dataclass(frozen=True, slots=True)
class _Causes:
    """Where the readings show heat, a power limit, or a clock cut at the limit."""

    thermal: Bools
    power: Bools
    clock_cut: Bools
    cautions: tuple[Caution, ...]
    power_unknown: bool = False  # a boost ended, or the load became lighter: nothing tells which


def _causes(log: ChipLog, limit: _Limit) -> _Causes:
    times, loaded = log.times, log.loaded
    near_k = max(At.NEAR_K, At.STEPS * min(step_size(log.temperature), At.COARSEST_K))
    near = running_median(log.temperature, times, Smooth.SHORT_S) >= limit.at_c - near_k
    near &= not limit.impossible
    chip = Chip(
        times, log.temperature, loaded, without_pauses(times, loaded, log.power), near, limit.at_c,
        near_k, limit.impossible,
    )  # fmt: skip
    cautions: list[Caution] = []
    clock_cut = np.zeros(times.size, dtype=bool)
    if log.clock is not None:
        thermal, power, clock_cut = from_clock(chip, log.clock, log.power, log.load, log.allowed_w)
    elif log.power is not None:
        thermal, power, clock_cut = from_power(chip, log.power, log.load)
        cautions.append(caution("throttling_from_power"))
    else:
        thermal, power = np.zeros((2, times.size), dtype=bool)
        cautions.append(caution("throttling_cannot_be_told"))
    if log.power is not None and log.allowed_w is not None:
        drawn = running_median(log.power, times, Smooth.SHORT_S)
        power |= loaded & ~thermal & on_limit(drawn, log.allowed_w)
    boost = boost_limit(log, near)
    if boost is not None:
        cautions.append(boost.said)
        power |= boost.flags & ~thermal
    if log.count is not None:
        risen = np.concatenate([[False], np.diff(forward(log.count)) > 0])
        thermal |= risen & loaded
    elif log.power is None and log.clock is not None and log.power_flag is None:
        cautions.append(caution("power_limit_shows_little"))
    unknown = boost is not None and not boost.flags.any()
    return _Causes(thermal, power, clock_cut, tuple(cautions), unknown)


def _as_the_chip_says(log: ChipLog, found: _Causes) -> tuple[Bools, Bools]:
    """Return where heat and where power held the chip back; its own flags replace what was concluded."""
    thermal, power, clock_cut = found.thermal, found.power, found.clock_cut
    if log.heat_flag is not None:
        clock_cut = np.zeros_like(clock_cut)
        thermal = log.loaded & (forward(log.heat_flag) > 0)
    if log.power_flag is not None:
        power = log.loaded & (forward(log.power_flag) > 0)
    thermal = tidied(log.times, thermal) | clock_cut
    return thermal, tidied(log.times, power & ~thermal)


def _sits_at_limit(log: ChipLog, limit: _Limit, thermal: Bools) -> bool:
    """Return whether the chip spends the last third of the load at its limit."""
    if limit.impossible:
        return False
    late = log.loaded & (log.times >= _late(log.times, log.loaded))
    # A chip that is held back hovers around its limit. One close below it is not at it.
    close_k = max(At.SITS_K, step_size(log.temperature) / 2)
    sits = thermal | (
        running_median(log.temperature, log.times, At.SMOOTH_S) >= limit.at_c - close_k
    )
    # A governor may cut the clock and raise it again. Then the clock is low for part of the time only.
    return bool(
        late.any()
        and (np.mean(sits[late]) > At.SITS_SHARE or np.mean(thermal[late]) > At.CUTS_SHARE)
    )


def _share(times: Floats, flags: Bools, loaded: Bools) -> float:
    weight = np.gradient(times) if times.size > 1 else np.ones(times.size)
    total = float(weight[loaded].sum())
    return float(weight[flags & loaded].sum() / total) if total > 0 else 0.0


def _beyond(
    times: Floats, temperature: Floats, limit_c: float, runs_at: Floats | None, loaded: Bools
) -> float:
    """Return how far a part stayed above its limit without losing clock or power, in K."""
    late = loaded & (times >= _late(times, loaded))
    if runs_at is None or not loaded.any():
        return 0.0
    read = late & np.isfinite(runs_at) & np.isfinite(temperature)
    warm = loaded & (times >= times[loaded][0] + At.BOOST_S)
    if not (read.any() and warm.any()):
        return 0.0
    best = float(running_median(runs_at, times, At.HELD_S)[warm].max())
    if float(np.median(runs_at[read])) < (1 - At.LOST) * best:
        return 0.0
    return float(np.median(temperature[read])) - limit_c


def _late(times: Floats, loaded: Bools) -> float:
    if not loaded.any():
        return float("inf")
    start, end = times[loaded][[0, -1]]
    return float(end - At.LATE * (end - start))


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
