"""The plan of one recording: the study's settings, with the user's options in their place."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TypeVar

from gelassen.bench.described import split_command
from gelassen.bench.interface import Bench
from gelassen.bench.loads.spec import COMMAND, LoadSpec
from gelassen.conduct.planning.climb_plan import ClimbPlan
from gelassen.conduct.planning.plan import FanSteps, RunPlan, Stair, plan_phases, staircase
from gelassen.conduct.watching.guard import stop_temperatures
from gelassen.conduct.watching.judged import Judged
from gelassen.core.fans.curve import FanCurve
from gelassen.core.foundation.errors import InputError
from gelassen.study.file.fan_tables import fan_curve
from gelassen.study.file.gate import Gate
from gelassen.study.file.level_text import shown_level
from gelassen.study.file.study_file import Guard as GuardTable
from gelassen.study.file.study_file import LoadTable, Protocol, StudyFile

_USUAL_FAN_STEP_S = 480.0  # good for an air cooler; a duty that is known earlier is left earlier
# Share to which the rise at each duty is to be known: five of them then tell the cooling over fan speed as
# well as a climb tells a capacity.
_FAN_STEP_WITHIN = 0.05
_LEAST_FAN_STEP_S = 10.0  # s: a fan has reached its speed by then
_BELOW_STOP_K = 3.0  # a climb stays this far below the guard's limit
_T = TypeVar("_T")


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """The user's options; None where the study or the default decides."""

    idle: float | Gate | None = None
    soak: float | Gate | None = None
    hold: float | Gate | None = None
    cooldown: float | Gate | None = None
    interval: float | None = None
    load: str | None = None
    workers: int | None = None
    cores: str | None = None
    duty_pct: float | None = None
    period_s: float | None = None
    command: str | None = None
    score: str | None = None
    stair_s: float | None = None
    pause_s: float = 0.0
    stops: Sequence[str] = ()
    settings: Sequence[str] = ()
    fan_steps: Sequence[float] = ()
    fan: str | None = None


def plan_recording(
    bench: Bench,
    study: StudyFile | None,
    wanted: Wanted,
    *,
    levels: Mapping[str, str | float] | None = None,
    rest_k: float | None = None,
) -> RunPlan:
    """Return the plan of one recording on a bench.

    Parameters
    ----------
    bench, study, wanted
        What runs, what the study says, and what was asked for instead.
    levels
        Those of the setup; some of them say what the load is, or keep a fan on a curve.
    rest_k
        The rise at which this setup rested before, in K.

    Raises
    ------
    InputError
        Something that cannot be meant: an interval, a load, a stop temperature, a setting.
    """
    usual = study.protocol if study else Protocol(idle=120.0)
    interval = wanted.interval if wanted.interval is not None else usual.interval
    if not 0.05 <= interval <= 60:
        raise InputError(f"the interval is {interval:g} s; 0.05 s to 60 s are possible")
    spec = load_spec(_load_of(study, levels or {}), wanted)
    soak, hold = _or(wanted.soak, usual.soak), _or(wanted.hold, usual.hold)
    stairs: tuple[Stair, ...] = ()
    if wanted.stair_s is not None:
        load = bench.load(spec)
        load.stop()
        workers = load.workers
        stairs = staircase(workers, wanted.stair_s, pause_s=wanted.pause_s)
        soak, hold = sum(stair.duration_s for stair in stairs), 0.0
    readable = [info.name for info in bench.channels() if info.readable]
    stop_c = stop_temperatures(wanted.stops, study.guard.stop_c if study else {}, readable)
    climb = None
    if study is not None and usual.kind == "capacity":
        climb = climb_plan(bench, study, stop_c)
        soak, hold = climb.at_most_s, 0.0
    curves, settings = _curves(study, levels or {}), _settings(wanted.settings)
    steps = _fan_steps(bench, wanted, soak, hold)
    if steps is not None and (steps.within or isinstance(hold, Gate)):
        soak, hold = steps.at_most_s, 0.0
    if steps is not None and (steps.channel in curves or steps.channel in settings):
        raise InputError(
            f"--fan-steps: {steps.channel} is set by this setup or by --set, too: one of them may"
        )
    guard = study.guard if study else GuardTable()
    fans = guard.fans if isinstance(guard.fans, list) else None if guard.fans else ()
    return RunPlan(
        phases=plan_phases(
            _or(wanted.idle, usual.idle), soak, hold, _or(wanted.cooldown, usual.cooldown)
        ),
        interval_s=interval,
        load=spec,
        stairs=stairs,
        stop_c=stop_c,
        stop_each=bool(wanted.stops or (study and study.guard.stop_c)),
        stop_rise_k_per_s=guard.rise_k_per_s,
        stop_fans=fans,
        judged=Judged(
            channel=None if study is None else study.compare,
            reference=None if study is None else study.reference,
            limit_c=None if study is None else study.machine.limit_c,
            rest_k=rest_k,
        ),
        fan_curves=curves,
        climb=climb,
        settings=settings,
        fan_steps=steps,
    )


