"""`run.json`: what was set up, and how the run went."""

import json
import platform
from datetime import datetime
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from gelassen._version import __version__
from gelassen.core.foundation.caution import Caution
from gelassen.core.foundation.errors import FileError
from gelassen.core.recording.recording import ENDINGS
from gelassen.system.files import read_text

RUN_FORMAT: Literal[1] = 1
FAN_STEPS = "fan steps"  # the protocol of a run whose fan goes through several duties
# How an attempt at a power, a clock, a voltage ended.
ATTEMPTS = ("held", "held back", "unstable", "stopped by the guard", "shut down", "would not start")


class PhaseEntry(BaseModel):
    """A phase of the run, in s from the start of the recording."""

    model_config = ConfigDict(extra="ignore")
    name: str
    start_s: float
    end_s: float
    ended_by: str = Field("", description="in words")
    ending: str = Field("", description=", ".join(ENDINGS))

    @model_validator(mode="after")
    def _of_earlier_versions(self) -> "PhaseEntry":
        """Earlier versions told the ending in the first word only."""
        first = self.ended_by.partition(":")[0]
        if not self.ending and first in (*ENDINGS, "at rest"):
            self.ending = "rested" if first == "at rest" else first
        elif not self.ending and self.ended_by.startswith("found in "):
            self.ending = "found"
        return self


class EventEntry(BaseModel):
    """Something that happened during the run."""

    model_config = ConfigDict(extra="ignore")
    at_s: float
    text: str


class OriginEntry(BaseModel):
    """Where a channel came from."""

    model_config = ConfigDict(extra="ignore")
    header: str
    conversion: str = "as it is"
    offset: float = Field(0.0, description="what the tester has added, in the channel's unit")
    limit: float | None = Field(
        None, description="the limit the machine states for it, in the channel's unit"
    )


class CautionEntry(BaseModel):
    """What weakens the run: a code for programs, and words for people."""

    model_config = ConfigDict(extra="ignore")
    code: str
    words: str
    sizes: dict[str, float | int | str] = Field(
        default_factory=dict, description="the numbers and names in its words"
    )
    about: str = Field("", description="the log it is about, where several were merged")

    @classmethod
    def of(cls, text: str) -> "CautionEntry":
        """Return the entry for a caution; plain text comes from the recorder."""
        if isinstance(text, Caution):
            return cls(code=text.code, words=str(text), sizes=text.sizes, about=text.about)
        return cls(code="recorder", words=text)

    def read(self) -> Caution:
        """Return the caution of this entry."""
        return Caution(self.words, code=self.code, sizes=self.sizes, about=self.about)


class StatedRoom(BaseModel):
    """The room, where the tester stated it once for a whole run."""

    model_config = ConfigDict(extra="ignore", allow_inf_nan=False)
    temp_c: float = Field(gt=-50, lt=80)
    standard_error_k: float = Field(gt=0, le=20)


class ReadByHand(BaseModel):
    """What the tester read off a screen, for a run without samples. Temperatures in °C."""

    model_config = ConfigDict(extra="ignore", allow_inf_nan=False)
    highest_c: float | None = Field(None, description="the highest reading under load")
    mean_c: float | None = Field(None, description="the mean over the whole load")
    end_c: float | None = Field(None, description="the reading at the end of the load")
    rest_c: float | None = Field(None, description="the reading at rest before the load")
    room_c: float | None = Field(None, description="the room")
    room_se: float = Field(0.5, description="standard error of the room, K")
    power_w: float | None = None
    clock_mhz: float | None = None
    fan_rpm: float | None = None
    score: float | None = None
    noise_dba: float | None = None
    minutes: float | None = Field(None, description="how long the load lasted")
    ending: str = Field("", description=", ".join(ATTEMPTS))
    note: str = ""

    @field_validator("ending")
    @classmethod
    def _known(cls, given: str) -> str:
        if given and given not in ATTEMPTS:
            raise ValueError(f"one of {', '.join(ATTEMPTS)} is needed")
        return given


class RunFile(BaseModel):
    """The content of `run.json`. Keys that this version does not know are ignored."""

    model_config = ConfigDict(extra="ignore")

    format: Literal[1] = RUN_FORMAT
    outcome: str = Field(
        "recording", description="recording, finished, stopped, guard, imported, entered, ..."
    )
    started: str | None = Field(None, description="RFC 3339 with offset")
    setup: str | None = None
    levels: dict[str, str | float] = Field(default_factory=dict)
    mount: str | None = Field(None, description="runs with the same were not remounted between")
    again_of: str | None = Field(None, description="the run that this one repeats out of doubt")
    protocol: str = Field(
        "steady",
        description="steady; capacity: the power climbs; fan steps: a fan goes through duties",
    )
    load: str | None = None
    settings: dict[str, float] = Field(
        default_factory=dict, description="what was set for the run and put back after it"
    )
    limit_c: float | None = None
    power_limit_w: float | None = None
    reference: str | None = Field(None, description="reference channel of the rises")
    made_up: bool = Field(False, description="true for simulated data")
    channels: dict[str, OriginEntry] = Field(default_factory=dict)
    phases: list[PhaseEntry] = Field(default_factory=list)
    events: list[EventEntry] = Field(default_factory=list)
    cautions: list[CautionEntry] = Field(default_factory=list)
    room: StatedRoom | None = Field(None, description="the room, stated once for the whole run")
    by_hand: ReadByHand | None = Field(
        None, description="a run without samples, whose readings were typed in"
    )
    source: dict[str, Any] = Field(default_factory=dict, description="imported file and its hash")
    versions: dict[str, str] = Field(default_factory=dict)

    @field_validator("started")
    @classmethod
    def _a_time(cls, given: str | None) -> str | None:
        if given is not None:
            datetime.fromisoformat(given)  # ValueError says what is wrong with it
        return given

    @field_validator("cautions", mode="before")
    @classmethod
    def _plain_text_too(cls, given: Any) -> Any:
        """Take cautions that are plain text, as earlier versions wrote them."""
        if not isinstance(given, list):
            return given
        return [CautionEntry.of(one) if isinstance(one, str) else one for one in given]


def versions() -> dict[str, str]:
    """Return what a stored run was made with."""
    return {
        "gelassen": __version__,
        "python": platform.python_version(),
        "system": platform.system(),
    }


def read_run_file(path: Path) -> RunFile:
    """Read and check `run.json`."""
    try:
        content = json.loads(read_text(path))
    except (OSError, ValueError) as error:
        raise FileError(f"{path} cannot be read: {error}") from None
    except RecursionError:
        raise FileError(f"{path} cannot be read: it is nested too deeply") from None
    try:
        return RunFile.model_validate(content)
    except ValidationError as error:
        first = error.errors()[0]
        key = ".".join(map(str, first["loc"]))
        raise FileError(f"{path}, {key}: {first['msg']}, found {first['input']!r:.60}") from None
