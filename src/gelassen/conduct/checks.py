"""Checks before the first run, so that no day is wasted. Each finding says what to do."""

import math
from collections.abc import Callable, Collection
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import psutil

from gelassen.bench.interface import Bench
from gelassen.conduct.planning.plan import RunPlan
from gelassen.conduct.watching.guard import Guard
from gelassen.core.foundation.errors import BenchError, InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.core.recording.judging import HOTTEST_CORE, MEAN_OF_CORES
from gelassen.study.file.study_file import StudyFile

# The possible findings, by the name under which the user can waive them.
CHECKS = {
    "reference": "the reference channel gives no reading",
    "compared": "the compared channel gives no reading",
    "idle": "the machine is not at rest",
    "background": "other programs use the processor",
    "fan": "a fan that should turn does not",
    "movement": "a channel does not move under load",
    "load": "the load does not work",
    "power-limit": "a software setting cannot be set",
    "disk": "too little disk space for the recordings",
    "clock": "the wall clock is not set by a time server",
}
_WATCH_S, _TRY_S = 10.0, 12.0
_BUSY_PCT = 8.0
_MOVES_K_PER_MIN = 4.0
_TRIES_K = 2.0
_CELL_BYTES, _SPARE_BYTES = 16, 200 << 20


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """Something that would spoil the runs.

    Attributes
    ----------
    name
        Under which it is waived.
    text
        What was found, and what to do.
    stops
        Whether the runs should not begin.
    """

    name: str
    text: str
    stops: bool = True

    def __str__(self) -> str:
        return f"{self.name}: {self.text}"


def check_waived(names: Collection[str]) -> None:
    """Refuse to waive an unknown check."""
    for name in names:
        if name not in CHECKS:
            raise InputError(
                f'"{name}" is not a check that could be waived ({", ".join(CHECKS)}).'
                + nearest(name, CHECKS)
            )


def check_before(
    bench: Bench,
    study: StudyFile,
    plan: RunPlan,
    folder: Path,
    *,
    runs: int = 1,
    waive: Collection[str] = (),
    say: Callable[[str], None] | None = None,
) -> list[Finding]:
    """Check everything that often spoils a day of tests; return the findings that are not waived.

    Watches the bench for ten seconds, then loads it for some more, under the guard.

    Parameters
    ----------
    bench, study, plan
        What the first run will use.
    folder
        Where runs are stored.
    runs
        How many runs are to be made.
    waive
        Names of checks that are left out.
    say
        LogOptions what is being done.
    """
    check_waived(waive)
    found = [
        *_channels(bench, study),
        *_settable(bench, study, plan),
        *_disk(bench, plan, folder, runs),
    ]
    found += _wall_clock(bench)
    if not {"idle", "background", "fan"} <= set(waive):
        (say or (lambda text: None))("watching the machine at rest for ten seconds")
        found += _at_rest(bench, study, plan)
    if not {"movement", "load"} <= set(waive) and not any(one.name == "compared" for one in found):
        (say or (lambda text: None))("trying the load for a few seconds")
        found += _under_load(bench, study, plan)
    return [finding for finding in found if finding.name not in waive]


def _channels(bench: Bench, study: StudyFile) -> list[Finding]:
    infos = {info.name: info for info in bench.channels()}
    values = bench.read()
    found = []
    wanted = [("reference", study.reference, "rises over it")]
    if study.compare not in (HOTTEST_CORE, MEAN_OF_CORES):
        wanted.append(("compared", study.compare, "a comparison"))
    elif not any(
        n.startswith("cpu.") and n.endswith(".temp_c") and v == v for n, v in values.items()
    ):
        found.append(
            Finding(
                name="compared",
                text="no processor temperature is read here, so no setups can be compared by it. See what "
                'is offered with: gelassen channels. Choose another with compare = "CHANNEL"',
            )
        )
    for name, channel, purpose in wanted:
        if channel not in infos:
            text = f"{channel} is not a channel of this machine, so there will be no {purpose}."
            near = nearest(channel, infos)
            text += near or (
                " Connect a thermometer and describe it in study.toml, [channels], or note readings by "
                "hand: gelassen note"
                if name == "reference"
                else ""
            )
        elif not infos[channel].readable or math.isnan(values.get(channel, math.nan)):
            why = infos[channel].problem or bench.failure_reasons().get(channel, "no reason known")
            text = f"{channel} gives no reading ({why}), so there will be no {purpose}. Check its cable"
        else:
            continue
        found.append(Finding(name=name, text=text))
    return found


