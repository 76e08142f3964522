"""Reads all sensors. A device that does not answer does not delay the others.

One thread reads device after device. If a device takes longer than `patience_s`, that thread keeps only
this device, and another thread reads the rest. A device that has answered quickly for a while returns to
the others. One thread for all devices costs far less than one thread for each device.
"""

import math
import os
import threading
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from queue import Empty, SimpleQueue
from time import monotonic
from typing import TypeVar

from gelassen.bench.sensors.sensor import PlainFile, Sensor, reason_of
from gelassen.bench.sensors.sysfile import SysFile

_T = TypeVar("_T")
_NOT_PLAIN = PlainFile(SysFile("", Path()), 1.0)  # never open, so the quick way fails at once
_SLICES, _UNFAIR = 5, 10
_QUICK_PASSES = (
    30  # this many quick answers in a row before a slow device is read with the others again
)
NO_ANSWER = "no answer in time"


class Device:
    """The sensors of one device, read one after the other."""

    __slots__ = ("name", "quick_passes", "sensors")

    def __init__(self, name: str, sensors: list[Sensor]) -> None:
        self.name = name
        self.sensors = [
            (sensor.info.name, sensor.read, *(sensor.plain or _NOT_PLAIN)) for sensor in sensors
        ]
        self.quick_passes = 0


class _Pass:
    """One reading of some devices by one thread, which may get stuck at a device."""

    __slots__ = ("_given_up", "_lock", "at", "devices", "done", "ended_s", "errors", "values")

    def __init__(self, devices: Sequence[Device]) -> None:
        self.devices = devices
        self.values: dict[str, float] = {}
        self.errors: dict[str, Exception] = {}
        self.done = False
        self._lock = threading.Lock()
        self.at = -1
        self.ended_s = 0.0
        self._given_up = False

    def work(self) -> None:
        pread = os.pread
        for number, device in enumerate(self.devices):
            with self._lock:
                if self._given_up:
                    return
                self.at = number
            values, errors = self.values, self.errors
            for name, read, file, divisor, low, high in device.sensors:
                try:
                    # The quick way first: an open file with a number within bounds.
                    value = float(pread(file.fd, 64, 0)) / divisor
                    values[name] = value if low < value < high else read()
                except (OSError, ValueError):
                    try:
                        values[name] = read()
                    except Exception as error:
                        # If any reader fails, even by a mistake in it, the others go on.
                        errors[name] = error
        with self._lock:
            self.ended_s = monotonic()
            self.done = True

    def done_before_given_up(self) -> bool:
        """Leave the thread with the device it is at, unless it has just ended."""
        with self._lock:
            self._given_up = not self.done
            return self.done

    def left_alone(self) -> tuple[Device, Sequence[Device]]:
        """Return the device the thread was left with, and those it did not come to."""
        return self.devices[self.at], self.devices[self.at + 1 :]


class _Thread:
    """A thread that makes a pass on request."""

    def __init__(self) -> None:
        self._todo: SimpleQueue[_Pass | None] = SimpleQueue()
        self._done: SimpleQueue[_Pass] = SimpleQueue()
        self._thread = threading.Thread(target=self._run, name="sensors", daemon=True)
        self._thread.start()

    def begin(self, one: _Pass) -> None:
        self._todo.put(one)

    def wait(self, timeout_s: float) -> bool:
        """Return whether the pass begun last has ended within this time."""
        try:
            self._done.get(timeout=max(timeout_s, 0.0))
        except Empty:
            return False
        return True

    def leave(self) -> None:
        self._todo.put(None)

    def _run(self) -> None:
        while (one := self._todo.get()) is not None:
            one.work()
            self._done.put(one)


class _Apart:
    """A slow device with its own thread. Its values are used as they arrive."""

    def __init__(
        self, device: Device, thread: _Thread, running: _Pass | None, patience_s: float
    ) -> None:
        self.device = device
        self._thread = thread
        self._pass = running
        self._began_s = monotonic()
        self._patience_s = patience_s
        self.quick = running is None

    def begin(self) -> None:
        if self._pass is None:
            self._pass, self._began_s = _Pass([self.device]), monotonic()
            self._thread.begin(self._pass)

    def take(self, patience_s: float) -> tuple[dict[str, float], dict[str, Exception]]:
        """Return the readings since the last call; wait only for a device that was quick last time."""
        one = self._pass
        if one is None:
            return {}, {}
        if self._thread.wait(patience_s if self.quick else 0.0):
            self.quick = one.ended_s - self._began_s <= self._patience_s
            self.device.quick_passes = self.device.quick_passes + 1 if self.quick else 0
            self._pass = None
        elif self.quick:
            self.quick, self.device.quick_passes = False, 0
        return _taken(one.values), _taken(one.errors)

    def end(self) -> _Thread:
        return self._thread


