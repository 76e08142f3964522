"""The answer to when a chip was held back, and by what."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from gelassen.core.foundation.caution import Caution
from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.foundation.result import Result
from gelassen.core.throttling.other_part import OtherPart
from gelassen.core.throttling.thresholds import Throttling as At


def is_unsure(heat: Floats, limits: Floats) -> Bools:
    """Return where neither heat, nor another limit, nor nothing is likely enough to be sure."""
    return np.asarray(np.max([heat, limits, 1 - heat - limits], axis=0) < At.UNSURE)


@dataclass(frozen=True, slots=True, kw_only=True)
class Throttling(Result):
    """When the chip was held back, and by what.

    Attributes
    ----------
    heat_probability, power_probability, other_probability
        Probabilities that heat, a power limit, or something else held the chip back; one value a sample,
        0 to 1. Something else can be a regulator, a supply, or a budget that other parts share.
        Together they are at most 1. What is missing to 1 is the probability that nothing held it back.
    thermal, power
        Whether heat held the chip back, and whether a power limit or something else did; one value a
        sample. Both follow from the probabilities: at least 0.5.
    other
        Where `power` is more likely something else than a power limit.
    sag_mhz
        Clock lost gradually with heat while nothing held the chip back, in MHz; NaN without clock.
    intervals
        (start, end, cause) in s, cause "thermal" or "power".
    onset_s
        When the chip was first held back; None if never.
    thermal_share, power_share
        Share of the time under load, 0 to 1; NaN where nothing was logged that could tell.
    at_limit_probability
        Probability that heat held the chip back in the last third of the load.
    unsure_share
        Share of the time under load, 0 to 1, at which no cause has a probability of 0.9.
    limit_w
        The power limit that held the chip back, stated or found, in W; None if none did, or if it changed.
    other_part
        The other part that explains `power`; None if none does, or if only this chip was looked at.
    """

    heat_probability: Floats
    power_probability: Floats
    other_probability: Floats
    thermal: Bools
    power: Bools
    other: Bools
    sag_mhz: float
    intervals: tuple[tuple[float, float, str], ...]
    onset_s: float | None
    thermal_share: float
    power_share: float
    at_limit_probability: float
    unsure_share: float = 0.0
    limit_w: float | None = None
    other_part: OtherPart | None = None
    cautions: tuple[Caution, ...] = ()

    @property
    def at_limit(self) -> bool:
        """Whether the run sat at its limit: then clock and power tell setups apart, and not temperature."""
        return self.at_limit_probability >= At.SURE

    @property
    def told(self) -> bool:
        """Whether anything was logged that tells whether heat held the chip back."""
        return bool(np.isfinite(self.thermal_share))

    def to_dict(self) -> dict[str, Any]:
        """Return the fields as plain values, and whether it is at its limit."""
        return super(Throttling, self).to_dict() | {"at_limit": self.at_limit}

    @property
    def mostly_other(self) -> bool:
        """Whether `power` stands mostly for something else than a power limit."""
        return bool(self.other.sum() > self.power.sum() / 2)

    @property
    def power_cause(self) -> str:
        """What `power` stands for, in words."""
        if self.other_part is not None:
            return str(self.other_part)
        if self.mostly_other:
            return "something other than heat"
        return "a power limit" + ("" if self.limit_w is None else f" of {self.limit_w:.0f} W")

    @property
    def causes(self) -> list[tuple[float, str]]:
        """Share of the load and words of each cause that held the chip back."""
        both = ((self.thermal_share, "heat"), (self.power_share, self.power_cause))
        return [(part, cause) for part, cause in both if part > 0]

    @property
    def doubt(self) -> tuple[float, float] | None:
        """Mean probability of heat, and of another limit, where no cause is sure; None if that is rare."""
        if not self.unsure_share >= At.UNSURE_SHARE:
            return None
        limits = self.power_probability + self.other_probability
        unsure = is_unsure(self.heat_probability, limits)
        return float(self.heat_probability[unsure].mean()), float(limits[unsure].mean())

    def __str__(self) -> str:
        parts = [f"{100 * part:.0f} % of the load by {cause}" for part, cause in self.causes]
        if parts:
            answer = f"held back from {self.onset_s:.0f} s: " + ", ".join(parts)
            answer += "" if self.told else "; cannot tell whether by heat"
        elif not self.told:
            answer = "cannot tell whether it was held back"
        elif not np.isfinite(self.power_share):
            answer = "not held back by heat; cannot tell whether by a power limit"
        else:
            answer = "not held back"
        if self.at_limit:
            answer += "; at the temperature limit: compare power, clock or work instead"
        if np.isfinite(self.sag_mhz) and self.sag_mhz > 0:
            answer += f"; boost sagged by {self.sag_mhz:.0f} MHz with heat, which is not throttling"
        return "\n".join([answer, *(f"  caution: {text}" for text in self.cautions)])
