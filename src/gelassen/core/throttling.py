"""When a chip was held back, and by what: heat, its power limit, or nothing but a warm boost."""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from scipy.ndimage import median_filter

from gelassen.core.errors import InputError
from gelassen.core.inputs import Bools, Floats, SeriesLike, as_series, as_time, need_readings
from gelassen.core.loadspan import span_from_level, span_from_temperature
from gelassen.core.noise import noise_std, step_size
from gelassen.core.result import Result

# A governor keeps the hottest reading within about this of the limit while it holds the chip back.
_NEAR_K = 2.5
# Losing less clock than this as it warms is an ordinary, slightly lower boost.
_SAG_SHARE = 0.035
# A plateau of power is this even; readings of package power scatter by a per cent or so.
_PINNED_SHARE = 0.025
# Power within this of a limit that is told is held by it.
_LIMIT_SHARES = (0.985, 1.04)
# The best clock is one that is held this long, after the first seconds: every cold chip runs faster then.
_COLD_S, _BEST_HELD_S = 20.0, 6.0
# On a power limit the clock gives way as leakage grows, by this share a kelvin or more, and power keeps
# its level to this share a kelvin: that shows a limit which nobody told.
_GIVES_WAY_PER_K, _KEEPS_PER_K, _WARMING_K = 6e-4, 2.5e-4, 10.0
# A board that switches takes away at least this share of the power within seconds.
_SUDDEN_SHARE = 0.05
# Shorter pauses between two stretches of the same cause, and shorter stretches, are noise.
_PAUSE_S, _SHORTEST_S = 10.0, 4.0


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
        True if the temperature sat at its limit at the end of the load: it can no longer tell this
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
    of power (a board that switches in coarse steps). A limit that is not told and holds from the
    first second on shows where the clock gives way to the warming chip while power keeps its level.
    Without a clock, a fall of power at the temperature limit takes its place. Not to be told: such
    a limit on a chip whose power does not depend on temperature.
    """
    times = as_time(time_s)
    temperature = as_series("temperature_c", temperature_c, like=times)
    need_readings("temperature_c", temperature)
    if not -50 < limit_c < 250:
        raise InputError(f"limit_c is {limit_c} °C; a limit between -50 and 250 °C is needed")
    clock = _optional("clock_mhz", clock_mhz, times)
    power = _optional("power_w", power_w, times)
    load = _optional("load_pct", load_pct, times)
    count = _optional("throttle_count", throttle_count, times)
    allowed = _allowed(power_limit_w, times)
    cautions: list[str] = []
    impossible = bool(np.nanmin(temperature) > limit_c)
    if impossible:
        cautions.append(
            f"every reading is above the limit of {limit_c:g} °C, at rest too: it cannot be the limit of "
            "this part, and being held back by heat is not concluded from it"
        )

    loaded = _loaded(times, temperature, load, power, clock)
    near_k = max(_NEAR_K, 2 * min(step_size(temperature), 2.0))
    near = _held(temperature, times, 5.0) >= limit_c - near_k
    if impossible:
        near = np.zeros(times.size, dtype=bool)
    thermal = np.zeros(times.size, dtype=bool)
    by_power = np.zeros(times.size, dtype=bool)
    if clock is not None:
        slow = loaded & (
            _held(clock, times, 3.0) < (1 - _SAG_SHARE) * _best_clock(times, clock, loaded)
        )
        thermal = slow & near
        if power is not None:
            # Near the temperature limit too: as long as power keeps its level, heat takes nothing.
            by_power = slow & _pinned(times, power, allowed, slow & ~near, near)
            thermal &= ~by_power
            if allowed is None:
                by_power |= _gives_way(times, temperature, clock, power, loaded & ~near) & ~thermal
                by_power |= _switched(times, power, slow & ~near & ~by_power & ~thermal)
    elif power is not None:
        slow = loaded & (_held(power, times, 3.0) < 0.96 * _best_clock(times, power, loaded))
        thermal = slow & near
        cautions.append("no clock was logged: being held back is told from power alone")
    else:
        thermal = loaded & near
        cautions.append(
            "neither clock nor power was logged: sitting at the limit is taken as being held back"
        )
    if power is not None and allowed is not None:
        by_power |= loaded & ~thermal & _on_limit(_held(power, times, 5.0), allowed)
    if count is not None:
        risen = np.concatenate([[False], np.diff(_forward(count)) > 0])
        thermal |= risen & loaded
    elif power is None and clock is not None and power_flag is None:
        cautions.append("power was not logged: being held back by a power limit cannot be told")
    # The chip's own word counts for more than anything concluded.
    says_heat, says_power = (
        _optional(name, flag, times)
        for name, flag in (("heat_flag", heat_flag), ("power_flag", power_flag))
    )
    if says_heat is not None:
        thermal = loaded & (_forward(says_heat) > 0)
    if says_power is not None:
        by_power = loaded & (_forward(says_power) > 0)

    thermal = _tidy(times, thermal)
    by_power = _tidy(times, by_power & ~thermal)
    intervals = sorted(
        [(*span, "thermal") for span in _spans(times, thermal)]
        + [(*span, "power") for span in _spans(times, by_power)]
    )
    late = loaded & (times >= _late(times, loaded))
    # Close below the limit is not at it: a chip that is held back hovers around its limit itself.
    sits = thermal | (
        _held(temperature, times, 15.0) >= limit_c - max(0.75, step_size(temperature) / 2)
    )
    at_limit = bool(late.any() and np.mean(sits[late]) > 0.5) and not impossible
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
    return as_series("power_limit_w", power_limit_w, like=times)


def _loaded(
    times: Floats,
    temperature: Floats,
    load: Floats | None,
    power: Floats | None,
    clock: Floats | None,
) -> Bools:
    """Return where the machine works; the load channel tells best."""
    if load is not None:
        busy = np.nan_to_num(load, nan=0.0) > 0.5 * float(np.nanmax(load))
        return np.asarray(busy & (np.nanmax(load) > 20))
    for level in (power, clock):
        span = None if level is None else span_from_level(times, level)
        if span is not None:
            return np.asarray((times >= span.start_s) & (times <= span.end_s))
    span = span_from_temperature(times, temperature)
    return np.asarray((times >= span.start_s) & (times <= span.end_s))


def _held(values: Floats, times: Floats, width_s: float) -> Floats:
    """Return the running median over some seconds, so that single readings do not decide."""
    gaps = np.diff(times)
    gaps = gaps[gaps > 0]
    step = float(np.median(gaps)) if gaps.size else 1.0
    width = 2 * round(width_s / step / 2) + 1
    filled = _forward(values)
    if width < 3 or values.size < width:
        return filled
    return np.asarray(median_filter(filled, size=width, mode="nearest"))


def _forward(values: Floats) -> Floats:
    """Hold the last reading over gaps."""
    present = np.isfinite(values)
    if present.all():
        return values
    last = np.maximum.accumulate(np.where(present, np.arange(values.size), -1))
    first = int(np.argmax(present))
    return np.asarray(values[np.maximum(last, first)])


def _best_clock(times: Floats, level: Floats, loaded: Bools) -> float:
    """Return the best level held for a while under load.

    The first seconds do not count: a clock that only a cold chip reaches is not what it loses.
    """
    if not loaded.any():
        return float("nan")
    start = float(times[loaded][0])
    length = float(times[loaded][-1]) - start
    later = loaded & (times > start + min(_COLD_S, 0.1 * length))
    values = _held(level, times, 9.0)[later if later.any() else loaded]
    # Held for some seconds, so that it is a level and not the top of the scatter.
    seconds = float(np.median(np.diff(times))) if times.size > 1 else 1.0
    most = int(np.clip(round(_BEST_HELD_S / max(seconds, 1e-3)), min(5, values.size), values.size))
    return float(np.sort(values)[-most])


def _on_limit(power: Floats, allowed: Floats) -> Bools:
    """Return where the power sits on the limit that was told; above it, the chip boosts."""
    share = np.nan_to_num(power / allowed)
    return np.asarray((share >= _LIMIT_SHARES[0]) & (share <= _LIMIT_SHARES[1]))


def _pinned(
    times: Floats, power: Floats, allowed: Floats | None, where: Bools, near: Bools
) -> Bools:
    """Return where the power sits on a level: the one told, or the one it keeps by itself.

    `where` is where only a power limit can hold the chip back: there the level is read off.
    """
    smooth = _held(power, times, 5.0)
    if allowed is not None:
        return _on_limit(smooth, allowed)
    if where.sum() < 20:
        return np.zeros(times.size, dtype=bool)
    level = float(np.median(smooth[where]))
    scatter = 2 * noise_std(power[where]) / np.sqrt(5)
    spread = max(_PINNED_SHARE * level, scatter)
    # A level is kept by most of the samples; a power that drifts through it is no plateau.
    if np.mean(np.abs(smooth - level)[where] <= spread) < 0.6:
        return np.zeros(times.size, dtype=bool)
    narrow = max(0.4 * _PINNED_SHARE * level, scatter)
    return np.asarray(np.abs(smooth - level) <= np.where(near, narrow, 3 * spread))


def _gives_way(
    times: Floats, temperature: Floats, clock: Floats, power: Floats, where: Bools
) -> Bools:
    """Return where power keeps its level while the clock gives way to the warming chip.

    So does a chip that is held by a power limit from the first second on; a chip that is not takes
    more power as it leaks more, or loses clock and power together.
    """
    nothing = np.zeros(times.size, dtype=bool)
    start = times[where][0] if where.any() else 0.0
    use = where & (times > start + 5) & np.isfinite(temperature + clock + power)
    if use.sum() < 60 or np.ptp(np.percentile(temperature[use], [2, 98])) < _WARMING_K:
        return nothing
    smooth = _held(power, times, 9.0)
    level = float(np.median(smooth[use]))
    keeps = use & (np.abs(smooth - level) <= 0.4 * _PINNED_SHARE * level)
    if keeps.sum() < 0.8 * use.sum():
        return nothing
    warm = temperature[keeps] - temperature[keeps].mean()
    if warm @ warm < keeps.sum() * (_WARMING_K / 5) ** 2:
        return nothing
    clock_per_k = float(warm @ np.log(clock[keeps].clip(1))) / float(warm @ warm)
    power_per_k = float(warm @ np.log(power[keeps].clip(1e-3))) / float(warm @ warm)
    if clock_per_k > -_GIVES_WAY_PER_K or abs(power_per_k) > _KEEPS_PER_K:
        return nothing
    return where & (np.abs(smooth - level) <= _PINNED_SHARE * level)


def _switched(times: Floats, power: Floats, slow: Bools) -> Bools:
    """Return where a board holds the chip back in coarse steps: stretches that begin with a drop.

    Below the chip's own limit; regulators and current limits do so. A boost that is lost gradually
    has no such beginning.
    """
    switched = np.zeros(times.size, dtype=bool)
    filled = _forward(power)
    for start, end in _spans(times, _tidy(times, slow)):
        before = filled[(times >= start - 15) & (times < start - 2)]
        after = filled[(times > start + 2) & (times <= start + 15)]
        if not (before.size and after.size):
            continue
        if np.median(after) < (1 - _SUDDEN_SHARE) * np.median(before):
            switched |= (times >= start) & (times <= end)
    return switched


def _spans(times: Floats, flags: Bools) -> list[tuple[float, float]]:
    edges = np.flatnonzero(np.diff(np.concatenate([[False], flags, [False]]).astype(int)))
    return [
        (float(times[a]), float(times[b - 1])) for a, b in zip(edges[::2], edges[1::2], strict=True)
    ]


def _tidy(times: Floats, flags: Bools) -> Bools:
    """Join what a short pause separates, then drop what is too short to mean anything."""
    joined = flags.copy()
    spans = _spans(times, flags)
    for (_, end), (start, _) in pairwise(spans):
        if start - end <= _PAUSE_S:
            joined |= (times >= end) & (times <= start)
    tidy = np.zeros_like(joined)
    for start, end in _spans(times, joined):
        if end - start >= _SHORTEST_S:
            tidy |= (times >= start) & (times <= end)
    return tidy


def _share(times: Floats, flags: Bools, loaded: Bools) -> float:
    weight = np.gradient(times) if times.size > 1 else np.ones(times.size)
    total = float(weight[loaded].sum())
    return float(weight[flags & loaded].sum() / total) if total > 0 else 0.0


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
