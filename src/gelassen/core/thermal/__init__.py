"""What a heated machine does: shapes, time constants, priors, the fit, room and power."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.core.thermal.heating_fit import HeatingFit, fit_heating
    from gelassen.core.thermal.relaxation import Relaxation
    from gelassen.core.thermal.relaxation_fit import fit_relaxation

__all__ = [
    "HeatingFit",
    "Relaxation",
    "fit_heating",
    "fit_relaxation",
]

__getattr__ = loader(
    __name__,
    {
        "heating_fit": (
            "HeatingFit",
            "fit_heating",
        ),
        "relaxation": ("Relaxation",),
        "relaxation_fit": ("fit_relaxation",),
    },
)
