"""The error of the model early in a load."""

import numpy as np

from gelassen.core.foundation.inputs import Floats
from gelassen.core.thermal.priors import Doubt


def early_error(elapsed_s: Floats, range_k: float, whole_s: float) -> Floats:
    """Return the standard error of the model in K: largest at the start, soon gone.

    A model with a few heat capacities cannot follow the first seconds of a real machine. The error is a
    share of the range in K that the temperature covers.
    """
    fades_s = Doubt.ROUGH_FADES * whole_s
    return np.asarray(Doubt.ROUGH * range_k * np.exp(-elapsed_s / fades_s))
