"""How much power a setup sustains without passing the limit temperature."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.core.capacity.from_climb import ClimbCapacity, capacity_from_climb
    from gelassen.core.capacity.from_levels import Capacity, sustainable_power

__all__ = [
    "Capacity",
    "ClimbCapacity",
    "capacity_from_climb",
    "sustainable_power",
]

__getattr__ = loader(
    __name__,
    {
        "from_climb": (
            "ClimbCapacity",
            "capacity_from_climb",
        ),
        "from_levels": (
            "Capacity",
            "sustainable_power",
        ),
    },
)
