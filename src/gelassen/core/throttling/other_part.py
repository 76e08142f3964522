"""The other part that held a chip back: one at its own limit, or one that took the power."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.result import Result
from gelassen.core.recording.channel_words import channel_words


@dataclass(frozen=True, slots=True, kw_only=True)
class OtherPart(Result):
    """The part that held the chip back.

    Attributes
    ----------
    channel
        Its temperature, if that was at its limit; its power, if it took what the chip lost.
    at_c, limit_c
        The temperature at which it stayed, and its own limit, in °C; NaN if not known.
    took_w
        By how much its power rose, in W; NaN for a part at its limit.
    from_s
        Since when, in s.
    """

    channel: str
    at_c: float
    limit_c: float
    took_w: float
    from_s: float

    def __str__(self) -> str:
        name = channel_words(self.channel)
        if np.isfinite(self.took_w):
            return f"{name} (it took {self.took_w:.0f} W more)"
        if np.isfinite(self.limit_c):
            return f"{name} at its limit of {self.limit_c:g} °C"
        return f"{name}, it seems (it stayed at {self.at_c:.0f} °C)"
