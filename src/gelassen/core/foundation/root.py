"""Where a function crosses zero. `scipy.optimize` tells it, too, but takes long to import."""

from collections.abc import Callable

from gelassen.core.foundation.errors import InputError

_MOST_STEPS = 200


def crossing(
    function: Callable[[float], float], low: float, high: float, *, within: float = 1e-12
) -> float:
    """Return where a continuous function crosses zero between two ends.

    Parameters
    ----------
    function : callable
        Has different signs at the two ends, or is zero at one.
    low, high : float
        The ends.
    within : float
        How near the answer is, as a share of the distance between the ends.

    Raises
    ------
    InputError
        The function has the same sign at both ends.

    Notes
    -----
    The Illinois form of false position (Dowell and Jarratt, BIT 11, 168, 1971): the value at an end that
    stays is halved, so that both ends close in.
    """
    a, b, at_a, at_b = low, high, function(low), function(high)
    if at_a == 0 or at_b == 0:
        return a if at_a == 0 else b
    if (at_a > 0) == (at_b > 0):
        raise InputError(f"no sign changes between {low:g} and {high:g}")
    near = within * abs(high - low)
    for _ in range(_MOST_STEPS):
        middle = (a * at_b - b * at_a) / (at_b - at_a)
        at = function(middle)
        if at == 0 or abs(middle - b) <= near:
            return middle
        if (at > 0) != (at_b > 0):
            a, at_a = b, at_b
        else:
            at_a /= 2
        b, at_b = middle, at
        if abs(b - a) <= near:
            break
    return b
