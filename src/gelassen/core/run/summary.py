"""What one run says: its steady state, when it was held back, and what else matters."""

from dataclasses import dataclass, replace

import numpy as np
import pandas as pd

from gelassen.core.capacity.from_climb import ClimbCapacity, capacity_from_climb
from gelassen.core.changes.changes import find_changes
from gelassen.core.changes.steps import Step
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.foundation.one_thread import one_thread
from gelassen.core.foundation.result import Result
from gelassen.core.recording.judging import (
    choose_reference,
    choose_temperature,
    is_coolant,
    with_mean_of_cores,
)
from gelassen.core.recording.load_span import LoadSpan, span_from_level, span_from_temperature
from gelassen.core.recording.part_series import part_level, part_series
from gelassen.core.recording.recording import Recording
from gelassen.core.recording.series import mean_of, mean_where, means_and_peaks, series_of
from gelassen.core.run.cautions import (
    background_cautions,
    begun_cautions,
    bridged_caution,
    drift_cautions,
    hold_cautions,
    other_part_cautions,
    sensor_cautions,
)
from gelassen.core.run.core_spread import CoreSpread, core_spread
from gelassen.core.run.heat import PowerAndHeat, power_and_heat
from gelassen.core.run.hold_window import hold_window, overlap, within_last
from gelassen.core.run.power_levels import Level, power_levels
from gelassen.core.run.stretches import (
    Stretch,
    answer_stretches,
    comes_in_bursts,
    steps_between,
    within_1k_s,
)
from gelassen.core.settling.outlook import widened_for_looking
from gelassen.core.settling.recovery import Recovery, recovery
from gelassen.core.settling.steady_result import SteadyState
from gelassen.core.settling.swings import find_swings
from gelassen.core.settling.transients import Transients, transients
from gelassen.core.signal.impossible import without_impossible
from gelassen.core.signal.renewal import renewed_every_s
from gelassen.core.throttling.throttle_cost import HeldBack, lost_while_held
from gelassen.core.throttling.throttling import Throttling, find_throttling

# A load that differs by more does something else.
_OTHER_LOAD_PCT = 10.0
# A load that moves by this share is what a temperature follows that swings.
_LOAD_SWINGS = 0.25


@dataclass(frozen=True, slots=True, kw_only=True)
class RunSummary(Result):
    """The numbers of one run.

    Attributes
    ----------
    channel, channel_words
        The temperature that is compared, and how it was chosen.
    reference
        The channel that rises are taken over; None if none was logged.
    steady
        Steady state of `channel` under load; None if there is no temperature.
    throttling
        When the chip was held back; None without temperature or limit.
    stretches
        One entry if nothing changed in mid-run; else one a stretch between `steps`. `steady` is that of
        the stretch in which the hold lies.
    levels
        One entry a stretch, where power went in steps; else none.
    power_w, clock_mhz, fan_rpm, work_per_s, reference_c
        Means over the hold window; NaN where not logged.
    resistance_k_per_w
        Steady rise over the power that belongs to it, K/W; NaN without power or reference.
    heat
        Power and energy over the hold, thermal resistance with its interval, work per joule.
    transients
        How the temperature came up and went back; None if there is none.
    recovery
        Time constants of the cooling after the load; None if little of it was logged.
    climb
        The capacity, for a run whose power climbed; it has no steady state of its own.
    held_back
        Clock, power and work lost while the chip was held back; None if it was not.
    cores
        How the cores differed over the hold; None without two of them.
    channels : DataFrame
        channel, hold_mean, hold_peak, run_peak, run_peak_at_s for every channel.
    hold_s, load_s
        Hold window and whole load, start and end in s.
    """

    name: str
    setup: str | None
    outcome: str
    channel: str | None
    channel_words: str
    reference: str | None
    limit_c: float | None
    steady: SteadyState | None
    throttling: Throttling | None
    steps: tuple[Step, ...]
    stretches: tuple[Stretch, ...]
    power_w: float
    clock_mhz: float
    fan_rpm: float
    work_per_s: float
    reference_c: float
    resistance_k_per_w: float
    channels: pd.DataFrame
    hold_s: tuple[float, float]
    load_s: tuple[float, float]
    made_up: bool
    cautions: tuple[str, ...] = ()
    heat: PowerAndHeat | None = None
    transients: Transients | None = None
    cores: CoreSpread | None = None
    recovery: Recovery | None = None
    held_back: HeldBack | None = None
    climb: ClimbCapacity | None = None
    levels: tuple[Level, ...] = ()

    def __str__(self) -> str:
        over = f" over {self.reference}" if self.reference else ""
        made_up = " (made-up data)" if self.made_up else ""
        lines = [f"{self.name or 'run'}{made_up}: {self.channel_words or 'no temperature'}{over}"]
        held = self.throttling is not None and self.throttling.at_limit
        # Cautions of its parts are among those of the run.
        if self.climb is not None:
            lines.append(str(self.climb).splitlines()[0])
        elif self.steady is not None and held:
            lines.append(self.steady.in_words("held by its limit at"))
        elif self.steady is not None:
            lines.append(str(self.steady).splitlines()[0])
        if self.throttling is not None:
            lines.append(str(self.throttling).splitlines()[0])
        lines += [str(step) for step in self.steps]
        return "\n  ".join([*lines, *(f"caution: {text}" for text in self.cautions)])


