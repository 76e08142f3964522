"""Plain nonlinear least squares for sums of exponentials, from a start that is known to be near."""

from dataclasses import dataclass

import numpy as np
from scipy.optimize import least_squares

from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats
from gelassen.core.foundation.result import Result


@dataclass(frozen=True, slots=True, kw_only=True)
class Exponentials(Result):
    """``settled - sum(amplitudes * exp(-t / time_constants_s))``, fitted.

    Attributes
    ----------
    settled, amplitudes, time_constants_s
        The parameters; `standard_errors` holds theirs in the same order.
    residual_sum
        Weighted sum of squared residuals.
    """

    settled: float
    amplitudes: tuple[float, ...]
    time_constants_s: tuple[float, ...]
    standard_errors: tuple[float, ...]
    residual_sum: float


def fit_exponentials(
    time_s: Floats,
    values: Floats,
    start_s: tuple[float, ...],
    *,
    standard_deviation: Floats | float = 1.0,
    from_zero: bool = False,
) -> Exponentials:
    """Fit a sum of exponentials by least squares.

    Parameters
    ----------
    time_s, values : ndarray, shape (n,)
        Times in s and readings.
    start_s : tuple of float
        Time constants to start from, one an exponential.
    standard_deviation : float or ndarray, shape (n,)
        Of each reading; only their ratios matter.
    from_zero : bool
        The curve starts at zero at time zero: one exponential whose amplitude is the settled value.

    Raises
    ------
    InputError
        More parameters than readings, or `from_zero` with several exponentials.

    Notes
    -----
    Settled value and amplitudes are linear once the time constants are given and are solved for at
    each step; only the logarithms of the time constants are searched (variable projection, G. H.
    Golub and V. Pereyra, SIAM J. Numer. Anal. 10, 413, 1973). Standard errors are those of the linear
    approximation, scaled by the scatter of the residuals.
    """
    if from_zero and len(start_s) != 1:
        raise InputError("from_zero needs exactly one exponential")
    count = 2 * len(start_s) + (0 if from_zero else 1)
    if time_s.size < count:
        raise InputError(f"{time_s.size} readings cannot tell {count} parameters")
    weight = 1 / np.broadcast_to(np.asarray(standard_deviation, dtype=float), values.shape)

    def columns(logs: Floats) -> Floats:
        decays = np.exp(-time_s[:, None] / np.exp(logs))
        if from_zero:
            return np.asarray(1 - decays)
        return np.column_stack([np.ones_like(time_s), -decays])

    def linear(logs: Floats) -> Floats:
        matrix = columns(logs) * weight[:, None]
        return np.asarray(np.linalg.lstsq(matrix, values * weight, rcond=None)[0])

    def residuals(logs: Floats) -> Floats:
        return np.asarray((values - columns(logs) @ linear(logs)) * weight)

    def slopes(logs: Floats) -> Floats:
        """Return the derivatives of the residuals with respect to the logarithms.

        L. Kaufman, BIT 15, 49 (1975).
        """
        basis = np.linalg.qr(columns(logs) * weight[:, None])[0]
        late = time_s[:, None] / np.exp(logs)
        own = np.exp(-late) * late * linear(logs)[-logs.size :] * weight[:, None]
        return np.asarray(own - basis @ (basis.T @ own))

    # The search ends where a step no longer changes the first twelve digits. Fewer are printed.
    found = least_squares(
        residuals, np.log(start_s), jac=slopes, x_scale="jac", xtol=1e-12, ftol=1e-12, gtol=1e-12
    )
    logs = found.x
    solution = linear(logs)
    amplitudes = solution if from_zero else solution[1:]
    slope = np.exp(-time_s[:, None] / np.exp(logs)) * time_s[:, None] / np.exp(2 * logs)
    jacobian = np.column_stack([columns(logs), -slope * amplitudes]) * weight[:, None]
    left = residuals(logs)
    scatter = float(left @ left) / max(time_s.size - count, 1)
    errors = np.sqrt(scatter * np.diagonal(np.linalg.pinv(jacobian.T @ jacobian)).clip(min=0))
    return Exponentials(
        settled=float(solution[0]),
        amplitudes=tuple(map(float, amplitudes)),
        time_constants_s=tuple(map(float, np.exp(logs))),
        standard_errors=tuple(map(float, errors)),
        residual_sum=float(left @ left),
    )
