"""A bench whose channels have the tester's own names, offsets and scales, and derived powers."""

import math
from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import replace

from gelassen.bench.described import ChannelSpec
from gelassen.bench.interface import Actuator, Bench, ChannelInfo, Load
from gelassen.bench.loads.spec import LoadSpec
from gelassen.bench.missing import missing_of
from gelassen.core.foundation.errors import BenchError, InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.core.recording.channels import parse_channel
from gelassen.core.recording.power_from_current import pairs_of_power
from gelassen.core.recording.units import conversion


class AdjustedBench:
    """Wraps a bench under other names. Implements `gelassen.bench.Bench`.

    Parameters
    ----------
    bench
        Any bench.
    specs
        By the new name of each channel: what it is on the bench, and how its readings are changed.

    Raises
    ------
    InputError
        A channel that the bench does not have, a unit that does not fit, or two of one name.
    """

    def __init__(self, bench: Bench, specs: Mapping[str, ChannelSpec]) -> None:
        self._bench = bench
        self._specs = dict(specs)
        infos = {info.name: info for info in bench.channels()}
        self._names: dict[str, str] = {}  # the bench's name -> ours
        self._change: dict[str, tuple[float, float]] = {}
        for name, spec in specs.items():
            origin = spec.origin or name
            if origin not in infos:
                raise InputError(
                    f'channels."{name}": this machine has no channel "{origin}".'
                    + nearest(origin, infos)
                    + " List them with: gelassen channels"
                )
            if parse_channel(origin).unit != parse_channel(name).unit:
                conversion(parse_channel(origin).symbol, name)  # the message lists what is allowed
            if name in infos and name != origin:
                raise InputError(
                    f'channels."{name}": the machine has a channel of this name already'
                )
            self._names[origin] = name
            if spec.adjusted:
                self._change[name] = (spec.scale, spec.offset)
        readable = [self._names.get(n, n) for n, info in infos.items() if info.readable]
        self._powers = pairs_of_power(readable)

    def channels(self) -> Sequence[ChannelInfo]:
        """Return what can be logged, under our names."""
        found = [self._described(info) for info in self._bench.channels()]
        found += [
            ChannelInfo(name=name, what="voltage times current", source=f"{volts} and {amperes}")
            for name, (volts, amperes) in self._powers.items()
        ]
        return found

    def _described(self, info: ChannelInfo) -> ChannelInfo:
        name = self._names.get(info.name, info.name)
        what = info.what if name == info.name else f"{info.what}, named {info.name} by the machine"
        spec = self._specs.get(name)
        if spec is not None and spec.adjusted:
            what += f"; {spec.adjustment}"
        return replace(info, name=name, what=what, offset=spec.offset if spec else 0.0)

    def missing(self) -> list[tuple[str, str]]:
        """Return what is missing: what, and why and what to do."""
        return missing_of(info.name for info in self.channels() if info.readable)

    def read(self) -> Mapping[str, float]:
        """Return one value per readable channel, adjusted."""
        values = {self._names.get(name, name): v for name, v in self._bench.read().items()}
        for name, (scale, offset) in self._change.items():
            values[name] = round(values.get(name, math.nan) * scale + offset, 6)
        for name, (volts, amperes) in self._powers.items():
            values[name] = values.get(volts, math.nan) * values.get(amperes, math.nan)
        return values

    def failures(self) -> Mapping[str, int]:
        """Return how often each channel failed so far."""
        return {self._names.get(name, name): n for name, n in self._bench.failures().items()}

    def failure_reasons(self) -> Mapping[str, str]:
        """Return why each channel failed last."""
        return {self._names.get(n, n): why for n, why in self._bench.failure_reasons().items()}

    def news(self) -> Sequence[str]:
        """Return what else happened."""
        return self._bench.news()

    def clock_synchronised(self) -> bool | None:
        """Return whether a time server sets the wall clock; None where nothing tells."""
        asked = getattr(self._bench, "clock_synchronised", None)
        return None if asked is None else asked()

    def actuators(self) -> Mapping[str, Actuator]:
        """Return what can be set, under our names."""
        return {
            self._names.get(name, name): _Renamed(found, self._names.get(name, name))
            for name, found in self._bench.actuators().items()
        }

    def load(self, spec: LoadSpec | str, *, workers: int | None = None) -> Load:
        """Return a load."""
        return self._bench.load(spec, workers=workers)

    def claim(self) -> AbstractContextManager[None]:
        """Keep other processes from loading or changing the machine."""
        return self._bench.claim()

    def now(self) -> float:
        """Return the bench's clock."""
        return self._bench.now()

    def sleep(self, seconds: float) -> None:
        """Let time pass."""
        self._bench.sleep(seconds)


class _Renamed:
    """An actuator under another name; its messages carry the name the tester knows."""

    def __init__(self, actuator: Actuator, name: str) -> None:
        self._actuator = actuator
        self.name = name
        self.what = actuator.what
        self.low, self.high = actuator.low, actuator.high

    def read(self) -> float:
        return self._actuator.read()

    def set(self, value: float) -> None:
        try:
            self._actuator.set(value)
        except BenchError as error:
            raise BenchError(self._said(str(error))) from None

    def check(self) -> str:
        return self._said(self._actuator.check())

    def restore(self) -> None:
        try:
            self._actuator.restore()
        except BenchError as error:
            raise BenchError(self._said(str(error))) from None

    def _said(self, text: str) -> str:
        return text.replace(self._actuator.name, self.name)
