"""A plan carried out on the simulated bench, to see beforehand what a day of tests gives."""

import time
from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager

from gelassen.bench.interface import Actuator, Bench, ChannelInfo, Load
from gelassen.bench.loads.spec import LoadSpec
from gelassen.bench.simulated import CASES, COOLERS, CURVES, Processor, Room, SimulatedBench
from gelassen.conduct.planning.order import PlannedRun
from gelassen.study.file.study_file import StudyFile


def simulated_bench(study: StudyFile, planned: PlannedRun, *, seed: int = 0) -> SimulatedBench:
    """Return a simulated bench with the made-up parts that a setup's levels name.

    Levels that name no part of the sample scenario change nothing.
    """
    cooler, curve, case = COOLERS["Brise 120"], CURVES["on-air"], CASES["closed"]
    for level in planned.levels.values():
        cooler = COOLERS.get(str(level), cooler)
        curve = CURVES.get(str(level), curve)
        case = CASES.get(str(level), case)
    return SimulatedBench(
        cooler=cooler,
        curve=curve,
        case=case,
        processor=Processor(limit_c=study.machine.limit_c),
        room=Room(phase=0.13 * seed),
        seed=1000 * planned.block + seed,
    )


class PacedBench:
    """Wraps a simulated bench and slows it down, so that one can watch."""

    def __init__(self, bench: Bench, speed: float) -> None:
        self._bench, self._speed = bench, speed

    def channels(self) -> Sequence[ChannelInfo]:
        """Return what can be logged."""
        return self._bench.channels()

    def read(self) -> Mapping[str, float]:
        """Return one value per channel."""
        return self._bench.read()

    def failures(self) -> Mapping[str, int]:
        """Return how often each channel failed."""
        return self._bench.failures()

    def failure_reasons(self) -> Mapping[str, str]:
        """Return why each channel failed last."""
        return self._bench.failure_reasons()

    def news(self) -> Sequence[str]:
        """Return what else happened."""
        return self._bench.news()

    def actuators(self) -> Mapping[str, Actuator]:
        """Return what can be set."""
        return self._bench.actuators()

    def load(self, spec: LoadSpec | str, *, workers: int | None = None) -> Load:
        """Return a load."""
        return self._bench.load(spec, workers=workers)

    def claim(self) -> AbstractContextManager[None]:
        """Keep nobody away: there is no machine."""
        return self._bench.claim()

    def now(self) -> float:
        """Return the bench's time."""
        return self._bench.now()

    def sleep(self, seconds: float) -> None:
        """Let time pass, and some of the real time."""
        if seconds > 0:
            time.sleep(seconds / self._speed)
        self._bench.sleep(seconds)
