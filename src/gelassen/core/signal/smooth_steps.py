"""A smooth course through the coarse steps of a moving reference.

Coolant that warms by twenty kelvins is often read in whole degrees. Subtracted from the part, these steps
would stand in the rise. The true course is smooth, so a spline through the steps is far nearer to it.
"""

import numpy as np
from scipy.interpolate import make_lsq_spline

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.noise import left_by_noise, step_size
from gelassen.core.signal.thresholds import Smooth


def unstepped(readings: Floats, during: Bools) -> tuple[Floats, Floats]:
    """Return the course without its steps, and the standard error of it that rounding leaves.

    Parameters
    ----------
    readings : array, shape (n,)
        Of the reference, in even steps of time, gaps filled.
    during : array of bool, shape (n,)
        The load: the course is smooth within it, and before it at rest.
    """
    step, none = step_size(readings), np.zeros(readings.size)
    rows = np.flatnonzero(during)
    if step == 0 or rows.size < 10 * Smooth.STRETCHES:
        return readings, none
    hidden = step / np.sqrt(12) * left_by_noise(readings[rows], step)
    if hidden < Smooth.HARDLY * step / np.sqrt(12):
        return readings, none
    place = np.linspace(0.0, 1.0, rows.size)
    inner = np.linspace(0, 1, Smooth.STRETCHES + 1)[1:-1] ** 2
    knots = np.concatenate([np.zeros(Smooth.DEGREE + 1), inner, np.ones(Smooth.DEGREE + 1)])
    spline = make_lsq_spline(place, readings[rows], knots, k=Smooth.DEGREE)
    smooth, error = readings.copy(), none
    smooth[rows] = spline(place)
    # Rounding errors cancel where the course crosses several steps within a stretch.
    ends = np.concatenate([[0.0], inner, [1.0]])
    length = np.interp(place, (ends[:-1] + ends[1:]) / 2, np.diff(ends))
    crossed = np.abs(spline.derivative()(place)) * length / step
    error[rows] = hidden / (1 + crossed)
    return smooth, error