def _fan_steps(
    bench: Bench, wanted: Wanted, soak: float | Gate, hold: float | Gate
) -> FanSteps | None:
    """Return the duties a fan goes through during the load.

    If soak is a time, the duties divide the load evenly. If soak waits for its answer, so does each duty.
    """
    if not wanted.fan_steps:
        return None
    settable = [
        name for name in bench.actuators() if name.startswith("fan.") and name.endswith(".duty_pct")
    ]
    fan = wanted.fan or (settable[0] if len(settable) == 1 else None)
    if fan not in settable:
        known = ", ".join(settable) or "none"
        raise InputError(
            f"--fan-steps needs a fan whose duty can be set here (found: {known}): name it with --fan, "
            "such as --fan fan.cpu.duty_pct"
        )
    if min(wanted.fan_steps) < 0 or max(wanted.fan_steps) > 100 or len(wanted.fan_steps) < 2:
        raise InputError(
            '--fan-steps are two duties or more, 0 to 100 %, such as "100 80 60 45 30"'
        )
    if isinstance(soak, Gate):
        if wanted.hold:
            raise InputError(
                '--fan-steps with --soak "until known" measures each duty by itself, without a hold. Leave '
                "out --hold, or give --soak as a time, too"
            )
        return FanSteps(fan, tuple(wanted.fan_steps), _USUAL_FAN_STEP_S, _FAN_STEP_WITHIN)
    load_s = soak + (0.0 if isinstance(hold, Gate) else hold)
    step_s = load_s / len(wanted.fan_steps)
    if step_s < _LEAST_FAN_STEP_S:
        raise InputError(
            f"--fan-steps: {len(wanted.fan_steps)} duties in {load_s:g} s of load are {step_s:g} s "
            f"each; give each at least {_LEAST_FAN_STEP_S:g} s, with --soak and --hold"
        )
    return FanSteps(fan, tuple(wanted.fan_steps), step_s)


