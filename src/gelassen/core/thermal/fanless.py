"""Whether a fan is at work, by how much the temperature rises for its power."""

import numpy as np
from scipy.special import ndtr

# Coolers with fans have a thermal resistance well below this, those without one mostly above it, in K/W;
# within this share of it (of the logarithm) both are found.
_BORDER_K_PER_W, _SPREAD = 0.85, 0.12


def fanless_chance(resistance_k_per_w: float) -> float:
    """Return how likely it is that no fan is at work, 0 to 1."""
    if resistance_k_per_w <= 0:
        return 0.0
    return float(ndtr(np.log(resistance_k_per_w / _BORDER_K_PER_W) / _SPREAD))
