"""A change by hand: what the tester is told to do, and whether it shows in the readings."""

import math
from collections.abc import Mapping

from gelassen.bench.interface import Bench
from gelassen.conduct.operator.mounting import remounts
from gelassen.conduct.planning.order import PlannedRun
from gelassen.core.recording.channels import is_channel, parse_channel
from gelassen.study.file.durations import words
from gelassen.study.file.fan_tables import CurveTable, fan_curve
from gelassen.study.file.level_text import shown_level
from gelassen.study.file.study_file import StudyFile
from gelassen.study.file.workload import Workload

TURNS, STANDS = "turns", "stands"
_READINGS = 5
_TURNS_RPM = 60.0
_AGREES = 0.1
# Fields shown first in the prompt, in this order. Other fields of a level follow.
_HOW = ("orientation", "direction", "fan_direction", "duty", "photo", "note")
_NOT_SHOWN = ("price", "rated_power_w", "noise_dba")


def instructions(study: StudyFile, planned: PlannedRun) -> list[str]:
    """Return the steps to do before a run, in words."""
    steps = []
    for change in planned.changes:
        steps.append(change.words)
        if change.factor is not None:
            level = planned.levels.get(change.factor)
            steps += [f"  {line}" for line in _how(study, change.factor, level)]
    workload = _by_hand(study, planned)
    if workload is not None:
        steps.append(
            f'start "{workload.name}" and wait until it runs; it is recorded for '
            f"{words(workload.length)}, then end it"
        )
    return steps


def needs_hands(study: StudyFile, planned: PlannedRun) -> bool:
    """Return whether the tester must do something before a run."""
    return bool(planned.changes) or _by_hand(study, planned) is not None


def _by_hand(study: StudyFile, planned: PlannedRun) -> Workload | None:
    """Return the workload of a run if the tester starts it."""
    listed = (one for one in study.workloads if one.name == planned.workload)
    return next((one for one in listed if one.by_hand), None)


def to_note(study: StudyFile, planned: PlannedRun) -> str:
    """Return the notes about this change."""
    return (
        "worth noting: paste and torque, how it is mounted, a photo's name, what the room is like"
        if any(remounts(study, change) for change in planned.changes)
        else "worth noting: anything that differs from before"
    )


def shows(bench: Bench, study: StudyFile, planned: PlannedRun) -> list[str]:
    """Return what the readings should show of a change but do not, with what to do.

    A level says what should be read: `details."2 fans" = { "fan.front2.speed_rpm" = "turns" }`; also
    "stands", or a number that must be read to within a tenth. A setting that is also read, such as a power
    limit, is compared automatically.
    """
    expected = _expected(study, planned)
    if not expected:
        return []
    seen: dict[str, list[float]] = {name: [] for name in expected}
    for _ in range(_READINGS):
        values = bench.read()
        for name, readings in seen.items():
            readings.append(values.get(name, math.nan))
        bench.sleep(1.0)
    wrong = []
    for name, wanted in expected.items():
        known = [value for value in seen[name] if value == value]
        symbol = parse_channel(name).symbol
        if not known:
            wrong.append(f"{name} gives no reading; it should show {_said(wanted, symbol)}")
            continue
        value = sorted(known)[len(known) // 2]
        if not _fits(value, wanted):
            wrong.append(
                f"{name} reads {value:g} {symbol}; it should {_should(wanted, symbol)}. Check the plug and "
                "the setting"
            )
    return wrong


def _expected(study: StudyFile, planned: PlannedRun) -> dict[str, str | float]:
    expected: dict[str, str | float] = {}
    for name, level in planned.levels.items():
        factor = study.factors.get(name)
        if factor is None:
            continue
        if factor.changed_by == "hand" and factor.channel and not isinstance(level, str):
            expected[factor.channel] = level
        for key, value in factor.details.get(shown_level(level), {}).items():
            if is_channel(key):
                expected[key] = value
    return expected


def _how(study: StudyFile, factor: str, level: str | float | None) -> list[str]:
    if level is None:
        return []
    details: Mapping[str, str | float] = study.factors[factor].details.get(shown_level(level), {})
    known = [key for key in _HOW if key in details]
    entered = study.factors[factor].curves.get(shown_level(level))
    curve = [] if entered is None else _curve_to_enter(entered, factor, shown_level(level))
    known += [k for k in details if k not in known and k not in _NOT_SHOWN and not is_channel(k)]
    return [*curve, *(f"{key.replace('_', ' ')}: {shown_level(details[key])}" for key in known)]


def _curve_to_enter(entry: CurveTable, factor: str, level: str) -> list[str]:
    """Return a fan curve as it is entered in a firmware's setup."""
    curve = fan_curve(entry, f'factors.{factor}.curves."{level}"')
    points = zip(curve.temperatures_c, curve.duties_pct, strict=True)
    said = [f"enter this fan curve: {', '.join(f'{t:g} °C {d:g} %' for t, d in points)}"]
    said += ["in steps, not in straight lines"] if curve.steps else []
    said += [f"hysteresis {curve.hysteresis_k:g} K"] if curve.hysteresis_k else []
    return said


def _fits(value: float, wanted: str | float) -> bool:
    if wanted == TURNS:
        return value >= _TURNS_RPM
    if wanted == STANDS:
        return value < _TURNS_RPM
    try:
        return abs(value - float(wanted)) <= max(_AGREES * abs(float(wanted)), 1.0)
    except ValueError:
        return True


def _should(wanted: str | float, symbol: str) -> str:
    return {TURNS: "turn", STANDS: "stand still"}.get(
        str(wanted), f"be about {shown_level(wanted)} {symbol}"
    )


def _said(wanted: str | float, symbol: str) -> str:
    return {TURNS: "that it turns", STANDS: "that it stands"}.get(
        str(wanted), f"{shown_level(wanted)} {symbol}"
    )
