"""Fan curves of a study: where they settle, which one to try, and how well runs bear it out."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import product

import numpy as np
import pandas as pd

from gelassen.answers.fans.borne_out import borne_out, curves_in
from gelassen.answers.fans.fan_runs import FanRuns, one_setup, study_fans
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.fans.choice import Condition, Suggestion, coolest, quietest
from gelassen.core.fans.curve import FanCurve
from gelassen.core.fans.operating_point import OperatingPoint, operating_point, temp_at_duty
from gelassen.core.fans.priors import Choice
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.distributions import normal_quantile
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.result import Result
from gelassen.study.file.levels import moves_fans
from gelassen.study.file.study_file import StudyFile

_SPEEDS_SHOWN = 7


@dataclass(frozen=True, slots=True, kw_only=True)
class StudyCurves(Result):
    """Fan curves of the setups of a study.

    Attributes
    ----------
    resistance : DataFrame
        setup, rpm, k_per_w, low, high, next_tenth_k (what a tenth more speed gains, K), duty_pct,
        noise_dba; at `power_w`. Over the range that was measured.
    fixed : DataFrame
        Where fixed duties settle: setup, power_w, room_c, duty_pct, temp_c, low_c, high_c.
    points : DataFrame
        Where each curve settles: setup, curve, power_w, room_c, temp_c, low_c, high_c, rpm, low_rpm,
        high_rpm, duty_pct, noise_dba, low_dba, high_dba, hunting, swing_k, period_s, reaches_s (until
        the fan is within 5 % of where it settles), passes_limit_s, over_limit,
        beyond. Predicted, not measured.
    curves : DataFrame
        The curves: setup, curve, points (text, °C: %), steps, hysteresis_k, average_s, prove_w,
        prove_room_c. The last two are None unless it is a suggestion.
    runs : DataFrame
        Each run beside what the other runs predict for it: run, setup, curve, power_w, rpm, predicted_rpm,
        measured_k, predicted_k, low_k, high_k, off_k, inside.
    courses : DataFrame
        Each loop in time: setup, curve, power_w, room_c, elapsed_s, temp_c, duty_pct. Predicted.
    pays_until
        Setup to the speed in rpm above which a tenth more gains little.
    follows
        Setup to the channel that a curve follows.
    """

    title: str
    made_up: bool
    confidence: float
    power_w: float
    resistance: pd.DataFrame
    fixed: pd.DataFrame
    points: pd.DataFrame
    curves: pd.DataFrame
    runs: pd.DataFrame
    pays_until: dict[str, float]
    follows: dict[str, str | None]
    limit_c: float
    courses: pd.DataFrame = field(default_factory=pd.DataFrame)
    cautions: tuple[Caution, ...] = ()

    def __str__(self) -> str:
        return "\n".join(
            f"{row.setup}, {row.curve}: {row.temp_c:.1f} °C ({row.low_c:.1f} to {row.high_c:.1f}) at "
            f"{row.rpm:.0f} rpm"
            for row in self.points.itertuples()
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class CurveQuestion:
    """What is asked of the curves of a study.

    Attributes
    ----------
    powers_w, rooms_c
        Every power is looked at in every room; what the runs had if empty.
    tried
        A curve to predict.
    rpm
        A fixed speed at which all setups are compared.
    quietest_below_c
        The quietest curve is asked that keeps this temperature.
    coolest_within_dba
        The coolest curve is asked that stays within this sound level.
    """

    powers_w: Sequence[float] = ()
    rooms_c: Sequence[float] = ()
    tried: FanCurve | None = None
    rpm: float | None = None
    quietest_below_c: float | None = None
    coolest_within_dba: float | None = None


def study_curves(
    study: StudyRuns,
    asked: CurveQuestion,
    *,
    setup: str | None = None,
    confidence: float = 0.95,
    leave_out: Mapping[str, str] | None = None,
) -> StudyCurves:
    """Predict and choose fan curves; see `Study.curves`."""
    known, cautions = study_fans(study, confidence=confidence, leave_out=leave_out)
    known = one_setup(known, setup)
    everything = pd.concat([one.runs for one in known.values()])
    powers = list(asked.powers_w) or sorted({round(float(x)) for x in everything["power_w"]})
    rooms = list(asked.rooms_c) or [round(float(everything["reference_c"].mean()), 1)]
    conditions = [(float(p), float(r)) for p in powers for r in rooms]
    points, curves, told = [], [], list(cautions)
    courses: list[pd.DataFrame] = []
    refused: list[InputError] = []
    for one in known.values():
        try:
            for name, curve, best in _curves_of(study.file, one, asked, conditions, confidence):
                found = best.points if best else _settled(one, curve, conditions, confidence)
                points += [_point_row(one, name, point) for point in found]
                courses += [_course(one, name, point) for point in found]
                curves.append(_curve_row(one, name, curve, best))
        except InputError as error:  # one setup may do what another cannot
            refused.append(InputError(f"{one.setup}: {error}"))
            told.append(caution("no_such_curve", setup=one.setup, why=str(error)))
    if len(refused) == len(known):
        raise refused[0]
    power_w = max(powers)
    resistance = [row for one in known.values() for row in _resistance(one, power_w, confidence)]
    if any(len(set(one.runs["mount_name"])) < 2 for one in known.values()):
        told.append(caution("one_mounting_of_fan"))
    references = {str(name) for name in everything["reference"]}
    if other := sorted(name for name in references if not name.startswith("room.")):
        told.append(caution("room_is_reference", reference=" and ".join(other)))
    if any(row["beyond"] for row in points):
        told.append(caution("curve_beyond"))
    table = pd.DataFrame(resistance)
    fixed = _fixed(known, conditions, confidence)
    return StudyCurves(
        title=study.file.title, made_up=study.file.made_up, confidence=confidence, power_w=power_w,
        resistance=table, fixed=pd.DataFrame(fixed), points=pd.DataFrame(points),
        curves=pd.DataFrame(curves),
        runs=pd.DataFrame(
            [row for one in known.values() for row in borne_out(study.file, one, confidence)]
        ),
        pays_until={str(name): _pays_until(own) for name, own in table.groupby("setup", sort=False)},
        courses=pd.concat(courses, ignore_index=True) if courses else pd.DataFrame(),
        follows={name: one.follows for name, one in known.items()},
        limit_c=min(one.limit_c for one in known.values()), cautions=tuple(told),
    )  # fmt: skip


def fan_curves_of(study: StudyRuns, confidence: float = 0.95) -> StudyCurves | None:
    """Return what is known of the fan curves of a study that moves its fans; None if nothing is."""
    if not moves_fans(study.file):
        return None
    try:
        return study_curves(study, CurveQuestion(), confidence=confidence)
    except InputError:
        return None


def _settled(
    one: FanRuns, curve: FanCurve, conditions: list[Condition], confidence: float
) -> tuple[OperatingPoint, ...]:
    fan = one.fan_on(curve)
    return tuple(
        operating_point(fan, curve, *at, limit_c=one.limit_c, confidence=confidence)
        for at in conditions
    )


def _curves_of(
    file: StudyFile,
    one: FanRuns,
    asked: CurveQuestion,
    conditions: list[Condition],
    confidence: float,
) -> list[tuple[str, FanCurve, Suggestion | None]]:
    """Return the curves that are asked of, else those of the study file."""
    found: list[tuple[str, FanCurve, Suggestion | None]] = []
    if asked.quietest_below_c is not None:
        best = quietest(
            one.fan, conditions, asked.quietest_below_c, one.limit_c, confidence=confidence
        )
        found.append((f"quietest below {asked.quietest_below_c:g} °C", best.curve, best))
    if asked.coolest_within_dba is not None:
        best = coolest(one.fan, conditions, asked.coolest_within_dba, confidence=confidence)
        found.append((f"coolest within {asked.coolest_within_dba:g} dB(A)", best.curve, best))
    if asked.tried is not None:
        found.append(("tried", asked.tried, None))
    if asked.rpm is not None:
        duty = round(one.fan.speed.duty_for(asked.rpm), 1)
        fixed = FanCurve(temperatures_c=(0.0, 100.0), duties_pct=(duty, duty))
        found.append((f"{asked.rpm:g} rpm", fixed, None))
    if not found:
        found = [(level, curve, None) for level, curve in curves_in(file).items()]
    return found


def _resistance(one: FanRuns, power_w: float, confidence: float) -> list[dict[str, object]]:
    law = one.fan.cooling
    speeds = np.geomspace(law.rpm.min(), law.rpm.max(), _SPEEDS_SHOWN)
    now = law.at(speeds, np.full(speeds.size, power_w))
    more = law.at(1.1 * speeds, np.full(speeds.size, power_w)).mean
    reach = normal_quantile((1 + confidence) / 2) * now.spread
    return [
        {
            "setup": one.setup, "rpm": float(rpm), "k_per_w": mean / power_w,
            "low": (mean - away) / power_w, "high": (mean + away) / power_w,
            "next_tenth_k": mean - faster, "duty_pct": one.fan.speed.duty_for(float(rpm)),
            "noise_dba": one.fan.noise.at(float(rpm))[0] if one.fan.noise else math.nan,
        }
        for rpm, mean, away, faster in zip(speeds, now.mean, reach, more, strict=True)
    ]  # fmt: skip


def _fixed(
    known: Mapping[str, FanRuns], conditions: list[Condition], confidence: float
) -> list[dict[str, object]]:
    rows = []
    for one in known.values():
        for (power_w, room_c), duty in product(conditions, _duties(one)):
            value, low, high = temp_at_duty(one.fan, duty, power_w, room_c, confidence=confidence)
            rows.append(
                {
                    "setup": one.setup, "power_w": power_w, "room_c": room_c, "duty_pct": duty,
                    "temp_c": value, "low_c": low, "high_c": high,
                }
            )  # fmt: skip
    return rows


def _duties(one: FanRuns) -> list[float]:
    """Return the measured range of duty, in steps of about five."""
    low, high = float(one.fan.speed.duty_pct[0]), float(one.fan.speed.duty_pct[-1])
    return [float(duty) for duty in np.linspace(low, high, max(int((high - low) / 5), 2))]


def _pays_until(own: pd.DataFrame) -> float:
    """Return the speed above which a tenth more gains less than is worth it, rpm; inf if all pays."""
    gains, speeds = own["next_tenth_k"].to_numpy(), own["rpm"].to_numpy()
    if gains[-1] >= Choice.PAYS_K:
        return math.inf
    return float(np.interp(-Choice.PAYS_K, -gains, speeds))


def _point_row(one: FanRuns, name: str, point: OperatingPoint) -> dict[str, object]:
    noise = point.noise_dba or (math.nan,) * 3
    return {
        "setup": one.setup, "curve": name, "power_w": point.power_w, "room_c": point.room_c,
        "temp_c": point.temp_c[0], "low_c": point.temp_c[1], "high_c": point.temp_c[2],
        "rpm": point.rpm[0], "low_rpm": point.rpm[1], "high_rpm": point.rpm[2],
        "duty_pct": point.duty_pct, "noise_dba": noise[0], "low_dba": noise[1], "high_dba": noise[2],
        "hunting": point.hunting, "swing_k": point.swing_k, "period_s": point.period_s,
        "reaches_s": point.reaches_s,
        "passes_limit_s": point.passes_limit_s, "over_limit": point.temp_c[2] > one.limit_c,
        "beyond": point.beyond,
    }  # fmt: skip


def _course(one: FanRuns, name: str, point: OperatingPoint) -> pd.DataFrame:
    seconds, temps, duties = point.course
    return pd.DataFrame(
        {
            "setup": one.setup, "curve": name, "power_w": point.power_w, "room_c": point.room_c,
            "elapsed_s": seconds, "temp_c": temps, "duty_pct": duties,
        }
    )  # fmt: skip


def _curve_row(
    one: FanRuns, name: str, curve: FanCurve, suggestion: Suggestion | None
) -> dict[str, object]:
    prove = suggestion.prove_at if suggestion else (None, None)
    return {
        "setup": one.setup, "curve": name, "points": str(curve), "steps": curve.steps,
        "hysteresis_k": curve.hysteresis_k,
        "average_s": curve.average_s, "prove_w": prove[0], "prove_room_c": prove[1],
    }  # fmt: skip
