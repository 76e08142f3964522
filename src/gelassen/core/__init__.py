"""Computation only: arrays and small values in, frozen results out."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader, shown

if TYPE_CHECKING:
    from gelassen.core.capacity.from_levels import Capacity, sustainable_power
    from gelassen.core.changes.steps import Step, find_steps
    from gelassen.core.comparing.comparison import Comparison, compare_setups
    from gelassen.core.foundation.errors import BenchError, FileError, GelassenError, InputError
    from gelassen.core.recording.recording import Recording
    from gelassen.core.run.summary import RunSummary, summarise_run
    from gelassen.core.settling.steady import steady_state
    from gelassen.core.settling.steady_result import SteadyState
    from gelassen.core.signal.blocks import block_means
    from gelassen.core.throttling.throttling import find_throttling
    from gelassen.core.throttling.throttling_result import Throttling

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

__dir__ = shown(globals())
__getattr__ = loader(
    __name__,
    {
        "signal": ("block_means",),
        "capacity": ("Capacity", "sustainable_power"),
        "comparing": ("Comparison", "compare_setups"),
        "foundation": ("BenchError", "FileError", "GelassenError", "InputError"),
        "recording": ("Recording",),
        "settling": ("SteadyState", "steady_state"),
        "changes": ("Step", "find_steps"),
        "run": ("RunSummary", "summarise_run"),
        "throttling": ("Throttling", "find_throttling"),
    },
)