@one_thread
def summarise_run(
    recording: Recording,
    *,
    channel: str | None = None,
    reference: str | None = None,
    limit_c: float | None = None,
    confidence: float = 0.95,
    look_for_steps: bool = True,
) -> RunSummary:
    """Summarise one recording.

    Parameters
    ----------
    recording : Recording
        The run.
    channel : str, optional
        Temperature to judge by: a channel name, "mean of cores" or "hottest core" (the core that was
        hottest on average at the end of the load; the default where cores were logged, else the
        package).
    reference : str, optional
        Channel that rises are taken over; the recording's own, else room air, if not given.
    limit_c : float, optional
        Limit temperature in °C; the recording's own if not given.
    confidence : float
        For all intervals.
    look_for_steps : bool
        Whether to look for changes of conditions in mid-run, which takes about 0.1 s.

    Raises
    ------
    InputError
        A channel that the recording does not have, or an empty recording.
    """
    frame = with_mean_of_cores(recording.frame, channel)
    if frame.empty:
        raise InputError(f"{recording.name or 'the recording'} holds no samples")
    # Plain names are found and gone through several times as quickly as those of pandas' own kind.
    frame = frame.set_axis(frame.columns.astype(object), axis="columns")
    times = frame.index.to_numpy(dtype=float)
    frame, impossible = without_impossible(frame)
    cautions = [*recording.cautions, *impossible]
    backward = np.flatnonzero(np.diff(times) < 0)
    if backward.size:
        cautions.append(
            f"times run backwards after {times[backward[0]]:g} s: the samples were put in order, but a "
            "clock that was changed in mid-run makes every duration doubtful"
        )
        frame = frame.sort_index(kind="stable")
        times = frame.index.to_numpy(dtype=float)
    limit = limit_c if limit_c is not None else recording.limit_c
    over = choose_reference(frame, reference or recording.reference, named=reference is not None)
    span = _load_span(recording, frame, times, channel)
    loaded = (times >= span[0]) & (times <= span[1])
    hold = hold_window(recording, span)
    held = (times >= hold[0]) & (times <= hold[1])
    chosen, words = choose_temperature(frame, loaded, channel, over)

    temperature = None if chosen is None else series_of(frame, chosen)
    nothing = np.full(times.size, np.nan)
    part = part_series(frame, chosen or "", nothing if temperature is None else temperature)
    power, clock = part.power_w, part.clock_mhz
    if limit_c is None and chosen is not None and chosen in recording.limits_c:
        limit = recording.limits_c[chosen]
    fan = mean_of(frame, "fan.", ".speed_rpm", moving=True)
    work = series_of(frame, "load.work.rate_per_s")
    room = None if over is None else series_of(frame, over)
    cautions += _missing_cautions(frame, chosen, over, limit, temperature, loaded)
    throttling: Throttling | None = None
    climb: ClimbCapacity | None = None
    climbs = recording.protocol == "capacity"
    steps: tuple[Step, ...] = ()
    stretches: tuple[Stretch, ...] = ()
    if temperature is not None and np.isfinite(temperature[loaded]).any():
        if limit is not None and not climbs:  # a climb is held back by what it sets itself
            throttling = find_throttling(
                times,
                temperature_c=part.hottest_c,
                limit_c=limit,
                clock_mhz=clock,
                power_w=power,
                power_limit_w=recording.power_limit_w if part.is_processor else None,
                load_pct=part.load_pct,
                throttle_count=part.throttle_count,
                heat_flag=part.heat_flag,
                power_flag=part.power_flag,
            )
            cautions += throttling.cautions
        every_s = renewed_every_s(times, temperature)
        if every_s is not None:
            cautions.append(
                f"the temperature is renewed every {every_s:.0f} s only: moments are no surer than that"
            )
        if climbs:
            climb, said = _climb(times, temperature, room, power, span, limit, confidence)
            cautions += said
        bursts = comes_in_bursts(power, part.load_pct, loaded)
        told = [(e.at_s, e.text) for e in recording.events if span[0] < e.at_s < span[1]]
        # A fan that switches on and off changes nothing for good; what the tester noted does.
        swings = not told and _swings(times, temperature, room, power, part.load_pct, span)
        if look_for_steps and not climbs and not bursts and not swings:
            steps = find_changes(
                frame, times, span, temperature, room, throttling, told, is_coolant(over), power
            )
        under = times <= span[1]
        stretches = () if climbs else answer_stretches(
            times[under], temperature[under],
            None if room is None else _known(times, room)[under],
            None if power is None else power[under],
            None if part.load_pct is None else part.load_pct[under], span, steps, confidence,
            None if throttling is None else (throttling.thermal, throttling.power), is_coolant(over),
        )  # fmt: skip
        steps = steps_between(steps, stretches)
    hold = within_last(recording, hold, steps)
    held = (times >= hold[0]) & (times <= hold[1])
    # What was held over the hold window belongs to the stretch in which it lies.
    judged = max(stretches, key=lambda part: overlap(part, hold), default=None)
    steady = None if judged is None else judged.steady
    levels = power_levels(
        frame, times, stretches, nothing if temperature is None else temperature, power, room,
        clock_mhz=clock, work_per_s=work, throttling=throttling, limit_c=limit,
    )  # fmt: skip
    if steady is not None and any(phase.ended_by.startswith("known") for phase in recording.phases):
        steady = widened_for_looking(steady)
    if steady is not None:
        cautions += steady.cautions
        cautions += hold_cautions(recording, steady, hold)
    if steady is not None and temperature is not None and room is not None and not is_coolant(over):
        cautions += begun_cautions(times, temperature - room, span, steady.value)
    if steps:
        moments = ", ".join(f"{step.at_s:.0f} s" for step in steps)
        paused = all(step.what == "pause" for step in steps)
        what = "the load paused in its midst" if paused else "conditions changed during the load"
        cautions.append(f"{what}, at {moments}: each stretch is answered by itself")
    if not climbs:
        cautions += drift_cautions(frame, loaded, held, room, over, power, work)
    if room is not None:
        cautions += bridged_caution(times, room, over, span)
    cautions += background_cautions(recording, frame)
    deaf = steady is not None and not steady.took_notice  # told with the steady state
    cautions += sensor_cautions(frame, times, loaded, None if deaf else chosen)
    held_anywhere = None if throttling is None else throttling.thermal | throttling.power
    cautions += other_part_cautions(frame, loaded, recording.limits_c, held_anywhere)
    mean_power = mean_where(power, held)
    if steady is not None and throttling is not None and throttling.at_limit:
        steady = replace(steady, power_w=mean_power)  # of a chip that is held back, what it held
    over_room = steady if over is not None and not deaf else None
    heat = power_and_heat(
        times, held, power_w=power, wall_w=series_of(frame, "wall.supply.power_w"), work_per_s=work,
        steady=over_room, confidence=confidence,
    )  # fmt: skip
    course: Transients | None = None
    back: Recovery | None = None
    lost: HeldBack | None = None
    if held_anywhere is not None:
        lost = lost_while_held(
            times, held_anywhere,
            _alike(times, loaded, levels, held_anywhere, part.load_pct), clock_mhz=clock,
            power_w=power, work_per_s=work,
        )  # fmt: skip
    if temperature is not None and steady is not None and not deaf:
        risen = temperature - (0.0 if room is None else _bridged(times, room))
        settled = steady.value if not steps and steady.swings_between is None else None
        course = transients(times, risen, span, steady_k=settled)
        if settled is not None and steady.curve is not None:
            # The fitted course knows what single readings do not.
            course = replace(course, within_1k_s=within_1k_s(steady, *span))
        back = recovery(times, risen, span[1], confidence=confidence)
    return RunSummary(
        name=recording.name,
        setup=recording.setup,
        outcome=recording.outcome,
        channel=chosen,
        channel_words=words,
        reference=over,
        limit_c=limit,
        steady=steady,
        throttling=throttling,
        steps=steps,
        stretches=stretches,
        levels=levels,
        power_w=mean_power,
        clock_mhz=mean_where(clock, held),
        fan_rpm=mean_where(fan, held),
        work_per_s=mean_where(work, held),
        reference_c=mean_where(room, held),
        resistance_k_per_w=heat.resistance_k_per_w,
        heat=heat,
        transients=course,
        cores=core_spread(frame, held),
        recovery=back,
        held_back=lost,
        climb=climb,
        channels=_channel_table(frame, times, held),
        hold_s=hold,
        load_s=span,
        made_up=recording.made_up,
        cautions=tuple(dict.fromkeys(cautions)),
    )