def _settable(bench: Bench, study: StudyFile, plan: RunPlan) -> list[Finding]:
    actuators = bench.actuators()
    found = []
    wanted = {
        factor.channel: f"factors.{name}"
        for name, factor in study.factors.items()
        if factor.channel is not None and factor.changed_by == "software"
    }
    for channel, where in wanted.items():
        if channel in actuators:
            levels = [
                x for x in study.factors[where.split(".", 1)[1]].levels if not isinstance(x, str)
            ]
            low, high = actuators[channel].low, actuators[channel].high
            beyond = [x for x in levels if not low <= x <= high]
            if beyond:
                found.append(
                    Finding(
                        name="power-limit",
                        text=f"{where}: {channel} cannot be set to {beyond[0]:g}; {low:g} to {high:g} are "
                        "possible here",
                    )
                )
                continue
            problem = _tried(bench, channel)
            if problem:
                found.append(Finding(name="power-limit", text=f"{where}: {problem}"))
            continue
        known = ", ".join(actuators) or "nothing"
        found.append(
            Finding(
                name="power-limit",
                text=f"{where}: {channel} cannot be set here (settable: {known}). As a rule only root may; "
                'start as root, or say changed_by = "hand" to be asked for it',
            )
        )
    return found


def _tried(bench: Bench, channel: str) -> str:
    """Write the present value of each setting again; return why that fails, if it does."""
    actuator = bench.actuators()[channel]
    try:
        actuator.set(min(max(actuator.read(), actuator.low), actuator.high))
    except (BenchError, OSError) as error:
        return str(error)
    finally:
        try:
            actuator.restore()
        except BenchError as error:
            return str(error)
    return ""


def _disk(bench: Bench, plan: RunPlan, folder: Path, runs: int) -> list[Finding]:
    there = next((p for p in (folder, *folder.resolve().parents) if p.exists()), Path.cwd())
    free = psutil.disk_usage(str(there)).free
    channels = sum(info.readable for info in bench.channels())
    needed = runs * plan.duration_s / plan.interval_s * channels * _CELL_BYTES + _SPARE_BYTES
    if free >= needed:
        return []
    return [
        Finding(
            name="disk",
            text=f"{folder}: {free / 2**20:.0f} MiB are free, up to {needed / 2**20:.0f} MiB are needed. "
            "Make room, or choose another folder",
        )
    ]


def _wall_clock(bench: Bench) -> list[Finding]:
    synchronised = getattr(bench, "clock_synchronised", None)
    if synchronised is None or synchronised() is not False:
        return []
    return [
        Finding(
            name="clock",
            text="the wall clock is not set by a time server: logs of other devices are then laid beside "
            "these runs by their readings, not by their times. Switch it on: timedatectl set-ntp true",
            stops=False,
        )
    ]


def _at_rest(bench: Bench, study: StudyFile, plan: RunPlan) -> list[Finding]:
    table = _watched(bench, plan, _WATCH_S)
    found = []
    load = _mean(table.get("cpu.all.load_pct"))
    if load > _BUSY_PCT:
        found.append(
            Finding(
                name="background",
                text=f"other programs use {load:.0f} % of the processor. Close them (top shows which): "
                "their heat would count as the load's",
            )
        )
    slopes = {
        name: 60 * _slope(table["t_s"], values)
        for name, values in table.items()
        if name.startswith("cpu.") and name.endswith(".temp_c")
    }
    if slopes:
        median = float(np.nanmedian(list(slopes.values())))
        gated = bool(plan.phases and plan.phases[0].gate)
        if abs(median) > _MOVES_K_PER_MIN and not gated:
            found.append(
                Finding(
                    name="idle",
                    text=f"the processor's temperature still moves by {median:+.0f} K/min. Wait until it "
                    'rests, or let each run wait for it: idle = "until rested"',
                )
            )
    found += [
        Finding(name="fan", text=f"{name} stands still. {why}")
        for name, why in _fans_expected(bench, study, table).items()
        if _mean(table.get(name)) < 30
    ]
    return found


