"""How much a temperature goes up and down, beyond its noise and its course."""

import numpy as np

from gelassen.core.foundation.inputs import Floats
from gelassen.core.signal.noise import noise_std
from gelassen.core.signal.thresholds import Restless


def restless_std(series: Floats, step_s: float) -> float:
    """Return the standard deviation of ups and downs that last some tens of seconds.

    They are seen in second differences of block means: a smooth course cancels there. White noise is
    subtracted. The steep start of a load is left out.

    Parameters
    ----------
    series : array, shape (n,)
        Evenly spaced readings under load; NaN where not read.
    step_s : float
        Distance of the readings in s.
    """
    means = block_means(series, step_s)
    length = _block_length(step_s)
    if series.size // length < Restless.FEWEST_BLOCKS:
        return 0.0
    bends = np.diff(means, 2)[round(Restless.STEEP_SHARE * means.size) :]
    if not bends.size:
        return 0.0
    scatter = float(np.sqrt(np.mean(bends**2) / 6))
    white = noise_std(series) / np.sqrt(length)
    return float(np.sqrt(max(scatter**2 - white**2, 0.0)))


def block_means(series: Floats, step_s: float) -> Floats:
    """Return the means of blocks of some twenty seconds that were read; what is left at the end goes."""
    length = _block_length(step_s)
    blocks = series[: series.size // length * length].reshape(-1, length)
    read = np.isfinite(blocks).sum(axis=1)
    return np.asarray(np.nansum(blocks, axis=1)[read > 0] / read[read > 0])


def _block_length(step_s: float) -> int:
    return max(round(Restless.BLOCK_S / step_s), 1)