def _taken(found: dict[str, _T]) -> dict[str, _T]:
    """Empty a dictionary that another thread may be adding to, and return its content."""
    taken = dict(found)
    for name in taken:
        del found[name]
    return taken


class Reader:
    """Reads sensors, in parallel where necessary, and counts failures.

    Parameters
    ----------
    sensors
        What to read.
    patience_s
        How long a device may hold up the others.
    """

    def __init__(self, sensors: Sequence[Sensor], *, patience_s: float = 0.05) -> None:
        self._patience_s = patience_s
        self._names = [sensor.info.name for sensor in sensors]
        together: dict[str, list[Sensor]] = {}
        apart: dict[str, list[Sensor]] = {}
        for sensor in sensors:
            (apart if sensor.apart else together).setdefault(sensor.device, []).append(sensor)
        self._together = [Device(name, found) for name, found in together.items()]
        self._apart = [
            _Apart(Device(name, s), _Thread(), None, patience_s) for name, s in apart.items()
        ]
        self._always_apart = set(apart)
        self._thread: _Thread | None = None
        self.failures: Counter[str] = Counter()
        self.reasons: dict[str, str] = {}
        self.errors: dict[str, Exception] = {}

    def read(self) -> dict[str, float]:
        """Return one value for each channel; NaN where there is none. Failures are counted."""
        for slow in self._apart:
            slow.begin()
        values, errors = self._read_together()
        if self._apart:
            deadline_s = monotonic() + self._patience_s
            for slow in self._apart:
                late_values, late_errors = slow.take(deadline_s - monotonic())
                values.update(late_values)
                errors.update(late_errors)
            self._take_back()
        if len(values) == len(self._names):
            return values
        result = {}
        for name in self._names:
            value = values.get(name)
            if value is None:
                value = math.nan
                self.failures[name] += 1
                error = errors.get(name)
                if error is not None:
                    self.errors[name] = error
                self.reasons[name] = reason_of(error) if error is not None else NO_ANSWER
            result[name] = value
        return result

    def _read_together(self) -> tuple[dict[str, float], dict[str, Exception]]:
        values: dict[str, float] = {}
        errors: dict[str, Exception] = {}
        devices: Sequence[Device] = self._together
        while devices:
            thread = self._thread = self._thread or _Thread()
            one = _Pass(devices)
            thread.begin(one)
            devices = ()
            if not self._waited(thread, one):
                device, devices = one.left_alone()
                device.quick_passes = 0
                self._together.remove(device)
                self._apart.append(_Apart(device, thread, one, self._patience_s))
                self._thread = None
            if one.done and not values:
                values, errors = one.values, one.errors
            else:
                values.update(_taken(one.values))
                errors.update(_taken(one.errors))
        return values, errors

    def _waited(self, thread: _Thread, one: _Pass) -> bool:
        """Wait for a pass to end; False if one device has kept it for longer than `patience_s`.

        Time in which the whole machine stood still does not count against a device. A short wait that
        took long shows it. On a machine so busy that every wait takes long, the pass still ends.
        """
        slice_s = self._patience_s / _SLICES
        last_s = monotonic() + _UNFAIR * self._patience_s
        fair, at = 0, -1
        while fair < _SLICES and (monotonic() < last_s or one.at < 0):
            began_s = monotonic()
            if thread.wait(slice_s):
                return True
            if monotonic() - began_s < 2 * slice_s:
                fair = fair + 1 if one.at == at >= 0 else 0
                at = one.at
        if one.done_before_given_up():
            thread.wait(self._patience_s)  # it is about to end
            return True
        return False

    def _take_back(self) -> None:
        for slow in list(self._apart):
            device = slow.device
            if device.name not in self._always_apart and device.quick_passes >= _QUICK_PASSES:
                slow.end().leave()
                self._apart.remove(slow)
                self._together.append(device)

    def close(self) -> None:
        """End the threads that still wait for requests."""
        for slow in self._apart:
            slow.end().leave()
        if self._thread is not None:
            self._thread.leave()
            self._thread = None