def _fans_expected(bench: Bench, study: StudyFile, table: dict[str, list[float]]) -> dict[str, str]:
    """Return the fans that should turn. Boards have many headers, most of them without a fan."""
    expected = {}
    for name in table:
        if not name.endswith(".speed_rpm") or not name.startswith(("fan.", "loop.")):
            continue
        duty = _mean(table.get(name.replace(".speed_rpm", ".duty_pct")))
        if name in study.channels:
            expected[name] = "Is it plugged in, and not blocked?"
        elif isinstance(study.guard.fans, list) and name in study.guard.fans:
            expected[name] = "The guard is to watch it. Is it plugged in?"
        elif duty >= 25 and name.replace(".speed_rpm", ".duty_pct") in study_channels(study):
            expected[name] = f"Its duty is {duty:.0f} %. Is it plugged in, and not blocked?"
    return expected


def study_channels(study: StudyFile) -> set[str]:
    """Return the actuators that the study's factors name."""
    return {factor.channel for factor in study.factors.values() if factor.channel is not None}


def _under_load(bench: Bench, study: StudyFile, plan: RunPlan) -> list[Finding]:
    readable = [info.name for info in bench.channels() if info.readable]
    guard = Guard(plan.stop_c, readable, each=plan.stop_each)
    # The lowest planned power, since an unknown setup should not start at full power.
    settings = (
        {} if plan.climb is None or plan.climb.by_hand else {plan.climb.channel: plan.climb.from_w}
    )
    before = _watched(bench, plan, 3.0)
    load = bench.load(plan.load, workers=plan.workers)
    changed = []
    try:
        for name, value in {**plan.settings, **settings}.items():
            actuator = bench.actuators().get(name)
            if actuator is not None:
                changed.append(actuator)
                actuator.set(value)
        load.start()
        during = _watched(bench, plan, _TRY_S, guard=guard)
        problem = load.problem()
    except BenchError as error:
        return [Finding(name="power-limit", text=str(error))]
    finally:
        load.stop()
        for actuator in changed:
            actuator.restore()
    if problem:
        return [Finding(name="load", text=problem)]
    rate = during.get("load.work.rate_per_s", [])
    found = []
    if rate and not any(value > 0 for value in rate):
        found.append(
            Finding(
                name="load", text="the load does no work: its rate stays at 0. Try another load"
            )
        )
    judged = study.compare
    temps = [n for n in during if n.startswith("cpu.") and n.endswith(".temp_c")]
    watched = [judged] if judged in during else temps
    moved = [max(during[n], default=math.nan) - _mean(before.get(n)) for n in watched]
    if (
        watched
        and all(not k >= _TRIES_K for k in moved)
        and judged in (HOTTEST_CORE, MEAN_OF_CORES)
    ):
        named = watched[0] if len(watched) == 1 else "no processor temperature"
        does = "does not move" if len(watched) == 1 else "moves"
        found.append(
            Finding(
                name="movement",
                text=f"{named} {does} by {_TRIES_K:g} K in {_TRY_S:.0f} s of load: the sensor is stuck, "
                "or is not the processor's. Look with: gelassen channels --probe",
            )
        )
    return found


def _watched(
    bench: Bench, plan: RunPlan, seconds: float, *, guard: Guard | None = None
) -> dict[str, list[float]]:
    """Return readings over some seconds, by channel; `t_s` among them. The guard may end it early."""
    apart = min(plan.interval_s, 1.0)
    start = bench.now()
    table: dict[str, list[float]] = {"t_s": []}
    while (now := bench.now() - start) <= seconds:
        values = bench.read()
        table["t_s"].append(now)
        for name, value in values.items():
            table.setdefault(name, []).append(value)
        if guard is not None and guard.reason_to_stop(values):
            break
        bench.sleep(apart)
    return table


def _mean(values: list[float] | None) -> float:
    known = [value for value in values or () if value == value]
    return sum(known) / len(known) if known else math.nan


def _slope(times: list[float], values: list[float]) -> float:
    known = np.isfinite(values)
    if known.sum() < 3:
        return math.nan
    return float(np.polyfit(np.array(times)[known], np.array(values)[known], 1)[0])
