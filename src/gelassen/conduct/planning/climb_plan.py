"""How the power of a run is to climb."""

import math
from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class ClimbPlan:
    """How to climb.

    Attributes
    ----------
    channel
        The power limit that is set.
    by_hand
        Whether somebody sets it by hand, told which value.
    from_w, to_w
        The first power and the highest, in W.
    limit_c, never_c
        The limit the capacity is meant for, and the temperature not to be passed on the way, in °C.
    within
        How well the capacity is to be known, as a share.
    at_most_s
        When to stop in any case, in s.
    """

    channel: str
    from_w: float
    to_w: float
    limit_c: float
    never_c: float = math.inf
    by_hand: bool = False
    within: float = 0.03
    at_most_s: float = 2400.0
