"""Which setup is better, by how much, and how sure that is."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.core.comparing.along.response import Response
    from gelassen.core.comparing.comparability import Comparability
    from gelassen.core.comparing.comparison import Comparison, compare_setups
    from gelassen.core.comparing.effects import Effects, factor_effects
    from gelassen.core.comparing.machine_drift import MachineDrift
    from gelassen.core.comparing.repeatability import Repeatability
    from gelassen.core.comparing.tradeoff import Tradeoff

__all__ = [
    "Comparability",
    "Comparison",
    "Effects",
    "MachineDrift",
    "Repeatability",
    "Response",
    "Tradeoff",
    "compare_setups",
    "factor_effects",
]

__getattr__ = loader(
    __name__,
    {
        "comparability": ("Comparability",),
        "comparison": (
            "Comparison",
            "compare_setups",
        ),
        "effects": (
            "Effects",
            "factor_effects",
        ),
        "machine_drift": ("MachineDrift",),
        "repeatability": ("Repeatability",),
        "along.response": ("Response",),
        "tradeoff": ("Tradeoff",),
    },
)
