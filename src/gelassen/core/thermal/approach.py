"""The shape in which a heated body comes to rest, with conductances that grow as it gets hotter.

A body that loses heat as ``rise^(1 + bend)`` follows ``dy/dt = 1 - y^(1 + bend)``, with y its rise as
a share of the settled one. With bend 0 (a fan at constant speed) that is an exponential. Free
convection and radiation have bends of about 1/4 [1]_; a fan that turns faster as the part gets
hotter acts like a bend of up to 1. The last stretch is always exponential. Times here are in units of
its time constant, the one at the settled temperature.

References
----------
.. [1] F. P. Incropera and D. P. DeWitt, Fundamentals of Heat and Mass Transfer, ch. 9: the Nusselt
   number of free convection goes with the rise to the power 1/4 (laminar) to 1/3 (turbulent).
"""

from functools import cache

import numpy as np

from gelassen.core.foundation.inputs import Floats
from gelassen.core.thermal.priors import Fit


def log_missing(elapsed: Floats, bend: float, start_share: float) -> Floats:
    """Return the logarithm of what is still missing, as a share of what was missing at time zero.

    Parameters
    ----------
    elapsed : array
        Time in units of the time constant at the settled temperature.
    bend : float
        How much more than in proportion the heat loss grows with the rise; 0 is an exponential.
    start_share : float
        Share of the settled rise that was there at time zero, from 0 to below 1.
    """
    if bend == 0:
        return np.asarray(-elapsed)
    times, logs = _table(bend)
    begun = float(np.interp(-np.log1p(-start_share), -logs, times))
    at = begun + elapsed
    inside = np.interp(at, times, logs)
    tail = logs[-1] - (at - times[-1])
    return np.asarray(np.where(at > times[-1], tail, inside) - np.log1p(-start_share))


def log_missing_slope(elapsed: Floats, bend: float, start_share: float) -> Floats:
    """Return the derivative of `log_missing` over the time: -1 for an exponential."""
    if bend == 0:
        return np.full(np.shape(elapsed), -1.0)
    missing = np.exp(log_missing(elapsed, bend, start_share)) * (1 - start_share)
    share = 1 - np.minimum(missing, 1.0)
    speed = -np.expm1((1 + bend) * np.log(np.maximum(share, 1e-12)))  # 1 - y^(1 + bend)
    return np.asarray(-speed / (1 + bend) / np.maximum(missing, 1e-12))


@cache
def _table(bend: float) -> tuple[Floats, Floats]:
    """Return times (in final time constants) and the logarithm of what is missing, from y = 0."""
    logs = np.linspace(0.0, -Fit.SHAPE_END, 2401)
    share = -np.expm1(logs)
    with np.errstate(divide="ignore"):
        speed = -np.expm1((1 + bend) * np.log(share))
    # dt = (1 + bend) dy / speed, and dy = missing * dlog(1/missing).
    pace = (1 + bend) * np.exp(logs) / speed
    steps = -np.diff(logs) * (pace[1:] + pace[:-1]) / 2
    return np.concatenate([[0.0], np.cumsum(steps)]), logs
