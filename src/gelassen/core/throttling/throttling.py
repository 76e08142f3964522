"""When a chip was held back, and by what: heat, a power limit or something else."""

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.special import ndtr

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Bools, Floats, SeriesLike
from gelassen.core.foundation.result import Result
from gelassen.core.signal.flags import forward, running_median, spans_of, tidied
from gelassen.core.signal.noise import step_size
from gelassen.core.throttling.chip_log import ChipLog, read_chip_log
from gelassen.core.throttling.find_states import Found, find_states
from gelassen.core.throttling.readings import Readings, read_states
from gelassen.core.throttling.state_model import State
from gelassen.core.throttling.thresholds import LowerLimit
from gelassen.core.throttling.thresholds import Throttling as At


@dataclass(frozen=True, slots=True, kw_only=True)
class Throttling(Result):
    """When the chip was held back, and by what.

    Attributes
    ----------
    heat_probability, power_probability, other_probability
        One value a sample, 0 to 1: held back by heat; by a power limit; by something else, such as a
        regulator, a supply or a budget shared with other parts. The rest to 1: nothing held it back.
    thermal, power
        One value a sample: held back by heat; held back by a power limit or something else. Where the
        probability is at least 0.5; short stretches count only for heat.
    other
        Where `power` is rather something else than a power limit.
    sag_mhz
        Clock lost gradually with heat while nothing held the chip back, in MHz; NaN without clock.
    intervals
        (start, end, cause) in s, cause "thermal" or "power".
    onset_s
        When the chip was first held back; None if never.
    thermal_share, power_share
        Share of the time under load, 0 to 1; NaN where nothing was logged that could tell.
    at_limit_probability
        Probability that heat held the chip back in the last third of the load.
    unsure_share
        Share of the time under load, 0 to 1, at which no cause has a probability of 0.9.
    limit_w
        The power limit that held the chip back, stated or found, in W; None if none did.
    """

    heat_probability: Floats
    power_probability: Floats
    other_probability: Floats
    thermal: Bools
    power: Bools
    other: Bools
    sag_mhz: float
    intervals: tuple[tuple[float, float, str], ...]
    onset_s: float | None
    thermal_share: float
    power_share: float
    at_limit_probability: float
    unsure_share: float = 0.0
    limit_w: float | None = None
    cautions: tuple[Caution, ...] = ()

    @property
    def at_limit(self) -> bool:
        """Whether temperature cannot tell this setup from a better one. Clock, power and work can."""
        return self.at_limit_probability >= At.SURE

    @property
    def told(self) -> bool:
        """Whether anything was logged that tells whether heat held the chip back."""
        return bool(np.isfinite(self.thermal_share))

    def to_dict(self) -> dict[str, Any]:
        """Return the fields as plain values, and whether it is at its limit."""
        return super(Throttling, self).to_dict() | {"at_limit": self.at_limit}

    @property
    def power_cause(self) -> str:
        """What `power` stands for, in words."""
        if self.power.any() and self.other.sum() > self.power.sum() / 2:
            return "something other than heat"
        return "a power limit" + ("" if self.limit_w is None else f" of {self.limit_w:.0f} W")

    @property
    def doubt(self) -> tuple[float, float] | None:
        """Mean probability of heat and of another limit where that is not sure; None if it seldom is."""
        limits = self.power_probability + self.other_probability
        surest = np.max([self.heat_probability, limits, 1 - self.heat_probability - limits], axis=0)
        unsure = surest < At.UNSURE
        if not self.unsure_share >= At.UNSURE_SHARE:
            return None
        return float(self.heat_probability[unsure].mean()), float(limits[unsure].mean())

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
                    (self.power_share, self.power_cause),
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
    A hidden Markov model (`state_model.State`) gives each sample the probability of each state. Free: the
    clock keeps its course over temperature. Heat: the clock is below that, and the limit was reached. Power
    limit: power keeps a level, stated or not. Something else: the clock is lower, and none of these
    explains it. A chip's own flags and counters count for more than all of this. A load that gets lighter
    lowers power and not the clock. So without a clock and a load the answer is "cannot tell".
    """
    log = read_chip_log(
        time_s, temperature_c, clock_mhz=clock_mhz, power_w=power_w, power_limit_w=power_limit_w,
        load_pct=load_pct, throttle_count=throttle_count, heat_flag=heat_flag, power_flag=power_flag,
    )  # fmt: skip
    limit_c, cautions = _limit_of(log, limit_c)
    found, limit_c, lower = _found(log, limit_c)
    cautions += lower
    probability = np.zeros((log.times.size, len(State))) if found is None else found.probability
    by_heat, by_power, by_other = (
        probability[:, state] for state in (State.HEAT, State.POWER, State.OTHER)
    )
    unclear, said = _lighter_load(log, by_power + by_other, found)
    cautions += said
    if unclear:
        by_power, by_other = np.zeros((2, log.times.size))
    thermal = by_heat >= At.SURE
    thermal |= tidied(log.times, thermal)
    power = tidied(log.times, (by_power + by_other >= At.SURE) & ~thermal) & ~thermal
    limits = by_power + by_other
    surest = np.max([by_heat, limits, 1 - by_heat - limits], axis=0)
    shares = [_share(log.times, flags, log.loaded) for flags in (thermal, power)]
    known = (log.tells, log.tells and not unclear)
    thermal_share, power_share = (
        share if told else float("nan") for share, told in zip(shares, known, strict=True)
    )
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
        thermal_share=thermal_share,
        power_share=power_share,
        at_limit_probability=_at_limit(log, limit_c, np.maximum(by_heat, thermal)),
        unsure_share=_share(log.times, surest < At.UNSURE, log.loaded) if log.tells else 0.0,
        limit_w=None if found is None or unclear else found.limit_w,
        cautions=cautions,
    )


def _limit_of(log: ChipLog, limit_c: float) -> tuple[float, tuple[Caution, ...]]:
    """Return the limit; infinite if it cannot be that of this chip."""
    if not -50 < limit_c < 250:
        raise InputError(f"limit_c is {limit_c} °C; a limit between -50 and 250 °C is needed")
    if np.nanmin(log.temperature) > limit_c:
        return np.inf, (caution("limit_below_all_readings", limit_c=limit_c),)
    return limit_c, ()


def _found(log: ChipLog, limit_c: float) -> tuple[Found | None, float, tuple[Caution, ...]]:
    """Return the states, the limit at which heat held the chip, and what to say about both."""
    readings = read_states(log, limit_c)
    if readings is None:
        said = () if log.count is not None else (caution("throttling_cannot_be_told"),)
        return _counted(log), limit_c, said
    said = ()
    if log.clock is None:
        said = (caution("throttling_from_power"),)
    elif log.power is None and log.power_flag is None and log.count is None:
        said = (caution("power_limit_shows_little"),)
    found = find_states(readings)
    beyond_k = _beyond(log, limit_c, found)
    if beyond_k > At.BEYOND_K and log.heat_flag is None:
        told = caution("not_the_limit", beyond_k=beyond_k, limit_c=limit_c)
        return find_states(replace(readings, limit_c=np.inf)), np.inf, (*said, told)
    shown_c = _plateau_c(readings, found)
    if shown_c is not None:
        at_c = shown_c + LowerLimit.AT_K
        lower = find_states(replace(read_states(log, at_c) or readings, told=readings.told))
        if lower.evidence > found.evidence + LowerLimit.PRIOR:
            below_k = limit_c - shown_c
            told = caution("held_below_limit", shown_c=shown_c, below_k=below_k, limit_c=limit_c)
            return lower, at_c, (*said, told)
    return found, limit_c, said


def _plateau_c(log: Readings, found: Found) -> float | None:
    """Return a temperature below the limit that the chip kept while something unknown held it back."""
    if (
        not np.isfinite(log.limit_c)
        or log.heat is not None
        or not log.has_clock
        or log.reached.any()
    ):
        return None
    smooth = running_median(log.temperature, log.times, At.SMOOTH_S)
    shown_c = float(np.percentile(smooth[log.loaded], LowerLimit.HOT_PCT))
    if not LowerLimit.LEAST_K <= log.limit_c - shown_c <= LowerLimit.MOST_K:
        return None
    still = log.loaded & (np.abs(smooth - shown_c) <= LowerLimit.STILL_K)
    lasts = max((end - start for start, end in spans_of(log.times, still)), default=0.0)
    held = found.probability[:, [State.HEAT, State.OTHER]].sum(axis=1)
    unknown = still.any() and held[still].mean() > At.CUTS_SHARE
    return shown_c if lasts >= LowerLimit.STILL_S and unknown else None


def _counted(log: ChipLog) -> Found | None:
    """Return where the chip's own count or flag tells of heat, if nothing else was logged."""
    own = np.zeros(log.times.size, dtype=bool)
    if log.count is not None:
        own |= np.diff(forward(log.count), prepend=np.nan) > 0
    if log.heat_flag is not None:
        own |= forward(log.heat_flag) > 0
    probability = np.zeros((own.size, len(State)))
    probability[:, State.HEAT] = own & log.loaded
    return Found(probability, 0.0, None)


