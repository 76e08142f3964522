"""Turns evenly spaced readings whose noise has a memory into ones whose noise has none."""

from dataclasses import dataclass
from functools import cache, lru_cache

import numpy as np
from scipy.linalg.blas import dtbsv

from gelassen.core.foundation.inputs import Floats
from gelassen.core.signal.recursion import recursion
from gelassen.core.signal.thresholds import Whitening


@dataclass(frozen=True, slots=True)
class Whitener:
    """White noise plus noise that fades by a share from step to step: an ARMA(1, 1) process."""

    fade: float
    moving: float
    std: float

    def __call__(self, columns: Floats) -> Floats:
        """Filter columns (time goes down) so that the noise in them is white with variance 1."""
        # Twice as fast along rows as down columns.
        rows = np.ascontiguousarray(columns.T)
        forward = rows / self.std
        forward[..., 1:] -= self.fade * rows[..., :-1] / self.std
        return recursion(forward, -self.moving).T


def fitted_whitener(left: Floats, least: float = 0.0) -> tuple[Whitener, float]:
    """Return the noise that most likely made these readings, and its log likelihood.

    Parameters
    ----------
    left : array, shape (n,)
        Readings less their model, evenly spaced.
    least : float
        The standard deviation is at least this: rounded readings may fit better than they can know.
    """
    fades, movings = _filters()
    right = left - fades[:, None] * np.concatenate([[0.0], left[:-1]])
    # All recursions at once, as one triangular system of two diagonals: five times as quick as one by one.
    white = dtbsv(1, _recursions(left.size), right.ravel(), lower=1).reshape(right.shape)
    squares = (white**2).sum(axis=1)
    std = np.maximum(np.sqrt(squares / left.size), max(least, 1e-9))
    likelihood = -left.size * np.log(std) - squares / (2 * std**2)
    best = int(np.argmax(likelihood))
    noise = Whitener(float(fades[best]), float(movings[best]), float(std[best]))
    return noise, float(likelihood[best])


@lru_cache(maxsize=4)
def _recursions(size: int) -> Floats:
    """Return the diagonals of ``white[t] + moving * white[t-1]``, one filter after the other."""
    _, movings = _filters()
    below = np.repeat(movings, size).reshape(-1, size)
    below[:, -1] = 0.0  # the next filter starts again
    return np.asfortranarray([np.ones(below.size), below.ravel()])


@cache
def _filters() -> tuple[Floats, Floats]:
    filters = [(0.0, 0.0)]
    for memory in Whitening.MEMORIES:
        fade = float(np.exp(-1 / memory))
        for share in Whitening.WHITE_SHARES:
            # Differences x(t) - fade x(t-1) are a moving average: its two covariances give it.
            alone = (1 - share) * (1 - fade**2) + share * (1 + fade**2)
            ratio = -fade * share / alone
            moving = 0.0 if ratio == 0 else (1 - np.sqrt(1 - 4 * ratio**2)) / (2 * ratio)
            filters.append((fade, float(moving)))
    fades, movings = np.array(filters).T
    return fades, movings
