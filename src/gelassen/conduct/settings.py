"""The settings of one run: made, looked at now and then, and put back whatever happens."""

from collections.abc import Mapping

from gelassen.bench.interface import Actuator, Bench
from gelassen.core.errors import BenchError
from gelassen.core.spelling import nearest

_LOOK_EVERY_S = 10.0


class Settings:
    """Changes what a plan asks for on a bench."""

    def __init__(self, bench: Bench, wanted: Mapping[str, float]) -> None:
        self._bench = bench
        self._wanted = wanted
        self._changed: list[Actuator] = []
        self._looked_s = 0.0
        self._told: set[str] = set()

    def make(self) -> None:
        """Make all settings, in the order they were given.

        Raises
        ------
        BenchError
            One cannot be made; those made before are put back.
        """
        actuators = self._bench.actuators()
        for name, value in self._wanted.items():
            actuator = actuators.get(name)
            if actuator is None:
                known = ", ".join(actuators) or "nothing"
                problem = (
                    f"{name} cannot be set on this machine (settable: {known})."
                    + nearest(name, actuators)
                    + " Set it by hand instead"
                )
                raise BenchError(". ".join([problem, *self.put_back()]))
            self._changed.append(actuator)
            try:
                actuator.set(value)
            except BenchError as error:
                raise BenchError(". ".join([str(error), *self.put_back()])) from None

    def news(self, now_s: float) -> list[str]:
        """Return which settings the machine has changed since; each is told once."""
        if not self._changed or now_s - self._looked_s < _LOOK_EVERY_S:
            return []
        self._looked_s = now_s
        found = []
        for actuator in self._changed:
            said = actuator.check()
            if said and actuator.name not in self._told:
                self._told.add(actuator.name)
                found.append(said)
        return found

    def put_back(self) -> list[str]:
        """Put everything back, last first; return what could not be."""
        problems = []
        while self._changed:
            actuator = self._changed.pop()
            try:
                actuator.restore()
            except BenchError as error:
                problems.append(f"not put back: {error}")
        return problems
