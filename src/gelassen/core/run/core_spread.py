"""How the cores of a processor differ: which is the hottest, how steadily, and by how much."""

import warnings
from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.foundation.inputs import Bools
from gelassen.core.foundation.result import Result
from gelassen.core.recording.chips import core_channels
from gelassen.core.recording.series import columns_of


@dataclass(frozen=True, slots=True, kw_only=True)
class CoreSpread(Result):
    """The cores over the hold.

    Attributes
    ----------
    hottest
        The core that was hottest on average.
    hottest_share
        Share of the samples in which no other core was hotter.
    mean_c
        Mean over all cores.
    spread_k
        Mean of the hottest core less mean of the coolest.
    """

    hottest: str
    hottest_share: float
    mean_c: float
    spread_k: float

    def __str__(self) -> str:
        return (
            f"{self.hottest} is the hottest in {100 * self.hottest_share:.0f} % of the readings, "
            f"{self.spread_k:.1f} K between hottest and coolest core"
        )


def core_spread(frame: pd.DataFrame, held: Bools) -> CoreSpread | None:
    """Return how the cores differed; None if fewer than two were read."""
    names = core_channels(frame)
    values = columns_of(frame, names)[held]
    read = np.asarray(np.isfinite(values).any(axis=0))
    names, values = (
        [n for n, was_read in zip(names, read, strict=True) if was_read],
        values[:, read],
    )
    if len(names) < 2:
        return None
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)  # rows without any reading stay NaN
        means, tops = np.nanmean(values, axis=0), np.nanmax(values, axis=1)
    hottest = int(np.argmax(means))
    known = np.isfinite(values[:, hottest])
    return CoreSpread(
        hottest=names[hottest],
        hottest_share=float(np.mean(values[known, hottest] >= tops[known])),
        mean_c=float(means.mean()),
        spread_k=float(means.max() - means.min()),
    )
