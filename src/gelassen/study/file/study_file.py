"""`study.toml`: what is to be tested, written by people and checked with messages for people."""

from typing import Annotated, Any, Literal, Self

from pydantic import BeforeValidator, ConfigDict, Field, WithJsonSchema, model_validator

from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.study.file.fan_tables import CurveEntry, FanTable
from gelassen.study.file.gate import KNOWN, RESTED, Gate, phase_length
from gelassen.study.file.values import (
    DURATION_SCHEMA,
    Channel,
    Duration,
    Table,
    Temperature,
    with_unit,
)
from gelassen.study.file.workload import Workload

STUDY_FILE = "study.toml"
STUDY_FORMAT: Literal[1] = 1


class Machine(Table):
    """The computer under test."""

    name: str
    limit_c: Temperature = Field(description="temperature at which the chip holds itself back, °C")
    note: str = ""
    supply_w: float | None = Field(
        None, gt=0, le=10000, description="what the supply of the machine is rated for, W"
    )
    supply_v: float | None = Field(
        None,
        gt=0,
        le=1000,
        description="voltage of that supply, V: its power then gives its current",
    )


class Doubt(Table):
    """What the tester knows of his doubts, and which differences matter to him."""

    room_k: float = Field(
        2.0, gt=0, le=20,
        description="where no room was logged: standard deviation of the room between days, K",
    )  # fmt: skip
    remounting_k: float | None = Field(
        None, gt=0, le=20,
        description="what taking a cooler off and putting it back moves a run by, as a standard deviation, "
        "K; from the repeats, or what is usual, if left out",
    )  # fmt: skip
    by_hand_k: float | None = Field(
        None, gt=0, le=50,
        description="how far readings off a screen lie from the steady state, as a standard deviation, K",
    )  # fmt: skip
    matters_k: float = Field(
        1.0, gt=0, le=50, description="the smallest difference that matters, K"
    )


class Factor(Table):
    """What is varied, and the values it takes."""

    levels: list[str | float] = Field(min_length=1)
    changed_by: Literal["hand", "software"] = "hand"
    remounts: bool | None = Field(
        None,
        description="whether a change by hand takes the cooler off; guessed from the name if left out",
    )
    channel: Channel | None = Field(None, description="the actuator that software sets")
    sets: Literal["load", "workers"] | None = Field(
        None, description="what of the load software sets, where it is not an actuator"
    )
    curves: dict[str, CurveEntry] = Field(
        default_factory=dict,
        description='level to the fan curve that software keeps: "40: 30, 60: 40, 80: 70", °C to %, '
        "or a table of it",
    )
    details: dict[str, dict[str, str | float]] = Field(
        default_factory=dict, description="level to what else is known of it: price, noise, note"
    )


def _phase(name: str) -> BeforeValidator:
    return BeforeValidator(lambda value: phase_length(name, with_unit(value)))


def _phase_schema(until: str) -> WithJsonSchema:
    """Return the schema of a phase for editors: a duration, "until ...", or a table."""
    gate = {
        "type": "object",
        "additionalProperties": False,
        "properties": {
            "until": {"const": until},
            "within_k": {"type": "number", "exclusiveMinimum": 0, "maximum": 20},
            "at_least": DURATION_SCHEMA,
            "at_most": DURATION_SCHEMA,
        },
    }
    text = {"type": "string", "examples": [f"until {until}", "20 min", "90 s"]}
    return WithJsonSchema({"anyOf": [DURATION_SCHEMA["anyOf"][0], text, gate]})


class Climb(Table):
    """How the power climbs with `kind = "capacity"`."""

    channel: Channel = "cpu.package.power_limit_w"
    from_w: float | None = Field(
        None, gt=0, description="the first power; a quarter of the highest"
    )
    to_w: float | None = Field(None, gt=0, description="the highest power; what is set at present")
    within_pct: float = Field(3.0, gt=0, le=50, description="how well the capacity is to be known")
    at_most: Duration = 2400.0


class Protocol(Table):
    """How long each phase lasts, and how often each setup is run."""

    kind: Literal["steady", "capacity"] = Field(
        "steady", description="one load until it is steady, or a climb in power to the capacity"
    )
    idle: Annotated[float | Gate, _phase("idle"), _phase_schema(RESTED)] = 300.0
    soak: Annotated[float | Gate, _phase("soak"), _phase_schema(KNOWN)] = 1200.0
    hold: Annotated[float | Gate, _phase("hold"), _phase_schema(KNOWN)] = 600.0
    cooldown: Annotated[float | Gate, _phase("cooldown"), _phase_schema(RESTED)] = 300.0
    climb: Climb = Field(default_factory=Climb)
    interval: Duration = 1.0
    repeats: int = Field(3, ge=1)
    remount: bool = Field(True, description="whether each repeat is a new pass over all mountings")
    baseline_again: bool = Field(True, description="run the baseline again at the end of each pass")
    hand_change: Duration = Field(
        900.0, description="what a change by hand takes, for the estimate"
    )
    seed: int = Field(1, description="of the order of runs: the same seed, the same order")


class LoadTable(Table):
    """What keeps the machine busy."""

    name: Literal["matrix", "integer", "memory", "command"] = "matrix"
    workers: int | None = Field(None, ge=1, description="cores that work; all if not given")
    cores: str | None = Field(None, description='"0-3,6", "performance" or "efficiency"')
    duty_pct: float = Field(100.0, ge=1, le=100, description="share of each period, %")
    period: Duration = Field(1.0, gt=0)
    command: str | None = Field(None, description="a program of your own, with its arguments")
    score: str = Field("", description="regular expression that finds its score")


