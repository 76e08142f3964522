"""The window of a load that is measured: chosen by the tester, or its last part."""

from gelassen.core.changes.steps import Step
from gelassen.core.recording.recording import Recording
from gelassen.core.run.stretches import Stretch
from gelassen.core.run.thresholds import Hold


def hold_window(recording: Recording, span: tuple[float, float]) -> tuple[float, float]:
    """Return the hold as it was recorded, else the last part of the load, start and end in s."""
    holds = [phase for phase in recording.phases if phase.name == "hold"]
    if holds:
        return holds[0].start_s, holds[-1].end_s
    length = min(Hold.HOLD_S, (span[1] - span[0]) / 3)
    return span[1] - length, span[1]


def within_last(
    recording: Recording, hold: tuple[float, float], steps: tuple[Step, ...]
) -> tuple[float, float]:
    """Return a hold without a change in it, unless the tester chose the hold."""
    chosen = [p for p in recording.phases if p.name == "hold" and p.ending != "found"]
    inside = [step.at_s for step in steps if hold[0] < step.at_s < hold[1]]
    if chosen or not inside:
        return hold
    return inside[-1] + (hold[1] - inside[-1]) / 3, hold[1]


def overlap(part: Stretch, hold: tuple[float, float]) -> tuple[float, float]:
    """Return how much of the hold lies in a stretch, and how long it is, in s."""
    shared = min(part.end_s, hold[1]) - max(part.start_s, hold[0])
    return max(shared, 0.0), part.end_s - part.start_s
