"""The settings of one run: made, checked now and then, and always put back."""

import logging
from collections.abc import Mapping

from gelassen.bench.interface import Actuator, Bench
from gelassen.conduct.curve_keeper import CurveKeeper
from gelassen.core.fans.curve import FanCurve
from gelassen.core.foundation.errors import BenchError
from gelassen.core.foundation.spelling import nearest

_LOOK_EVERY_S = 10.0
_LOG = logging.getLogger(__name__)


class Settings:
    """Makes the settings of a plan on a bench."""

    def __init__(
        self, bench: Bench, wanted: Mapping[str, float],
        curves: Mapping[str, FanCurve] | None = None,
    ) -> None:  # fmt: skip
        self._bench = bench
        self._wanted = wanted
        self._curves = dict(curves or {})
        self._keepers: list[CurveKeeper] = []
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
        for name, value in self._wanted.items():
            self.set_now(name, value)
        for name, curve in self._curves.items():
            # The safe end, until the temperature is known.
            self.set_now(name, max(curve.duties_pct))
            self._keepers.append(CurveKeeper(self._bench.actuators()[name], curve))

    def set_now(self, name: str, value: float) -> None:
        """Make one setting, during a run, too; it is put back with the others.

        Raises
        ------
        BenchError
            It cannot be made; all are put back.
        """
        actuators = self._bench.actuators()
        actuator = actuators.get(name)
        if actuator is None:
            known = ", ".join(actuators) or "nothing"
            problem = (
                f"{name} cannot be set on this machine (settable: {known})."
                + nearest(name, actuators)
                + " Set it by hand instead"
            )
            raise BenchError(". ".join([problem, *self.put_back()]))
        known_before = {changed.name: changed for changed in self._changed}
        actuator = known_before.get(name, actuator)  # the first one knows the value from before
        if name not in known_before:
            self._changed.append(actuator)
        _LOG.info("set %s to %g", name, value)
        try:
            actuator.set(value)
        except BenchError as error:
            raise BenchError(". ".join([str(error), *self.put_back()])) from None

    def follow(self, now_s: float, values: Mapping[str, float]) -> list[str]:
        """Keep fans on the curves that software keeps; return what went wrong."""
        return [problem for keeper in self._keepers if (problem := keeper.follow(now_s, values))]

    def fans_up(self) -> list[str]:
        """Run every fan that can be set at its highest duty; return what was done, in words."""
        self._keepers.clear()
        told = []
        for name, actuator in self._bench.actuators().items():
            if not (name.startswith("fan.") and name.endswith(".duty_pct")):
                continue
            changed = next((one for one in self._changed if one.name == name), actuator)
            if changed is actuator:
                self._changed.append(actuator)
            try:
                changed.set(changed.high)
                told.append(f"{name} at {changed.high:g} %")
            except BenchError as error:
                told.append(str(error))
        return told

    def news(self, now_s: float) -> list[str]:
        """Return which settings the machine has changed since. Each is reported once."""
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
            _LOG.info("put back %s", actuator.name)
            try:
                actuator.restore()
            except BenchError as error:
                problems.append(f"not put back: {error}")
        return problems
