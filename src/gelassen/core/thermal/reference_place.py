"""Whether the reference lies beyond a heatsink, as room air does, or beside the part, as coolant does."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.inputs import Floats
from gelassen.core.thermal.priors import Reference


@dataclass(frozen=True, slots=True)
class Place:
    """A place where the reference may be."""

    lag_s: float  # delay of a change of the reference, before any fit
    slowest: tuple[float, float] | None  # prior of the part above it, as in `fit_relaxation`
    delay_in_doubt: float  # share of the effect of the delay that is in doubt
    gain_in_doubt: float  # share of a change of the reference by which the rise may change as well


# Between room and part lies a typical heatsink. The fit then tells its delays better. A fan on a curve
# turns faster in a warmer room, which changes the rise.
ROOM = Place(120.0, None, 0.25, 0.2)
# Between coolant and part lies a cold plate. Its delay is short and hardly shows in the fit.
BESIDE = Place(12.0, (60.0, 1.6), 0.7, 0.01)


def places(
    part_c: Floats, reference_c: Floats | None, coolant: bool | None = None
) -> tuple[tuple[Place, float], ...]:
    """Return where the reference may be, given both under load, each place with its probability.

    `coolant` says whether it is beside the part; None if that is not known.
    """
    if reference_c is None or coolant is False:
        return ((ROOM, 1.0),)
    if coolant:
        return ((BESIDE, 1.0),)
    rises_k, part_k = _rises(reference_c), _moves(part_c)
    if rises_k < max(Reference.RISES_K, Reference.RISES_SHARE * part_k):
        return ((ROOM, 1.0),)
    chance = (
        Reference.WARMED if rises_k >= Reference.WARMED_SHARE * part_k else Reference.NOT_WARMED
    )
    return (ROOM, 1 - chance), (BESIDE, chance)


def likeliest_place(part_c: Floats, reference_c: Floats, coolant: bool | None = None) -> Place:
    """Return the likeliest place of the reference, without a fit."""
    if coolant is not None:
        return BESIDE if coolant else ROOM
    warmed = _rises(reference_c) >= max(Reference.RISES_K, Reference.WARMED_SHARE * _moves(part_c))
    return BESIDE if warmed else ROOM


def _rises(values: Floats) -> float:
    """Return how far a channel rises from the beginning to the end; 0 if it goes up and down."""
    present = values[np.isfinite(values)]
    if present.size < 2:
        return 0.0
    part = max(present.size // 20, 1)
    rises = float(present[-part:].mean() - present[:part].mean())
    return rises if rises >= Reference.ONE_WAY * _moves(values) else 0.0


def _moves(values: Floats) -> float:
    """Return the range of a channel between its 2nd and 98th percentile."""
    present = values[np.isfinite(values)]
    return float(np.ptp(np.percentile(present, (2, 98)))) if present.size else 0.0
