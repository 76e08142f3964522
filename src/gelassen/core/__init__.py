"""Computation only: arrays and small values in, frozen results out."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.core.blocks import block_means
    from gelassen.core.capacity import Capacity, sustainable_power
    from gelassen.core.comparison import Comparison, compare_setups
    from gelassen.core.errors import BenchError, FileError, GelassenError, InputError
    from gelassen.core.recording import Recording
    from gelassen.core.steady import steady_state
    from gelassen.core.steadyresult import SteadyState
    from gelassen.core.steps import Step, find_steps
    from gelassen.core.summary import RunSummary, summarise_run
    from gelassen.core.throttling import Throttling, find_throttling

__all__ = [
    "BenchError",
    "Capacity",
    "Comparison",
    "FileError",
    "GelassenError",
    "InputError",
    "Recording",
    "RunSummary",
    "SteadyState",
    "Step",
    "Throttling",
    "block_means",
    "compare_setups",
    "find_steps",
    "find_throttling",
    "steady_state",
    "summarise_run",
    "sustainable_power",
]

__getattr__ = loader(
    __name__,
    {
        "blocks": ("block_means",),
        "capacity": ("Capacity", "sustainable_power"),
        "comparison": ("Comparison", "compare_setups"),
        "errors": ("BenchError", "FileError", "GelassenError", "InputError"),
        "recording": ("Recording",),
        "steady": ("steady_state",),
        "steadyresult": ("SteadyState",),
        "steps": ("Step", "find_steps"),
        "summary": ("RunSummary", "summarise_run"),
        "throttling": ("Throttling", "find_throttling"),
    },
)
