"""Where the reference is, seen from the part: beyond a heatsink, or beside it as coolant is."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.inputs import Floats
from gelassen.core.relaxationfit import USUAL_SLOWEST

# Both places are tried where the reference moves this far, and by this share of what the part does.
_MOVES_K, _MOVES_SHARE = 1.5, 0.08
# What moves by this share of the part itself is most likely warmed by the load.
_WARMED_SHARE = 0.35
_SURELY_NOT = 0.003


@dataclass(frozen=True, slots=True)
class Place:
    """A place the reference may have."""

    lag_s: float  # how late a change of it arrives, before any fit tells better
    slowest: tuple[float, float]  # time constant of the part above it, as in `fit_relaxation`
    delay_in_doubt: float  # share of what the lag changes
    gain_in_doubt: float  # share of a change of it by which the rise may change, too


# A typical heatsink lies between room and part; what is fitted tells its lags better. A fan on a curve
# turns faster in a warmer room.
ROOM = Place(120.0, USUAL_SLOWEST, 0.25, 0.2)
# A cold plate lies between coolant and part: its lag is short, and hardly shows in what is fitted.
BESIDE = Place(12.0, (60.0, 1.6), 0.7, 0.01)


def places(part_c: Floats, reference_c: Floats | None) -> tuple[tuple[Place, float], ...]:
    """Return where the reference may be, given both under load; each with its chance."""
    if reference_c is None:
        return ((ROOM, 1.0),)
    moves_k, part_k = _moves(reference_c), _moves(part_c)
    if moves_k < max(_MOVES_K, _MOVES_SHARE * part_k):
        return ((ROOM, 1.0),)
    warmed = moves_k >= _WARMED_SHARE * part_k
    return (ROOM, _SURELY_NOT if warmed else 0.5), (BESIDE, 1.0 if warmed else 0.5)


def likeliest_place(part_c: Floats, reference_c: Floats) -> Place:
    """Return where the reference most likely is, at a first look."""
    moves_k = _moves(reference_c)
    return BESIDE if moves_k >= max(_MOVES_K, _WARMED_SHARE * _moves(part_c)) else ROOM


def _moves(values: Floats) -> float:
    """Return how far a channel goes, but for a few readings."""
    present = values[np.isfinite(values)]
    return float(np.ptp(np.percentile(present, (2, 98)))) if present.size else 0.0
