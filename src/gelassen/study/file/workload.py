"""One program of a list that every setup runs through: a game, a render, an encode, a desktop at rest."""

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from gelassen.study.file.values import Duration, Table


class Workload(Table):
    """What runs, for how long, and how its score is read."""

    name: str = Field(min_length=1)
    load: Literal["matrix", "integer", "memory"] | None = Field(
        None, description="one of Gelassen's own loads"
    )
    command: str | None = Field(None, description="a program of your own, with its arguments")
    by_hand: bool = Field(False, description="the tester starts it and presses a key")
    workers: int | None = Field(None, ge=1, description="cores that work; all if not given")
    duty_pct: float = Field(100.0, ge=1, le=100, description="share of each second, %")
    score: str = Field("", description="regular expression that finds its score")
    length: Annotated[Duration, Field(gt=0)] = 600.0
    rest: Annotated[Duration, Field(description="rest after it, before the next one")] = 120.0

    @model_validator(mode="after")
    def _one_kind(self) -> Self:
        kinds = {"load": self.load, "command": self.command, "by_hand": self.by_hand or None}
        given = [name for name, told in kinds.items() if told is not None]
        if len(given) != 1:
            raise ValueError(
                f'"{self.name}" needs one of load, command and by_hand = true; found '
                f"{' and '.join(given) or 'none of them'}"
            )
        if self.score and self.command is None:
            raise ValueError(f'"{self.name}": only a command prints a score')
        return self
