"""What one run says: its steady state, when it was held back, and what else matters."""

from dataclasses import dataclass, replace

import numpy as np
import pandas as pd

from gelassen.core.capacity.from_climb import ClimbCapacity
from gelassen.core.changes.steps import Step
from gelassen.core.foundation.caution import Caution
from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.foundation.one_thread import one_thread
from gelassen.core.foundation.result import Result
from gelassen.core.recording.recording import Recording
from gelassen.core.recording.series import mean_where, means_and_peaks
from gelassen.core.run.cautions import run_cautions
from gelassen.core.run.core_spread import CoreSpread, core_spread
from gelassen.core.run.fan_levels import fan_levels
from gelassen.core.run.heat import PowerAndHeat, heat_of_run
from gelassen.core.run.hold_window import hold_window, overlap, within_last
from gelassen.core.run.power_levels import Level, power_levels
from gelassen.core.run.prepared import PreparedRun, prepare_run
from gelassen.core.run.stretches import Stretch, within_1k_s
from gelassen.core.run.thresholds import Load
from gelassen.core.run.under_load import UnderLoad, find_under_load
from gelassen.core.run.warmth_cost import WarmthCost, warmth_costs
from gelassen.core.settling.outlook import widened_for_looking
from gelassen.core.settling.recovery import Recovery, recovery
from gelassen.core.settling.steady_result import SteadyState
from gelassen.core.settling.transients import Transients, transients
from gelassen.core.throttling.throttle_cost import ThrottleCost, throttle_cost
from gelassen.core.throttling.throttling_result import Throttling


