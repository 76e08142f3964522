"""The kernels a load can be made of, by name. Each is loaded only where it works."""

from importlib import import_module
from typing import Protocol

KERNELS = {
    "matrix": ("matrix", "MatrixKernel", "dense floating point: matrix products, the most heat"),
    "integer": ("integer", "IntegerKernel", "whole numbers and branches: compression"),
    "memory": ("memory", "MemoryKernel", "traffic to memory: copies that no cache holds"),
}


class Kernel(Protocol):
    """A piece of work that can be repeated and checked."""

    def round(self) -> bool:
        """Work one round; return whether the result was right."""
        ...


def make_kernel(name: str) -> Kernel:
    """Return a kernel by its name."""
    module, kind, _ = KERNELS[name]
    made: Kernel = getattr(import_module(f"gelassen.bench.loads.{module}"), kind)()
    return made