class Guard(Table):
    """When a run stops by itself."""

    stop_c: dict[Channel, Temperature] = Field(default_factory=dict)
    rise_k_per_s: float | None = Field(
        None,
        gt=0,
        description="how fast watched temperatures may rise once the load has set in, K/s",
    )
    fans: bool | list[Channel] = Field(
        True,
        description="fans that turned under load and stand still stop the run: any, these, none",
    )


class ChannelTable(Table):
    """Where one channel comes from. An empty entry means that the machine has a sensor of this name."""

    origin: Channel | None = Field(
        None, alias="from", description="the channel the machine offers, which this one is"
    )
    resource: str | None = Field(None, description="an instrument's VISA resource name")
    query: str = Field("", description="what to ask the instrument")
    backend: str = Field("@py", description="the VISA library that speaks to it")
    command: str | None = Field(None, description="a program whose last line is the value")
    pattern: str = Field("", description="regular expression that finds the value")
    unit: str = Field("", description="what the value is in, if not in the channel's unit")
    timeout: Annotated[Duration, Field(gt=0, le=60)] = 2.0
    scale: float = Field(1.0, description="readings are multiplied by this")
    offset: float = Field(0.0, description="and this is added, in the channel's unit")
    limit_c: Temperature | None = Field(
        None, description="limit of this temperature, where the machine states none, °C"
    )
    offset_se: float | None = Field(None, ge=0, description="standard error of the offset")
    note: str = ""

    @model_validator(mode="after")
    def _one_source(self) -> Self:
        given = [n for n, v in (("from", self.origin), ("resource", self.resource),
                                ("command", self.command)) if v is not None]  # fmt: skip
        if len(given) > 1:
            raise ValueError(f"{' and '.join(given)} are given; a channel has one of them")
        if (self.resource is None) != (not self.query):
            raise ValueError(
                "resource and query belong together: an instrument, and what to ask it"
            )
        return self


def _load(value: Any) -> Any:
    """Read a name alone as a table with that name."""
    return {"name": value} if isinstance(value, str) else value


def _protocol(value: Any) -> Any:
    """Read a kind alone as a table with that kind."""
    return {"kind": value} if isinstance(value, str) else value


def _shorthands(schema: dict[str, Any]) -> None:
    """Add to the schema that a name alone stands for a load, or for a protocol."""
    properties = schema["properties"]
    for key, names in (
        ("load", ["matrix", "integer", "memory"]),
        ("protocol", ["steady", "capacity"]),
    ):
        properties[key] = {"anyOf": [properties[key], {"enum": names}]}


class StudyFile(Table):
    """The content of `study.toml`."""

    model_config = ConfigDict(extra="forbid", json_schema_extra=_shorthands)

    format: Literal[1] = STUDY_FORMAT
    title: str
    question: str = ""
    made_up: bool = False
    machine: Machine
    reference: Channel = "room.air.temp_c"
    compare: Channel | Literal["hottest core", "mean of cores"] = "hottest core"
    load: Annotated[LoadTable, BeforeValidator(_load)] = Field(default_factory=LoadTable)
    baseline: str | None = None
    channels: dict[Channel, ChannelTable] = Field(default_factory=dict)
    factors: dict[str, Factor] = Field(default_factory=dict)
    setups: dict[str, dict[str, str | float]] = Field(default_factory=dict)
    combine: Literal["list", "full", "baseline"] = Field(
        "list",
        description="which setups there are: those listed, all combinations of levels, or the baseline "
        "and each level in its place",
    )
    protocol: Annotated[Protocol, BeforeValidator(_protocol)] = Field(default_factory=Protocol)
    guard: Guard = Field(default_factory=Guard)
    fans: list[FanTable] = Field(
        default_factory=list, description="speed and sound over duty, as swept"
    )
    left_out: dict[str, str] = Field(
        default_factory=dict, description="run to the reason why it is not compared"
    )
    doubt: Doubt = Field(default_factory=Doubt)
    workloads: list[Workload] = Field(
        default_factory=list,
        description="programs that every setup runs through, one after the other",
    )
    judge: list[Channel | Literal["hottest core", "mean of cores"]] = Field(
        default_factory=list, description="temperatures judged side by side; the first is `compare`"
    )
    comfort_c: Temperature | None = Field(
        None, description="the tester's own line below the limit, °C"
    )
    scales: dict[str, list[str]] = Field(
        default_factory=dict,
        description='words for a detail, from the best to the worst: noise = ["silent", "hums", "loud"]',
    )

    @model_validator(mode="after")
    def _judged_and_workloads(self) -> Self:
        names = [one.name for one in self.workloads]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f'two workloads are called "{twice}"')
        if self.workloads and self.protocol.kind == "capacity":
            raise ValueError("a climb to the capacity has one load: leave [[workloads]] out")
        if self.judge and "compare" not in self.model_fields_set:
            self.compare = self.judge[0]
        return self


def check_setup_name(study: StudyFile, name: str, *, or_else: str = "") -> None:
    """Refuse a setup that the study does not have. `or_else` suggests another way."""
    if name not in study.setups:
        raise InputError(
            # Names of setups contain commas.
            f'"{name}" is not a setup of this study ({"; ".join(study.setups) or "none"}).'
            + nearest(name, study.setups)
            + or_else
        )
