"""What held the chip back, when, and what it cost."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.core.throttling.throttle_cost import HeldBack
    from gelassen.core.throttling.throttling import Throttling, find_throttling

__all__ = [
    "HeldBack",
    "Throttling",
    "find_throttling",
]

__getattr__ = loader(
    __name__,
    {
        "throttle_cost": ("HeldBack",),
        "throttling": (
            "Throttling",
            "find_throttling",
        ),
    },
)
