"""What a warmer room does to a rise, learned from runs in rooms of different warmth.

A rise over the room is nearly what it is in any room. Nearly: fans on curves turn faster in a warm one,
radiation and free convection work better, and a chip leaks more. Which of these is at work is seldom
known, so the rise is let change by some tenths of a kelvin for each kelvin of the room, as much as is
usual and as the runs themselves say. Where setups were run in rooms of different warmth, what stays in
doubt of it widens the intervals of their differences.

What is usual stands in the equations as one more observation, with the error it has [1]_.

References
----------
.. [1] H. Theil and A. S. Goldberger, "On pure and mixed statistical estimation in economics", Int.
   Economic Rev. 2, 65 (1961).
"""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.inputs import Floats
from gelassen.core.thermal.priors import RoomEffect as At


@dataclass(frozen=True, slots=True)
class RoomEffect:
    """How much a rise usually changes with each kelvin of the room, and the standard deviation of that."""

    usual: float
    spread: float


@dataclass(frozen=True, slots=True)
class Equations:
    """A linear model: values, the columns they are made of, and the variance each value has of its own."""

    observed: Floats
    design: Floats
    own: Floats

    def with_rooms(self, rooms_c: Floats, effect: RoomEffect) -> "Equations":
        """Return the same with one more column, the room's, and one more row: what is usual of it."""
        column = rooms_c - rooms_c.mean()
        factor = At.LARGE / effect.spread
        design = np.column_stack([self.design, column])
        usual = np.append(np.zeros(self.design.shape[1]), factor)
        return Equations(
            np.append(self.observed, factor * effect.usual),
            np.vstack([design, usual]),
            np.append(self.own, At.LARGE**2),
        )


def rooms_differ(rooms_c: Floats) -> bool:
    """Say whether all rooms are known and not alike."""
    return bool(np.isfinite(rooms_c).all() and At.ALIKE_K < np.ptp(rooms_c) < At.NO_ROOM_K)
