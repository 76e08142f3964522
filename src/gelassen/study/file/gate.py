"""A phase that ends when the answer is known or the machine has rested, not after a fixed time."""

from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

from gelassen.core.foundation.errors import InputError
from gelassen.study.file.durations import seconds

RESTED: Literal["rested"] = "rested"
KNOWN: Literal["known"] = "known"
_USUAL: dict[str, dict[str, float]] = {
    "idle": {"within_k": 1.0, "at_least": 60.0, "at_most": 1800.0},
    "soak": {"within_k": 0.5, "at_least": 300.0, "at_most": 2100.0},
    "hold": {"within_k": 0.5, "at_least": 120.0, "at_most": 300.0},
    "cooldown": {"within_k": 1.0, "at_least": 120.0, "at_most": 1800.0},
}
_MEANT = {"idle": RESTED, "soak": KNOWN, "hold": KNOWN, "cooldown": RESTED}


class Gate(BaseModel):
    """When a phase ends.

    `rested`: the temperature is within `within_k` of its resting value. `known`: the
    95 % interval of the steady state is no wider than ± `within_k`. Never before `at_least`, and at
    `at_most` in any case.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    until: Literal["rested", "known"]
    within_k: float = Field(gt=0, le=20, description="K")
    at_least: Annotated[float, BeforeValidator(seconds)]
    at_most: Annotated[float, BeforeValidator(seconds)]

    def __str__(self) -> str:
        wanted = "rested" if self.until == RESTED else f"known to ±{self.within_k:g} K"
        return f"until {wanted}, {self.at_least / 60:g} to {self.at_most / 60:g} min"


def phase_length(phase: str, value: Any) -> Any:
    """Return a length in s, or a gate, from the text for this phase.

    "20 min", a number of seconds, "until known", "until rested", or a table with `until` and
    perhaps `within_k`, `at_least` and `at_most`.

    Raises
    ------
    InputError
        Words that are neither, or a gate that makes no sense in this phase.
    """
    if isinstance(value, Gate):
        return value
    if isinstance(value, str) and value.strip().startswith("until"):
        value = {"until": value.strip().removeprefix("until").strip()}
    if not isinstance(value, dict):
        try:
            return seconds(value)
        except InputError as error:
            raise InputError(f'{error}; or "until {_MEANT[phase]}"') from None
    if value.get("until", _MEANT[phase]) != _MEANT[phase]:
        raise InputError(
            f'{phase} lasts until "{_MEANT[phase]}", not "{value["until"]}": '
            f'write "until {_MEANT[phase]}", or a duration such as "20 min"'
        )
    gate = Gate.model_validate({"until": _MEANT[phase], **_USUAL[phase], **value})
    if "at_most" not in value and gate.at_least > gate.at_most:
        gate = gate.model_copy(update={"at_most": 2 * gate.at_least})
    if gate.at_least > gate.at_most:
        raise InputError(f"{phase}: at_least is longer than at_most")
    return gate


def longest_s(length: float | Gate) -> float:
    """Return the longest a phase may last, in s."""
    return length.at_most if isinstance(length, Gate) else length


def likely_s(length: float | Gate) -> float:
    """Return the estimated length of a phase in s, before anything is measured."""
    return (length.at_least * length.at_most) ** 0.5 if isinstance(length, Gate) else length
