"""The plan of one recording: what the study says, and what was asked for instead."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TypeVar

from gelassen.bench.described import split_command
from gelassen.bench.interface import Bench
from gelassen.bench.loads.spec import COMMAND, LoadSpec
from gelassen.conduct.guard import stop_temperatures
from gelassen.conduct.plan import RunPlan, Stair, plan_phases, staircase
from gelassen.core.errors import InputError
from gelassen.study.studyfile import LoadTable, Protocol, StudyFile

_T = TypeVar("_T")


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """What was asked for; None where the study, or what is usual, decides."""

    idle: float | None = None
    soak: float | None = None
    hold: float | None = None
    cooldown: float | None = None
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


def plan_recording(bench: Bench, study: StudyFile | None, wanted: Wanted) -> RunPlan:
    """Return the plan of one recording on a bench.

    Raises
    ------
    InputError
        Something that cannot be meant: an interval, a load, a stop temperature, a setting.
    """
    usual = study.protocol if study else Protocol(idle=120.0)
    interval = wanted.interval if wanted.interval is not None else usual.interval
    if not 0.05 <= interval <= 60:
        raise InputError(f"the interval is {interval:g} s; 0.05 s to 60 s are possible")
    spec = load_spec(study.load if study else LoadTable(), wanted)
    soak, hold = _or(wanted.soak, usual.soak), _or(wanted.hold, usual.hold)
    stairs: tuple[Stair, ...] = ()
    if wanted.stair_s is not None:
        load = bench.load(spec)
        load.stop()
        workers = load.workers
        stairs = staircase(workers, wanted.stair_s, pause_s=wanted.pause_s)
        soak, hold = sum(stair.duration_s for stair in stairs), 0.0
    return RunPlan(
        phases=plan_phases(
            _or(wanted.idle, usual.idle), soak, hold, _or(wanted.cooldown, usual.cooldown)
        ),
        interval_s=interval,
        load=spec,
        stairs=stairs,
        stop_c=stop_temperatures(
            wanted.stops,
            study.guard.stop_c if study else {},
            [info.name for info in bench.channels() if info.readable],
        ),
        stop_each=bool(wanted.stops or (study and study.guard.stop_c)),
        settings=_settings(wanted.settings),
    )


def load_spec(usual: LoadTable, wanted: Wanted) -> LoadSpec:
    """Return the load: the study's, with what was asked for instead."""
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
    """Return what software sets for a setup, and what to say of the rest."""
    settings, by_hand = {}, []
    for factor, level in levels.items():
        channel = study.factors[factor].channel if factor in study.factors else None
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