def _alike(
    times: Floats, loaded: Bools, levels: tuple[Level, ...], held: Bools, load_pct: Floats | None
) -> Bools:
    """Return the load, as far as it was that under which the chip was held back.

    Of one whose power went in steps, it is the levels at which it was held back at all.
    """
    if load_pct is not None and np.isfinite(load_pct[held]).any():
        usual = float(np.nanmedian(load_pct[held]))
        loaded = loaded & ~(np.abs(load_pct - usual) > _OTHER_LOAD_PCT)
    if not levels:
        return loaded
    alike = np.zeros(times.size, dtype=bool)
    for level in levels:
        inside = loaded & (times >= level.start_s) & (times < level.end_s)
        if held[inside].any():
            alike |= inside
    return alike


def _swings(
    times: Floats,
    temperature: Floats,
    room: Floats | None,
    power: Floats | None,
    load_pct: Floats | None,
    span: tuple[float, float],
) -> bool:
    """Say whether the temperature swings for good, and the load does not."""
    loaded = (times >= span[0]) & (times <= span[1])
    if load_pct is not None and np.isfinite(load_pct[loaded]).any():
        low, high = np.nanpercentile(load_pct[loaded], [5, 95])
        if high - low > _LOAD_SWINGS * high:
            return False
    known = None if room is None else _bridged(times, room)
    rise = temperature - (0.0 if known is None else known)
    swings = find_swings(times, rise, known, power, *span)
    return swings is not None and swings.for_good


