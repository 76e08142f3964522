"""The cooling after the load: its time constants, and the temperature it ends at."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.inputs import Floats
from gelassen.core.foundation.result import Result
from gelassen.core.settling.thresholds import Recovery as At
from gelassen.core.signal.grid import make_grid
from gelassen.core.signal.noise import noise_density, quantisation_error
from gelassen.core.thermal.early_error import early_error
from gelassen.core.thermal.exponentials import fit_exponentials
from gelassen.core.thermal.relaxation_fit import Account, fit_relaxation, time_constant_list


@dataclass(frozen=True, slots=True, kw_only=True)
class Recovery(Result):
    """The cooling after the load.

    Attributes
    ----------
    time_constants_s, time_constant_intervals_s
        Time constants of the cooling, ascending, in s, each with its interval.
    rest_k, rest_low_k, rest_high_k
        Where it was going, in K over the reference (or °C), with its interval.
    """

    time_constants_s: tuple[float, ...]
    time_constant_intervals_s: tuple[tuple[float, float], ...]
    rest_k: float
    rest_low_k: float
    rest_high_k: float


def recovery(
    time_s: Floats, rise_k: Floats, end_s: float, *, confidence: float = 0.95
) -> Recovery | None:
    """Fit the cooling after the load; None if too little of it was logged.

    Parameters
    ----------
    time_s, rise_k : ndarray, shape (n,)
        Times in s and the rise over the reference; NaN marks a missed reading.
    end_s : float
        When the load ended, in s.
    confidence : float
        Share of such intervals that should cover the truth.

    Notes
    -----
    As for heating (`core/thermal/relaxation_fit.py`), with at most two exponentials.
    """
    use = (time_s > end_s) & np.isfinite(rise_k)
    times, values = time_s[use], rise_k[use]
    if times.size < At.FEWEST_READINGS or times[-1] - end_s < At.FEWEST_S or not np.ptp(values) > 0:
        return None
    grid = make_grid(times, float(times[-1]))
    course = grid.filled(times, values)
    elapsed = grid.times_s - end_s
    edges = np.unique(np.geomspace(1, elapsed.size, At.BINS).astype(int)) - 1
    counts = np.diff(np.append(edges, elapsed.size))
    series = np.add.reduceat(course, edges) / counts
    middle = np.add.reduceat(elapsed, edges) / counts
    density = max(noise_density(np.diff(course, 2) / np.sqrt(6), grid.step_s), 1e-4)
    hidden = quantisation_error(values[values.size // 2 :])
    constants = time_constant_list(grid.step_s)
    rough = early_error(middle, float(np.ptp(series)), float(elapsed[-1]))
    for _ in range(2):
        variance = density / (counts * grid.step_s) + hidden**2 + rough**2
        fit = fit_relaxation(
            middle, [Account(series, np.diag(variance))], constants, most=2, draws=1000
        )
        left = course - fit.mean_course(float(elapsed[-1]))(elapsed)
        density = max(noise_density(left, grid.step_s), 1e-4)
    told = fit.time_constants(confidence)
    # The list of time constants is coarse. Least squares finds the best values between its entries.
    start = tuple(middle_s for middle_s, _, _ in told)
    best = fit_exponentials(middle, series, start, standard_deviation=np.sqrt(variance))
    # If least squares diverges, the middle of the mixture is kept.
    told = tuple(
        (one if low_s < one < high_s else middle_s, low_s, high_s)
        for one, (middle_s, low_s, high_s) in zip(sorted(best.time_constants_s), told, strict=True)
    )
    tail = (1 - confidence) / 2
    return Recovery(
        time_constants_s=tuple(middle_s for middle_s, _, _ in told),
        time_constant_intervals_s=tuple((low_s, high_s) for _, low_s, high_s in told),
        rest_k=fit.quantile(fit.settled, 0.5),
        rest_low_k=fit.quantile(fit.settled, tail),
        rest_high_k=fit.quantile(fit.settled, 1 - tail),
    )
