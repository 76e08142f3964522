"""The doubt about powers above the highest that was run: it grows with the distance and leans downwards."""

import numpy as np

from gelassen.core.capacity.priors import Beyond
from gelassen.core.foundation.inputs import Floats


def beyond_measured(capacity_w: Floats, highest_w: float) -> Floats:
    """Return drawn capacities with the doubt about what lies above the highest power that was run.

    Parameters
    ----------
    capacity_w : array, shape (draws,)
        Drawn capacities in W; NaN where a course never meets the limit.
    highest_w : float
        The highest power that was run, in W. Capacities below it are left as they are.
    """
    rng = np.random.default_rng(7)
    distance = np.log(np.maximum(capacity_w, highest_w) / highest_w)
    taken = rng.uniform(size=distance.size) < Beyond.CHANCE
    share = np.where(taken, Beyond.TAKES * np.abs(rng.standard_normal(distance.size)), 0.0)
    share = (share + Beyond.ADDS * rng.standard_normal(distance.size)).clip(max=1.0)
    return np.asarray(capacity_w * np.exp(-share * distance))