def _climb(
    times: Floats, temperature: Floats, room: Floats | None, power: Floats | None,
    span: tuple[float, float], limit_c: float | None, confidence: float,
) -> tuple[ClimbCapacity | None, list[str]]:  # fmt: skip
    """Return the capacity that a climb shows, or why it shows none."""
    if room is None or power is None or limit_c is None:
        return None, [
            "a climb tells the capacity only with room, power and limit temperature known"
        ]
    under = times <= span[1]
    known = _bridged(times, room)[under]
    try:
        found = capacity_from_climb(
            times[under], power[under], temperature[under] - known,
            limit_c=limit_c, ambient_c=float(known.mean()), confidence=confidence,
        )  # fmt: skip
    except InputError as error:
        return None, [f"no capacity from this climb: {error}"]
    return found, []


def _missing_cautions(
    frame: pd.DataFrame,
    chosen: str | None,
    over: str | None,
    limit: float | None,
    temperature: Floats | None,
    loaded: Bools,
) -> list[str]:
    """Say what was not logged and what cannot be concluded without it."""
    if chosen is None:
        return ["no temperature was logged: steady state, rise and throttling cannot be concluded"]
    cautions = []
    if over is None:
        loop = [n for n in frame.columns if n.startswith("loop.") and n.endswith(".temp_c")]
        over_it = (
            f" Rises over {loop[0]} are given where it is named as the reference." if loop else ""
        )
        cautions.append(
            "no room temperature was logged: temperatures are absolute, and runs in "
            f"rooms of different warmth cannot be compared.{over_it}"
        )
    if temperature is None or not np.isfinite(temperature[loaded]).any():
        cautions.append(f"{chosen} has no reading under load: nothing can be said about it")
    elif limit is None:
        cautions.append("no limit temperature is known: throttling by heat cannot be told")
    return cautions


