"""What held the chip back, when, and what it cost."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.core.throttling.throttle_cost import ThrottleCost
    from gelassen.core.throttling.throttling import find_throttling
    from gelassen.core.throttling.throttling_result import Throttling

__all__ = [
    "ThrottleCost",
    "Throttling",
    "find_throttling",
]

__getattr__ = loader(
    __name__,
    {
        "throttle_cost": ("ThrottleCost",),
        "throttling": ("find_throttling",),
        "throttling_result": ("Throttling",),
    },
)
