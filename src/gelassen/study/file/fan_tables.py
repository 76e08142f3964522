"""Fans in a study file: curves in full, and what a sweep of duty showed."""

import math
from typing import Annotated, Literal, Self

from pydantic import BeforeValidator, Field, model_validator

from gelassen.core.fans.curve import FanCurve, check_curve, parse_curve
from gelassen.study.file.values import Channel, Duration, Table


class CurveTable(Table):
    """A fan curve that software keeps, with how it is followed."""

    points: str = Field(description='"40: 30, 60: 40, 80: 70", °C to %')
    between: Literal["lines", "steps"] = Field(
        "lines", description="straight lines between the points, or a jump at each"
    )
    follows: list[Channel] = Field(
        default_factory=list,
        description="channels of which the hottest counts; every temperature of a processor if left out",
    )
    average: Duration = Field(
        0.0, ge=0, description="time constant of the average that is followed"
    )
    hysteresis_k: float = Field(
        0.0, ge=0, le=40, description="the duty falls only this far below where it was set, K"
    )
    rise_pct_per_s: float | None = Field(None, gt=0, description="how fast the duty may rise, %/s")
    fall_pct_per_s: float | None = Field(None, gt=0, description="how fast it may fall, %/s")
    start_pct: float = Field(
        0.0, ge=0, le=100, description="lowest duty at which the fan starts, %"
    )
    least_pct: float = Field(
        0.0, ge=0, le=100, description="lowest duty at which it keeps turning, %"
    )
    stop_below_c: float | None = Field(None, description="the fan stands still below this, °C")


class FanTable(Table):
    """What a sweep of duty showed of one fan, or was read off its data sheet."""

    of: str | None = Field(
        None, description="the setup, its fan and power factors left out; all if left out"
    )
    channel: Channel | None = Field(None, description="the duty that was swept")
    fan: Channel | None = Field(None, description="the speed that followed it")
    duty_pct: list[float] = Field(min_length=2, description="duties at which the fan turned, %")
    rpm: list[float] = Field(min_length=2, description="its speed at each")
    noise_dba: list[float | Literal[""]] = Field(
        default_factory=list, description='metered at each duty, dB(A); "" where not'
    )
    heard: list[str] = Field(
        default_factory=list,
        description='what it sounds like at each duty; "" where nothing was said',
    )
    stalls_pct: float | None = Field(
        None, ge=0, le=100, description="the fan stands still at this duty and below, %"
    )
    starts_pct: float | None = Field(
        None, ge=0, le=100, description="lowest duty at which it starts from standstill, %"
    )

    @model_validator(mode="after")
    def _fits(self) -> Self:
        lengths = {"duty_pct": len(self.duty_pct), "rpm": len(self.rpm)}
        if self.noise_dba:
            lengths["noise_dba"] = len(self.noise_dba)
        if self.heard:
            lengths["heard"] = len(self.heard)
        if len(set(lengths.values())) > 1:
            told = ", ".join(f"{name} has {count}" for name, count in lengths.items())
            raise ValueError(f"one number for each duty: {told}")
        return self


def _as_table(entry: object) -> object:
    if isinstance(entry, str):
        return {"points": entry}
    if isinstance(entry, (dict, CurveTable)):
        return entry
    raise ValueError(
        'write a curve as "40: 30, 60: 40, 80: 70", °C to %, or as a table with points'
    )


# A curve as people write it: its points, or a table that says more.
CurveEntry = Annotated[
    CurveTable, BeforeValidator(_as_table, json_schema_input_type=str | CurveTable)
]


def fan_curve(entry: CurveTable, where: str) -> FanCurve:
    """Return the curve that a study file describes.

    Raises
    ------
    InputError
        Naming the place, what contradicts itself, and why it may not.
    """
    points = parse_curve(entry.points, where)
    curve = FanCurve(
        temperatures_c=points.temperatures_c, duties_pct=points.duties_pct,
        steps=entry.between == "steps", follows=tuple(entry.follows), average_s=entry.average,
        hysteresis_k=entry.hysteresis_k, rise_pct_per_s=entry.rise_pct_per_s or math.inf,
        fall_pct_per_s=entry.fall_pct_per_s or math.inf, start_pct=entry.start_pct,
        least_pct=entry.least_pct, stop_below_c=entry.stop_below_c,
    )  # fmt: skip
    check_curve(curve, where)
    return curve
