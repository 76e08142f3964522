"""Predictions judged: each run beside what the other runs say of it."""

import math

import numpy as np
import pandas as pd

from gelassen.answers.fans.fan_runs import FanRuns, fan_runs
from gelassen.core.fans.curve import FanCurve
from gelassen.core.fans.operating_point import operating_point
from gelassen.core.foundation.distributions import normal_quantile
from gelassen.core.foundation.errors import InputError
from gelassen.study.file.fan_tables import fan_curve
from gelassen.study.file.levels import level_text
from gelassen.study.file.study_file import StudyFile


def borne_out(file: StudyFile, one: FanRuns, confidence: float) -> list[dict[str, object]]:
    """Return each run beside what the others say of it: by its curve where that is known."""
    curves = curves_in(file)
    rows = []
    for place in range(len(one.runs)):
        run = one.runs.iloc[place]
        levels = [level_text(level) for level in run["factors"].values()]
        curve = next((level for level in levels if level in curves), None)
        try:
            others = fan_runs(file, one.setup, one.runs.drop(one.runs.index[place]), one.between_k)
            value, low, high, rpm = _foretold(others, curves.get(curve or ""), run, confidence)
        except InputError:  # too few are left to tell
            continue
        own_k = normal_quantile((1 + confidence) / 2) * float(run["standard_error"])
        low, high = value - math.hypot(value - low, own_k), value + math.hypot(high - value, own_k)
        measured = float(run["value"])
        rows.append(
            {
                "run": run["run"], "setup": one.setup, "curve": curve, "power_w": float(run["power_w"]),
                "rpm": float(run["fan_rpm"]), "predicted_rpm": rpm, "measured_k": measured,
                "predicted_k": value, "low_k": low, "high_k": high, "off_k": measured - value,
                "inside": low <= measured <= high,
            }
        )  # fmt: skip
    return rows


def curves_in(file: StudyFile) -> dict[str, FanCurve]:
    """Return the curves that a study file describes, by their level."""
    return {
        level: fan_curve(entry, f'factors.{name}.curves."{level}"')
        for name, factor in file.factors.items()
        for level, entry in factor.curves.items()
    }


def _foretold(
    others: FanRuns, curve: FanCurve | None, run: pd.Series, confidence: float
) -> tuple[float, float, float, float]:
    """Return the rise with its interval in K, and the speed in rpm, that the other runs give this one."""
    power, room, rpm = float(run["power_w"]), float(run["reference_c"]), float(run["fan_rpm"])
    if curve is not None:
        point = operating_point(others.fan_on(curve), curve, power, room, confidence=confidence)
        value, low, high = (temp - room for temp in point.temp_c)
        return value, low, high, point.rpm[0]
    found = others.fan.cooling.at(np.array([rpm]), np.array([power]))
    away = float(found.spread[0]) * float(normal_quantile((1 + confidence) / 2))
    mean = float(found.mean[0])
    return mean, mean - away, mean + away, rpm
