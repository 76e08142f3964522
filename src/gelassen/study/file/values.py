"""Kinds of values in a study file: durations with units, channels, temperatures, strict tables."""

from typing import Annotated, Any

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, WithJsonSchema

from gelassen.core.foundation.errors import InputError
from gelassen.core.recording.channels import parse_channel
from gelassen.study.file.durations import seconds


def _channel(value: Any) -> Any:
    if isinstance(value, str):
        parse_channel(value)
    return value


def with_unit(value: Any) -> Any:
    """Refuse text without a unit, as "20" may mean minutes. A number is seconds."""
    if isinstance(value, str) and value.strip() and not value.strip()[-1].isalpha():
        raise InputError(
            f'"{value}" has no unit: write it like "{value.strip()} min", "90 s" or "1 h"'
        )
    return value


# The schema for editors: text is allowed, too.
DURATION_SCHEMA = {
    "anyOf": [
        {"type": "number", "minimum": 0, "description": "seconds"},
        {"type": "string", "examples": ["20 min", "90 s", "1 h"]},
    ]
}
Duration = Annotated[
    float,
    BeforeValidator(lambda value: seconds(with_unit(value))),
    WithJsonSchema(DURATION_SCHEMA),
]
Channel = Annotated[str, BeforeValidator(_channel)]
Temperature = Annotated[float, Field(gt=-50, lt=250)]


class Table(BaseModel):
    """A table in which unknown keys are refused."""

    model_config = ConfigDict(extra="forbid")
