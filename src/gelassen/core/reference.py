"""Where the reference is, seen from the part: beyond a heatsink, or beside it as coolant is."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.inputs import Floats
from gelassen.core.relaxationfit import USUAL_SLOWEST

# Both places are tried where the reference moves this far, and by this share of what the part does.
_MOVES_K, _MOVES_SHARE = 1.5, 0.08
# What moves by this share of the part itself is most likely warmed by the load.
_WARMED_SHARE = 0.2


@dataclass(frozen=True, slots=True)
class Place:
    """A place the reference may have."""

    lag_s: float  # how late a change of it arrives, before any fit tells better
    slowest: tuple[float, float]  # time constant of the part above it, as in `fit_relaxation`
    gain_in_doubt: float  # share of a change of it by which the rise may change, too


# A typical heatsink lies between room and part. A fan on a curve turns faster in a warmer room.
ROOM = Place(120.0, USUAL_SLOWEST, 0.2)
BESIDE = Place(10.0, (20.0, 1.2), 0.03)


def places(part_c: Floats, reference_c: Floats | None) -> tuple[Place, ...]:
    """Return where the reference may be, given both under load."""
    if reference_c is None:
        return (ROOM,)
    moves_k, part_k = _moves(reference_c), _moves(part_c)
    return (ROOM, BESIDE) if moves_k >= max(_MOVES_K, _MOVES_SHARE * part_k) else (ROOM,)


def likeliest_place(part_c: Floats, reference_c: Floats) -> Place:
    """Return where the reference most likely is, at a first look."""
    moves_k = _moves(reference_c)
    return BESIDE if moves_k >= max(_MOVES_K, _WARMED_SHARE * _moves(part_c)) else ROOM


def _moves(values: Floats) -> float:
    """Return how far a channel goes, but for a few readings."""
    present = values[np.isfinite(values)]
    return float(np.ptp(np.percentile(present, (2, 98)))) if present.size else 0.0
