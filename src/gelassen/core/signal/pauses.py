"""Pauses within a load: no condition changes, but the temperature starts anew after each."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.inputs import Floats
from gelassen.core.signal.flags import spans_of
from gelassen.core.signal.thresholds import Pauses


@dataclass(frozen=True, slots=True)
class Pause:
    """One pause between two samples under load."""

    begin_s: float  # the last sample before it
    from_s: float  # its own last sample
    to_s: float  # the first one after it

    @property
    def what(self) -> str:
        """What happened."""
        return "pause"

    def away_s(self, at_s: float) -> float:
        """Return how far a moment lies from it, in s."""
        return max(self.begin_s - at_s, at_s - self.to_s, 0.0)

    def __str__(self) -> str:
        return f"the load paused for {self.to_s - self.begin_s:.0f} s"


def load_pauses(times: Floats, load_pct: Floats, span: tuple[float, float]) -> list[Pause]:
    """Return the pauses within a load; none if they are many.

    Parameters
    ----------
    times, load_pct : array, shape (n,)
        Sample times in s, and the load in %; NaN marks a missed reading.
    span : tuple of float
        Start and end of the load, in s.
    """
    inside = np.isfinite(load_pct) & (times >= span[0]) & (times <= span[1])
    at, level = times[inside], load_pct[inside]
    if level.size < 3:
        return []
    paused = level < Pauses.PAUSED * float(np.median(level))
    places = [(int(a), int(b)) for a, b in spans_of(np.arange(at.size, dtype=float), paused)]
    found = [
        Pause(float(at[first - 1]), float(at[last]), float(at[last + 1]))
        for first, last in places
        if first > 0 and last + 1 < at.size and at[last + 1] - at[first - 1] <= Pauses.LONGEST_S
    ]
    return found if len(found) <= Pauses.MOST else []