def climb_plan(bench: Bench, study: StudyFile, stop_c: Mapping[str, float]) -> ClimbPlan:
    """Return how a study's power climbs on this bench.

    Raises
    ------
    InputError
        A machine whose power is not read, or no highest power known.
    """
    asked = study.protocol.climb
    readable = [info.name for info in bench.channels() if info.readable]
    if "cpu.package.power_w" not in readable:
        raise InputError(
            'protocol.kind = "capacity" needs cpu.package.power_w, and it cannot be read here: start as '
            "root, or describe a meter under [channels]"
        )
    actuator = bench.actuators().get(asked.channel)
    to_w = asked.to_w if asked.to_w is not None else actuator.read() if actuator else math.nan
    if not to_w > 0:
        raise InputError(
            f"protocol.climb.to_w: {asked.channel} cannot be set here, so say the highest power, to_w = 125"
        )
    from_w = asked.from_w if asked.from_w is not None else to_w / 4
    if actuator is not None and (to_w > actuator.high or from_w < actuator.low):
        raise InputError(
            f"protocol.climb: {from_w:g} to {to_w:g} W asked for; {actuator.low:g} to "
            f"{actuator.high:g} W are possible with {asked.channel}"
        )
    chips = [stop - _BELOW_STOP_K for name, stop in stop_c.items() if name.startswith("cpu.")]
    return ClimbPlan(
        channel=asked.channel,
        from_w=from_w,
        to_w=to_w,
        limit_c=study.machine.limit_c,
        never_c=min([study.machine.limit_c, *chips]),
        by_hand=actuator is None,
        within=asked.within_pct / 100,
        at_most_s=asked.at_most,
    )


def _load_of(study: StudyFile | None, levels: Mapping[str, str | float]) -> LoadTable:
    """Return the study's load as the levels of a setup have it."""
    if study is None:
        return LoadTable()
    changed: dict[str, object] = {}
    for factor, level in levels.items():
        sets = study.factors[factor].sets if factor in study.factors else None
        if sets == "load":
            changed["name"] = level
        elif sets == "workers":
            changed["workers"] = int(level)
    return study.load.model_copy(update=changed)


def _curves(study: StudyFile | None, levels: Mapping[str, str | float]) -> dict[str, FanCurve]:
    """Return the fan curves that software keeps for a setup, by the fan's duty channel."""
    found = {}
    for name, level in levels.items():
        factor = study.factors.get(name) if study else None
        if factor is None or factor.channel is None or factor.changed_by != "software":
            continue
        if str(level) in factor.curves:
            where = f'factors.{name}.curves."{level}"'
            found[factor.channel] = fan_curve(factor.curves[str(level)], where)
    return found


def load_spec(usual: LoadTable, wanted: Wanted) -> LoadSpec:
    """Return the load: the study's, unless the user asked for another."""
    command = _or(wanted.command, usual.command if wanted.load in (None, COMMAND) else None)
    name = COMMAND if wanted.command else _or(wanted.load, usual.name)
    return LoadSpec(
        name=name,
        workers=wanted.workers if wanted.workers is not None else usual.workers,
        cores=wanted.cores if wanted.cores is not None else usual.cores,
        duty_pct=_or(wanted.duty_pct, usual.duty_pct),
        period_s=_or(wanted.period_s, usual.period),
        command=split_command(command or "", "the load's command") if name == COMMAND else (),
        score=_or(wanted.score, usual.score),
    )


def settings_of_setup(
    study: StudyFile, levels: Mapping[str, str | float], settable: Sequence[str]
) -> tuple[dict[str, float], list[str]]:
    """Return the settings that software makes for a setup, and cautions about the rest."""
    settings, by_hand = {}, []
    for factor, level in levels.items():
        entry = study.factors.get(factor)
        channel = entry.channel if entry is not None else None
        if entry is not None and entry.changed_by == "software" and not (channel or entry.sets):
            by_hand.append(
                f"{factor}: see that it is {shown_level(level)}; nothing says how software sets it"
            )
        if channel is None or isinstance(level, str):
            continue
        if channel in settable:
            settings[channel] = float(level)
        else:
            by_hand.append(
                f"{factor}: {channel} cannot be set here; see that {level:g} is set by hand"
            )
    return settings, by_hand


def _settings(pairs: Sequence[str]) -> dict[str, float]:
    found = {}
    for pair in pairs:
        name, _, value = pair.partition("=")
        try:
            found[name.strip()] = float(value)
        except ValueError:
            raise InputError(
                f'--set "{pair}": write it like cpu.package.power_limit_w=65'
            ) from None
    return found


def _or(wanted: _T | None, usual: _T) -> _T:
    return usual if wanted is None else wanted
