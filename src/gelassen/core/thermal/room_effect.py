"""The effect of the room temperature on a rise, learned from runs in different rooms.

A rise over the room is nearly the same in every room. In a warmer room, fans on curves turn faster,
radiation and free convection work better, and a chip leaks more. Which of these is at work is seldom
known. So the model has one more coefficient: the change of the rise for each kelvin of the room. Its
prior enters as one more observation [1]_, and the runs tell the rest. What stays in doubt widens the
intervals of differences between setups that were run in different rooms.

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
        """Return the same with one more column, the room's, and one more row: its prior."""
        column = np.zeros(len(self.design))  # rows of priors know no room
        column[: rooms_c.size] = rooms_c - rooms_c.mean()
        factor = At.LARGE / effect.spread
        design = np.column_stack([self.design, column])
        usual = np.append(np.zeros(self.design.shape[1]), factor)
        return Equations(
            np.append(self.observed, factor * effect.usual),
            np.vstack([design, usual]),
            np.append(self.own, At.LARGE**2),
        )


def rooms_differ(rooms_c: Floats) -> bool:
    """Return whether all rooms are known and not alike."""
    return bool(np.isfinite(rooms_c).all() and At.ALIKE_K < np.ptp(rooms_c) < At.NO_ROOM_K)
