"""How a channel responds to a sudden change: at once, through heat capacities, or through case air."""

from functools import lru_cache

import numpy as np

from gelassen.core.foundation.inputs import Floats

# Time constant, and that of what comes before it, in s.
Way = tuple[float, float]


@lru_cache(maxsize=512)  # channels of one run ask for the same moments
def followed(even_s: tuple[float, float, int], moment_s: float, ways: tuple[Way, ...]) -> Floats:
    """Return the response to a change of size 1 at this moment, one column a way.

    `even_s` tells the evenly spaced times: first, last and how many.
    """
    elapsed_s = np.linspace(*even_s)
    after = np.maximum(elapsed_s - moment_s, 0)
    slow, early = np.array(ways).reshape(-1, 2).T
    decays = slow * np.exp(-after[:, None] / np.maximum(slow, 1e-9))
    decays -= early * np.exp(-after[:, None] / np.maximum(early, 1e-9))
    columns = 1 - decays / np.maximum(slow - early, 1e-9)
    columns[elapsed_s < moment_s] = 0.0  # also for a response at once
    columns.flags.writeable = False
    return np.asarray(columns)
