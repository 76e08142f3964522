"""Runs at their limit: they would be warmer than they show (censored values)."""

from collections.abc import Sequence

import numpy as np
from scipy.special import log_ndtr

from gelassen.core.comparing.priors import Censored
from gelassen.core.foundation.inputs import Bools, Floats


def without_limit(setups: Sequence[str], values: Floats, at_limit: Bools) -> tuple[Floats, Floats]:
    """Return the values that runs at their limit would be expected to have, and their variances.

    Parameters
    ----------
    setups : sequence of str
        The setup of each run. A setup with runs at its limit needs one that was free.
    values : array, shape (runs,)
        Steady values; those at the limit are lower bounds.
    at_limit : array of bool, shape (runs,)
        Which runs were at their limit.

    Notes
    -----
    Expectation and maximisation of a normal model with values censored from below (Tobin 1958, Dempster
    et al. 1977): a run at its limit counts with its expected value above the limit, and the variance of
    that.
    """
    names = np.array(setups, dtype=object)
    expected, variance = values.astype(float).copy(), np.zeros(values.size)
    left = [
        values[own] - values[own].mean()
        for name in dict.fromkeys(setups)
        if (own := (names == name) & ~at_limit).sum() > 1
    ]
    freedom = sum(len(one) - 1 for one in left)
    squares = sum(float(one @ one) for one in left) + Censored.FREEDOM * Censored.USUAL_K**2
    spread = float(np.sqrt(squares / (freedom + Censored.FREEDOM)))
    for name in dict.fromkeys(names[at_limit]):
        own = names == name
        bound = own & at_limit
        if bound.sum() == own.sum():
            continue
        for _ in range(Censored.ROUNDS):
            mean = float(expected[own].mean())
            far = (values[bound] - mean) / spread
            hazard = np.exp(-(far**2) / 2 - np.log(2 * np.pi) / 2 - log_ndtr(-far))
            expected[bound] = mean + spread * hazard
            variance[bound] = spread**2 * (1 + far * hazard - hazard**2)
    return expected, variance.clip(min=0.0)
