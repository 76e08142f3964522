"""The states of a chip, and the courses of its clock and power."""

from dataclasses import dataclass
from enum import IntEnum

import numpy as np

from gelassen.core.foundation.inputs import Floats
from gelassen.core.throttling.readings import Channel
from gelassen.core.throttling.thresholds import Model, Moves


class State(IntEnum):
    """What determines the clock."""

    BOOST = 0  # nothing yet: a power limit that allows more for some time
    FREE = 1  # nothing
    HEAT = 2  # the temperature limit
    POWER = 3  # a power limit
    OTHER = 4  # something else: a regulator, a supply, a budget shared with other parts


@dataclass(frozen=True, slots=True)
class Line:
    """A straight course over temperature, and the weights it stands on."""

    level: float
    per_k: float = 0.0
    at_c: float = 0.0
    samples: float = 0.0
    spread_k2: float = 0.0  # sum of squared distances in temperature

    def over(self, temperature: Floats) -> Floats:
        """Return the course at these temperatures."""
        return np.asarray(self.level + self.per_k * (temperature - self.at_c))


@dataclass(frozen=True, slots=True)
class Courses:
    """The courses of one run: clock and power of the free chip, clock and power at a power limit."""

    free: Line
    free_power: Line | None = None
    power_scatter: float = 0.0  # of the free chip's power about its course: loads vary
    limited: Line | None = None
    limit: Floats | None = None  # logarithm of the limit at each sample; None if there is none
    to_heat: float = Moves.TO_HEAT[0]  # rates of a governor, for each second at the limit
    back: float = Moves.BACK[0]


def fitted_line(
    temperature: Floats, channel: Channel, weight: Floats, per_k: tuple[float, float], sd: float
) -> Line | None:
    """Fit a straight line over temperature to weighted samples; None if there are too few."""
    weight = weight * channel.read
    total = float(weight.sum())
    if total < Model.FEWEST:
        return None
    at_c = float(weight @ temperature) / total
    level = float(weight @ channel.value) / total
    away = temperature - at_c
    spread = float(weight @ away**2)
    slope = float((weight * away) @ (channel.value - level)) / (spread + (channel.noise / sd) ** 2)
    return Line(level, float(np.clip(slope, *per_k)), at_c, total, spread)
