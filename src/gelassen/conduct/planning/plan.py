"""The plan of a run: phases, sampling, load, and when to stop."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from gelassen.bench.loads.spec import LoadSpec
from gelassen.conduct.planning.climb_plan import ClimbPlan
from gelassen.conduct.watching.judged import Judged
from gelassen.core.fans.curve import FanCurve
from gelassen.core.foundation.errors import InputError
from gelassen.core.recording.recording import PHASES
from gelassen.study.file.gate import Gate, likely_s, longest_s

_LOADED = ("soak", "hold")


@dataclass(frozen=True, slots=True)
class PlannedPhase:
    """A phase and how long it lasts at most, in s; with a gate, it may end before."""

    name: str
    duration_s: float
    gate: Gate | None = None

    @property
    def likely_s(self) -> float:
        """About how long it will last."""
        return self.duration_s if self.gate is None else likely_s(self.gate)

    @property
    def loaded(self) -> bool:
        """Whether the load runs in this phase."""
        return self.name in _LOADED


@dataclass(frozen=True, slots=True)
class Stair:
    """A step of a staircase: so many workers for so long, in s; none is a pause."""

    workers: int
    duration_s: float


@dataclass(frozen=True, slots=True)
class FanSteps:
    """Duties that a fan goes through, in %. Each lasts `step_s` seconds.

    With `within`, a duty ends as soon as its steady rise is known to ± that share of it, and leaves its
    time to those after it.
    """

    channel: str
    duties_pct: tuple[float, ...]
    step_s: float
    within: float = 0.0

    @property
    def at_most_s(self) -> float:
        """How long all duties take at most, s."""
        return self.step_s * len(self.duties_pct)

    def duty_at(self, loaded_s: float) -> float:
        """Return the duty at this time after load start. The last duty stays."""
        number = min(max(int(loaded_s / self.step_s), 0), len(self.duties_pct) - 1)
        return self.duties_pct[number]


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
    stop_rise_k_per_s
        How fast these may rise once the load has set in, in K/s; None: as fast as they do.
    stop_fans
        Which fans stop the run if they stop after turning under load; None for any.
    judged
        What gates judge the run by.
    fan_curves
        Fan duty channel to the curve that software keeps it on.
    fan_steps
        Duties that a fan goes through under load; None if it keeps one.
    climb
        How the power climbs during the soak; None if it stays.
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
    stop_rise_k_per_s: float | None = None
    stop_fans: Sequence[str] | None = ()
    judged: Judged = field(default_factory=Judged)
    fan_curves: Mapping[str, FanCurve] = field(default_factory=dict)
    climb: ClimbPlan | None = None
    settings: Mapping[str, float] = field(default_factory=dict)
    fan_steps: FanSteps | None = None

    def stair_at(self, loaded_s: float) -> int:
        """Return the number of the stair at this time after load start. The last stair lasts."""
        ends_s = 0.0
        for number, stair in enumerate(self.stairs):
            ends_s += stair.duration_s
            if loaded_s < ends_s:
                return number
        return len(self.stairs) - 1

    @property
    def gated(self) -> bool:
        """Whether the readings decide how the run continues."""
        stepped = self.fan_steps is not None and self.fan_steps.within > 0
        return self.climb is not None or stepped or any(phase.gate for phase in self.phases)

    @property
    def duration_s(self) -> float:
        """How long the run takes at most."""
        return sum(phase.duration_s for phase in self.phases)

    @property
    def load_end_s(self) -> float:
        """When the load ends at the latest, in s from the start; 0 without a load."""
        ends_s, last_s = 0.0, 0.0
        for phase in self.phases:
            ends_s += phase.duration_s
            last_s = ends_s if phase.loaded else last_s
        return last_s

    @property
    def likely_s(self) -> float:
        """About how long the run takes."""
        return sum(phase.likely_s for phase in self.phases)


def plan_phases(
    idle: float | Gate, soak: float | Gate, hold: float | Gate, cooldown: float | Gate
) -> tuple[PlannedPhase, ...]:
    """Return the phases of a run from their lengths in s, or from the gates that end them."""
    lengths = (idle, soak, hold, cooldown)
    phases = tuple(
        PlannedPhase(name, longest_s(length), length if isinstance(length, Gate) else None)
        for name, length in zip(PHASES, lengths, strict=True)
        if longest_s(length) > 0
    )
    if not any(phase.loaded for phase in phases):
        raise InputError("a run needs a load: give soak or hold a length above zero")
    return phases
