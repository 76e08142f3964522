"""Whether a fan is at work, by how much the temperature rises for its power."""

import numpy as np
from scipy.special import ndtr

from gelassen.core.thermal.priors import Fanless


def fanless_chance(resistance_k_per_w: float) -> float:
    """Return how likely it is that no fan is at work, 0 to 1."""
    if resistance_k_per_w <= 0:
        return 0.0
    return float(ndtr(np.log(resistance_k_per_w / Fanless.BORDER_K_PER_W) / Fanless.SPREAD))
