"""What a run is to do: phases, sampling, load, and when to stop."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from gelassen.bench.loads.spec import LoadSpec
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


@dataclass(frozen=True, slots=True)
class Stair:
    """A step of a staircase: so many workers for so long, in s; none is a pause."""

    workers: int
    duration_s: float


def staircase(workers: int, step_s: float, *, pause_s: float = 0.0) -> tuple[Stair, ...]:
    """Return a staircase of 1, 2, ... `workers` workers, with a pause between steps."""
    stairs = []
    for count in range(1, workers + 1):
        if count > 1 and pause_s > 0:
            stairs.append(Stair(0, pause_s))
        stairs.append(Stair(count, step_s))
    return tuple(stairs)


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
    stop_each
        Whether one of these that falls silent stops the run, too; if not, only the silence of all.
    load, workers
        What keeps the machine busy; a name alone stands for that load on `workers` cores.
    stairs
        How many workers work and when, from the start of the load; all of them if not given.
    settings
        Actuator to the value it is set to for this run, and put back afterwards.
    """

    phases: tuple[PlannedPhase, ...]
    interval_s: float = 1.0
    load: LoadSpec | str = "matrix"
    workers: int | None = None
    stairs: tuple[Stair, ...] = ()
    stop_c: Mapping[str, float] = field(default_factory=dict)
    stop_each: bool = True
    settings: Mapping[str, float] = field(default_factory=dict)

    def stair_at(self, loaded_s: float) -> int:
        """Return the number of the stair at this time after the load began; the last one stays."""
        ends_s = 0.0
        for number, stair in enumerate(self.stairs):
            ends_s += stair.duration_s
            if loaded_s < ends_s:
                return number
        return len(self.stairs) - 1

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
