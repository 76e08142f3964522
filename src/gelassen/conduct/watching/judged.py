"""What gates judge a run by."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Judged:
    """What runs are judged by: the same as in comparisons.

    Attributes
    ----------
    channel
        A channel, "hottest core" or "mean of cores"; None for the usual.
    reference
        Reference channel of the rises.
    limit_c
        Limit temperature of the chip, in °C.
    rest_k
        The rise at which this setup rested before, in K; None if it is not known.
    """

    channel: str | None = None
    reference: str | None = None
    limit_c: float | None = None
    rest_k: float | None = None
