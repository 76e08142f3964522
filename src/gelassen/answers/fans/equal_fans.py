"""Setups compared at equal fan speed, duty or noise from their cooling over fan speed."""

import math
from collections.abc import Collection, Mapping
from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.answers.fans.fan_runs import NEVER_OFF, FanRuns, study_fans
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.comparing.along.equal_table import equal_table
from gelassen.core.fans.loop import Fan
from gelassen.core.foundation.caution import caution
from gelassen.core.foundation.distributions import normal_quantile
from gelassen.core.foundation.errors import InputError
from gelassen.study.file.levels import level_text, power_factors
from gelassen.study.file.study_file import StudyFile

FROM_LAW = "cooling over fan speed"
_UNKNOWN = (math.nan, math.nan)
_NEARBY = 0.02  # share of the speed over which a slope is taken


@dataclass(frozen=True, slots=True)
class _There:
    """One setup at the point: rise and its standard error in K, NaN beyond what was run."""

    value: float
    error_k: float
    levels: int

    def half(self, confidence: float) -> float:
        return float(normal_quantile((1 + confidence) / 2)) * self.error_k

    def minus(self, other: "_There") -> "_There":
        return _There(
            self.value - other.value, math.hypot(self.error_k, other.error_k), self.levels
        )


def equal_by_law(
    study: StudyRuns,
    quantity: str,
    at: float | None,
    *,
    setups: Collection[str],
    shown: Collection[str],
    confidence: float,
    leave_out: Mapping[str, str] | None,
) -> pd.DataFrame | None:
    """Return setups at one fan speed, duty or noise; None if not each setup's fan is known.

    Each setup's law takes all of its runs, at any fan speed and power. So it answers for setups that
    were run under curves that react, and that had no fan speed in common at one power. All setups of one
    power limit are compared at one power, their mean. The law takes the runs of `setups`; powers are
    those of the runs of `shown`.

    Raises
    ------
    InputError
        No point that all setups cover, and none given; or one that no setup was run at.
    """
    try:
        fans, told = study_fans(study, confidence=confidence, leave_out=leave_out, setups=setups)
    except InputError:
        return None
    spans = {name: _span(one.fan, quantity) for name, one in fans.items()}
    if any(one.code == "no_fan_law" for one in told) or None in spans.values():
        return None
    known = {name: span for name, span in spans.items() if span is not None}
    at = common_middle(known, quantity) if at is None else at
    if not any(low <= at <= high for low, high in known.values()):
        raise none_reaches(known, quantity, at)
    by_load = {
        name: _by_load(study.file, one.runs[one.runs["setup"].isin(list(shown))])
        for name, one in fans.items()
    }
    places, loads, powers, passes = {}, {}, {}, {}
    for setup, own in by_load.items():
        for load in own:
            name = ", ".join(part for part in (setup, load) if part)
            alike = [runs[load] for runs in by_load.values() if load in runs]
            power_w = float(np.mean([runs["power_w"].astype(float).mean() for runs in alike]))
            low, high = known[setup]
            one = fans[setup]
            rise_k, error_k = (
                _rise(one.fan, quantity, at, power_w) if low <= at <= high else _UNKNOWN
            )
            places[name] = _There(
                rise_k, math.hypot(error_k, _of_one_mounting_k(one)), len(one.runs)
            )
            loads[name], powers[name] = load, power_w
            room_c = float(one.runs["reference_c"].astype(float).mean())
            passes[name] = room_c + rise_k > one.limit_c
    table = equal_table(places, loads, at, confidence)
    names = table["group"]
    table = table.assign(power_w=names.map(powers), passes_limit=names.map(passes), method=FROM_LAW)
    if any(_of_one_mounting_k(one) for one in fans.values()):
        told = (*told, caution("one_mounting_of_fan"))
    table.attrs["cautions"] = list(map(str, told))
    return table


def _of_one_mounting_k(one: FanRuns) -> float:
    """Return what a setup may differ from its mean over mountings by, if it was mounted once, K."""
    mountings = set(one.runs["mount_name"])
    return one.between_k if len(mountings) == 1 and mountings != {NEVER_OFF} else 0.0


def _by_load(file: StudyFile, runs: pd.DataFrame) -> dict[str, pd.DataFrame]:
    """Return the runs of each power limit, and of each workload if there are several, under its words."""
    factors = power_factors(file)

    def words(setup: str, load: object) -> str:
        levels = file.setups.get(setup, {})
        limits = [level_text(levels[name]) for name in factors if name in levels]
        return ", ".join([*limits, *([str(load)] if file.workloads and load else [])])

    named = [words(str(s), x) for s, x in zip(runs["setup"], runs["load"], strict=True)]
    return {str(name): part for name, part in runs.groupby(named, sort=False)}


def _rise(fan: Fan, quantity: str, at: float, power_w: float) -> tuple[float, float]:
    """Return the mean rise over mountings at the point, and its standard error, K."""
    rpm, doubt_rpm = _speed(fan, quantity, at)
    speeds = rpm * np.array([1 - _NEARBY, 1.0, 1 + _NEARBY])
    found = fan.cooling.at(speeds, np.full(3, power_w), next_mounting=False)
    slope = float(found.mean[2] - found.mean[0]) / (2 * _NEARBY * rpm)
    return float(found.mean[1]), math.hypot(float(found.spread[1]), slope * doubt_rpm)


def _speed(fan: Fan, quantity: str, at: float) -> tuple[float, float]:
    """Return the fan speed at which the quantity has this value, and its standard error, rpm."""
    if quantity == "duty_pct":
        return fan.speed.at(at)
    if quantity == "noise_dba" and fan.noise is not None:
        rpm = 10 ** (fan.noise.middle[0] + (at - fan.noise.middle[1]) / fan.noise.slope)
        return rpm, fan.noise.at(rpm)[1] / fan.noise.slope * math.log(10) * rpm
    return at, 0.0


def _span(fan: Fan, quantity: str) -> tuple[float, float] | None:
    """Return the range of the quantity over the speeds that were run; None if it is not known."""
    low, high = float(fan.cooling.rpm.min()), float(fan.cooling.rpm.max())
    if quantity == "fan_rpm":
        return low, high
    if quantity == "duty_pct":
        return fan.speed.duty_for(low), fan.speed.duty_for(high)
    if quantity == "noise_dba" and fan.noise is not None and fan.noise.slope > 0:
        return fan.noise.at(low)[0], fan.noise.at(high)[0]
    return None


def none_reaches(spans: Mapping[str, tuple[float, float]], quantity: str, at: float) -> InputError:
    """Return the error for a point that no setup was run at."""
    return InputError(f"no setup was run at {quantity} {at:g} ({_in_words(spans)})")


def _in_words(spans: Mapping[str, tuple[float, float]]) -> str:
    return "; ".join(f"{name}: {low:.4g} to {high:.4g}" for name, (low, high) in spans.items())


def common_middle(spans: Mapping[str, tuple[float, float]], quantity: str) -> float:
    """Return the middle of the range that every setup was run in."""
    low, high = max(a for a, _ in spans.values()), min(b for _, b in spans.values())
    if low > high:
        raise InputError(
            f"the setups have no {quantity} in common ({_in_words(spans)}): say at which value to compare, "
            "with --at or at="
        )
    return (low + high) / 2
