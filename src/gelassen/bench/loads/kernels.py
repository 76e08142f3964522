"""The table of kernels, which are the work of a load, by name. Each is imported only when used.

A new kernel is a class in a file of this folder, and a line in `KERNELS`. Another package adds one with an
entry point in the group "gelassen.loads": a class with the methods of `Kernel`, made without arguments.
"""

from importlib import import_module
from typing import Protocol

from gelassen._plugins import plugins

# Name to module, class, and what it does.
KERNELS = {
    "matrix": ("matrix", "MatrixKernel", "dense floating point: matrix products, the most heat"),
    "integer": ("integer", "IntegerKernel", "whole numbers and branches: compression"),
    "memory": ("memory", "MemoryKernel", "traffic to memory: copies that no cache holds"),
}


class Kernel(Protocol):
    """A repeatable piece of work whose result is checked."""

    def round(self) -> bool:
        """Work one round, of some milliseconds; return whether the result was right."""
        ...


def kernel_names() -> list[str]:
    """Return the names of all kernels, those of other packages last."""
    return [*KERNELS, *(name for name in plugins("gelassen.loads").found if name not in KERNELS)]


def make_kernel(name: str) -> Kernel:
    """Return a kernel by its name."""
    if name in KERNELS:
        module, kind, _ = KERNELS[name]
        made: Kernel = getattr(import_module(f"gelassen.bench.loads.{module}"), kind)()
    else:
        made = plugins("gelassen.loads").found[name]()
    return made