def _lighter_load(
    log: ChipLog, held: Floats, found: Found | None
) -> tuple[bool, tuple[Caution, ...]]:
    """Return whether a lighter load explains less power as well, and what to say of a boost that ended."""
    if (
        log.power is None
        or log.allowed_w is not None
        or log.power_flag is not None
        or found is None
    ):
        return False, ()
    unclear = log.clock is None and log.load is None
    limited = log.loaded & (held >= At.SURE)
    if not limited.any():
        return False, ()
    start_s, at_s = float(log.times[log.loaded][0]), float(log.times[limited][0])
    before = log.loaded & (log.times < at_s) & (log.times > start_s + 2) & np.isfinite(log.power)
    after = limited & np.isfinite(log.power)
    boosted = at_s - start_s <= At.BOOST_ENDS_S and before.sum() > 1 and after.any()
    if not boosted:
        return unclear, ()
    sizes = {
        "from_w": float(np.median(log.power[before])), "to_w": float(np.median(log.power[after])),
        "at_s": float(log.times[before][-1]),
    }  # fmt: skip
    if sizes["to_w"] > (1 - At.LOST) * sizes["from_w"]:
        return unclear, ()
    return unclear, (caution("boost_or_lighter_load" if unclear else "boost_ended", **sizes),)


def _at_limit(log: ChipLog, limit_c: float, by_heat: Floats) -> float:
    """Return the probability that heat holds the chip in the last third of its load.

    A governor may cut the clock and raise it again. So a tenth of the time is enough. A chip that is held
    back hovers around its limit. One close below it is not at it.
    """
    late = log.loaded & (log.times >= _late(log.times, log.loaded))
    if not np.isfinite(limit_c) or not late.any():
        return 0.0
    smooth = running_median(log.temperature, log.times, At.SMOOTH_S)
    close_k = max(At.SITS_K, step_size(log.temperature) / 2)
    sits = float(np.median(smooth[late])) - (limit_c - close_k)
    held = float(np.quantile(by_heat[late], 1 - At.CUTS_SHARE))
    return max(held, float(ndtr(sits / At.SITS_DOUBT_K)))


def _share(times: Floats, flags: Bools, loaded: Bools) -> float:
    weight = np.gradient(times) if times.size > 1 else np.ones(times.size)
    total = float(weight[loaded].sum())
    return float(weight[flags & loaded].sum() / total) if total > 0 else 0.0


def _beyond(log: ChipLog, limit_c: float, found: Found) -> float:
    """Return how far a part stayed above its limit without being held back by heat, in K."""
    late = log.loaded & (log.times >= _late(log.times, log.loaded)) & np.isfinite(log.temperature)
    if not late.any() or found.probability[late, State.HEAT].mean() >= At.SURE:
        return 0.0
    return float(np.median(log.temperature[late])) - limit_c


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