@dataclass(frozen=True, slots=True, kw_only=True)
class RunSummary(Result):
    """The numbers of one run.

    Attributes
    ----------
    channel, channel_words, channel_kind
        The temperature that is compared, how it was chosen, and what kind of temperature that makes it.
    reference
        The reference channel of the rises; None if none was logged.
    steady
        Steady state of `channel` under load; None if there is no temperature.
    throttling
        When the chip was held back; None without temperature or limit.
    stretches
        One entry if nothing changed in mid-run; else one a stretch between `steps`. `steady` is that of
        the stretch in which the hold lies.
    levels
        One entry a stretch, where power went in steps; else none.
    fan_levels
        One entry a stretch, where a fan was held at one duty after the other; else none.
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
    warmth
        How clock, power and work changed from the first minute to the hold, and at each change.
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
    cautions: tuple[Caution, ...] = ()
    heat: PowerAndHeat | None = None
    transients: Transients | None = None
    cores: CoreSpread | None = None
    recovery: Recovery | None = None
    held_back: ThrottleCost | None = None
    warmth: tuple[WarmthCost, ...] = ()
    climb: ClimbCapacity | None = None
    levels: tuple[Level, ...] = ()
    fan_levels: tuple[Level, ...] = ()
    channel_kind: str = ""

    def __str__(self) -> str:
        over = f" over {self.reference}" if self.reference else ""
        made_up = " (made-up data)" if self.made_up else ""
        lines = [f"{self.name or 'run'}{made_up}: {self.channel_words or 'no temperature'}{over}"]
        # Cautions of its parts are among those of the run.
        if self.climb is not None:
            lines.append(str(self.climb).splitlines()[0])
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
        Reference channel of the rises; the recording's own, else room air, if not given.
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
    run = prepare_run(recording, channel, reference, limit_c)
    load = find_under_load(run, confidence=confidence, look_for_steps=look_for_steps)
    hold = within_last(recording, hold_window(recording, run.load_s), load.steps)
    held = run.within(hold)
    levels = power_levels(run, load.stretches, load.throttling)
    steady = _judged_steady(run, load, hold)
    cautions = run_cautions(
        run, steady, hold, load.steps, before=load.cautions, throttling=load.throttling
    )
    mean_power = mean_where(run.power_w, held)
    if steady is not None and steady.limited:
        steady = replace(
            steady, power_w=mean_power
        )  # a chip that is held back is judged by the power it held
    course, back = _course(run, load, steady, confidence)
    heat = heat_of_run(run, held, steady, confidence)
    return RunSummary(
        name=recording.name,
        setup=recording.setup,
        outcome=recording.outcome,
        channel=run.judged.channel,
        channel_words=run.judged.words,
        channel_kind=run.judged.kind,
        reference=run.reference,
        limit_c=run.limit_c,
        steady=steady,
        throttling=load.throttling,
        steps=load.steps,
        stretches=load.stretches,
        levels=levels,
        fan_levels=() if levels else fan_levels(run, load.throttling, confidence),
        power_w=mean_power,
        clock_mhz=mean_where(run.part.clock_mhz, held),
        fan_rpm=mean_where(run.fan_rpm, held),
        work_per_s=mean_where(run.work_per_s, held),
        reference_c=mean_where(run.reference_c, held),
        resistance_k_per_w=heat.resistance_k_per_w,
        heat=heat,
        transients=course,
        cores=core_spread(run.frame, held),
        recovery=back,
        held_back=_throttle_cost(run, load.throttling, levels, steady),
        warmth=() if levels or load.climb else warmth_costs(run, hold, load.steps),
        climb=load.climb,
        channels=_channel_table(run.frame, run.times, held),
        hold_s=hold,
        load_s=run.load_s,
        made_up=recording.made_up,
        cautions=tuple(dict.fromkeys(cautions)),
    )


def _judged_steady(
    run: PreparedRun, load: UnderLoad, hold: tuple[float, float]
) -> SteadyState | None:
    """Return the steady state of the stretch in which most of the hold lies."""
    judged = max(load.stretches, key=lambda part: overlap(part, hold), default=None)
    if judged is None:
        return None
    if any(phase.ending == "known" for phase in run.recording.phases):
        return widened_for_looking(judged.steady)
    return judged.steady


def _course(
    run: PreparedRun, load: UnderLoad, steady: SteadyState | None, confidence: float
) -> tuple[Transients | None, Recovery | None]:
    """Return how the temperature came up under load, and how it went back afterwards."""
    rise = run.bridged_rise
    if rise is None or steady is None or not steady.took_notice:
        return None, None
    settled = steady.value if not load.steps and steady.swings_between is None else None
    course = transients(run.times, rise, run.load_s, steady_k=settled)
    if settled is not None and steady.curve is not None:
        # The fitted course is surer than single readings.
        course = replace(course, within_1k_s=within_1k_s(steady, *run.load_s))
    return course, recovery(run.times, rise, run.load_s[1], confidence=confidence)


def _throttle_cost(
    run: PreparedRun,
    throttling: Throttling | None,
    levels: tuple[Level, ...],
    steady: SteadyState | None,
) -> ThrottleCost | None:
    """Return what being held back cost, against the same load; None if it is not known to be held."""
    if throttling is None:
        return None
    # Where power went in steps, its levels were set: only what heat takes is a loss.
    held = throttling.thermal if levels else throttling.thermal | throttling.power
    # A load that comes and goes does other work at other times, and at another power.
    constant = steady is None or not steady.is_mean
    return throttle_cost(
        run.times, held, _alike(run, levels, held), clock_mhz=run.part.clock_mhz,
        power_w=run.power_w if constant else None, work_per_s=run.work_per_s if constant else None,
    )  # fmt: skip


def _alike(run: PreparedRun, levels: tuple[Level, ...], held: Bools) -> Bools:
    """Return the load, as far as it was that under which the chip was held back.

    Where power went in steps, these are the levels at which the chip was held back at all.
    """
    loaded, load_pct = run.loaded, run.part.load_pct
    if load_pct is not None and np.isfinite(load_pct[held]).any():
        usual = float(np.nanmedian(load_pct[held]))
        loaded = loaded & ~(np.abs(load_pct - usual) > Load.OTHER_LOAD_PCT)
    if not levels:
        return loaded
    alike = np.zeros(run.times.size, dtype=bool)
    for level in levels:
        inside = loaded & (run.times >= level.start_s) & (run.times < level.end_s)
        if held[inside].any():
            alike |= inside
    return alike


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
