"""A simulated bench with known truth; see `bench.py` for what it simulates."""

from gelassen.bench.simulated.bench import SimulatedBench, Truth
from gelassen.bench.simulated.parts import (
    CASES,
    COOLERS,
    CURVES,
    Case,
    Cooler,
    FanCurve,
    Processor,
    Room,
)

__all__ = [
    "CASES",
    "COOLERS",
    "CURVES",
    "Case",
    "Cooler",
    "FanCurve",
    "Processor",
    "Room",
    "SimulatedBench",
    "Truth",
]
