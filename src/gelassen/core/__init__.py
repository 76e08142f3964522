"""Computation only: arrays and small values in, frozen results out."""

from gelassen.core.capacity import Capacity, sustainable_power
from gelassen.core.comparison import Comparison, compare_setups
from gelassen.core.errors import BenchError, FileError, GelassenError, InputError
from gelassen.core.steady_state import SteadyState, steady_state
from gelassen.core.steps import Step, find_steps
from gelassen.core.throttling import Throttling, find_throttling

__all__ = [
    "BenchError",
    "Capacity",
    "Comparison",
    "FileError",
    "GelassenError",
    "InputError",
    "SteadyState",
    "Step",
    "Throttling",
    "compare_setups",
    "find_steps",
    "find_throttling",
    "steady_state",
    "sustainable_power",
]
