"""Where the temperature of one load settles, and how it gets there and back."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.core.settling.recovery import Recovery
    from gelassen.core.settling.steady import steady_state
    from gelassen.core.settling.steady_result import FittedCurve, SteadyState
    from gelassen.core.settling.transients import Transients

__all__ = [
    "FittedCurve",
    "Recovery",
    "SteadyState",
    "Transients",
    "steady_state",
]

__getattr__ = loader(
    __name__,
    {
        "recovery": ("Recovery",),
        "steady": ("steady_state",),
        "steady_result": (
            "FittedCurve",
            "SteadyState",
        ),
        "transients": ("Transients",),
    },
)
