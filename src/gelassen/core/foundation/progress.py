"""A moment of a run that goes on, for whoever shows it."""

from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Progress:
    """Where a run is.

    Attributes
    ----------
    phase, phase_s
        The phase, and how long it has lasted, in s.
    elapsed_s, left_s
        Time since the run began, and estimated time left, in s.
    readings
        The sample just taken.
    waits_for
        What the phase waits for, in words; empty for a fixed time.
    known
        The estimate of the steady state, or of the capacity, so far.
    events
        What happened at this sample.
    """

    phase: str
    elapsed_s: float
    left_s: float
    readings: Mapping[str, float]
    phase_s: float = 0.0
    waits_for: str = ""
    known: str = ""
    events: tuple[str, ...] = ()
