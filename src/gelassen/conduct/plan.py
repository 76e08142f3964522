"""What a run is to do: phases, sampling, load, and when to stop."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from gelassen.core.errors import InputError
from gelassen.core.recording import PHASES

_LOADED = ("soak", "hold")


@dataclass(frozen=True, slots=True)
class PlannedPhase:
    """A phase and how long it lasts, in s."""

    name: str
    duration_s: float

    @property
    def loaded(self) -> bool:
        """Whether the load runs in this phase."""
        return self.name in _LOADED


@dataclass(frozen=True, slots=True, kw_only=True)
class RunPlan:
    """One run.

    Attributes
    ----------
    phases
        In order; phases of no length are left out.
    interval_s
        Time between samples.
    stop_c
        Channel to the temperature at which the run stops by itself, in °C.
    settings
        Actuator to the value it is set to for this run, and put back afterwards.
    """

    phases: tuple[PlannedPhase, ...]
    interval_s: float = 1.0
    load: str = "matrix"
    workers: int | None = None
    stop_c: Mapping[str, float] = field(default_factory=dict)
    settings: Mapping[str, float] = field(default_factory=dict)

    @property
    def duration_s(self) -> float:
        """How long the run takes."""
        return sum(phase.duration_s for phase in self.phases)


def plan_phases(idle: float, soak: float, hold: float, cooldown: float) -> tuple[PlannedPhase, ...]:
    """Return the phases of a run from their lengths in s."""
    lengths = (idle, soak, hold, cooldown)
    phases = tuple(
        PlannedPhase(name, length)
        for name, length in zip(PHASES, lengths, strict=True)
        if length > 0
    )
    if not any(phase.loaded for phase in phases):
        raise InputError("a run needs a load: give soak or hold a length above zero")
    return phases