def _known(times: Floats, room: Floats) -> Floats:
    """Return the room as read; bridged where a stretch between changes might have no reading."""
    return room if np.isfinite(room).mean() > 0.5 else _bridged(times, room)


def _bridged(times: Floats, room: Floats) -> Floats:
    """Fill what was not read by straight lines: a room read by hand has few readings."""
    known = np.isfinite(room)
    return np.interp(times, times[known], room[known])


def _load_span(
    recording: Recording, frame: pd.DataFrame, times: Floats, channel: str | None
) -> tuple[float, float]:
    known = recording.load_span_s()
    if known is not None:
        return known
    span: LoadSpan | None = None
    parts = ("gpu", "cpu") if (channel or "").startswith("gpu.") else ("cpu", "gpu")
    for part in parts:
        for quantity in ("power_w", "load_pct"):
            level = part_level(frame, part, quantity)
            seen = None if level is None else span_from_level(times, level)
            # A part that did the same all the time tells nothing where another began to work.
            if seen is not None and (span is None or not (span.found_start or span.found_end)):
                span = seen
    if span is None:
        names = [n for n in frame.columns if n.endswith(".temp_c")]
        names = [n for n in names if frame[n].notna().any()]
        if not names:
            return float(times[0]), float(times[-1])
        spread = frame[names].max() - frame[names].min()
        widest = frame[str(spread.idxmax())].to_numpy(dtype=float)
        span = span_from_temperature(times, widest)
    return span.start_s, span.end_s


def _channel_table(frame: pd.DataFrame, times: Floats, held: Bools) -> pd.DataFrame:
    values = frame.to_numpy(dtype=float)
    hold_mean, hold_peak = means_and_peaks(values[held])
    low = np.where(np.isfinite(values), values, -np.inf)
    at = low.argmax(axis=0)
    peak = low[at, np.arange(low.shape[1])]
    never = ~np.isfinite(peak)
    return pd.DataFrame(
        {
            "channel": list(frame.columns),
            "hold_mean": hold_mean,
            "hold_peak": hold_peak,
            "run_peak": np.where(never, np.nan, peak),
            "run_peak_at_s": np.where(never, np.nan, times[at]),
        }
    )
