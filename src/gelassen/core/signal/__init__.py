"""What readings say by themselves: noise, steps of the sensor, gaps, blocks of time."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.core.signal.blocks import block_means
    from gelassen.core.signal.grid import Grid, make_grid
    from gelassen.core.signal.noise import noise_density, quantisation_error, step_size

__all__ = [
    "Grid",
    "block_means",
    "make_grid",
    "noise_density",
    "quantisation_error",
    "step_size",
]

__getattr__ = loader(
    __name__,
    {
        "blocks": ("block_means",),
        "grid": (
            "Grid",
            "make_grid",
        ),
        "noise": (
            "noise_density",
            "quantisation_error",
            "step_size",
        ),
    },
)
