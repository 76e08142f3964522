"""The real bench: this machine, its sensors, its load and its clock."""

import os
import sys
import time
from collections.abc import Mapping, Sequence
from pathlib import Path

from gelassen.bench.actuators import find_actuators
from gelassen.bench.clocks import ClockWatch
from gelassen.bench.interface import Actuator, ChannelInfo, Load
from gelassen.bench.loads.workers import WorkerLoad
from gelassen.bench.sensors import Sensor, find_sensors
from gelassen.bench.sensors.reader import Reader
from gelassen.core.errors import FileError, InputError
from gelassen.core.spelling import nearest

LOADS = ("matrix",)


class MachineBench:
    """The machine at hand, or the reader of a captured tree. Implements `gelassen.bench.Bench`.

    Parameters
    ----------
    sysfs : Path, optional
        A folder that stands in for /sys (or that holds `sys` and perhaps `proc`). Loads still run
        on the real processor.
    """

    def __init__(self, *, sysfs: Path | None = None) -> None:
        sys_root, proc_root = _roots(sysfs)
        self._sensors: list[Sensor] = find_sensors(sys_root, proc_root)
        self._reader = Reader([sensor for sensor in self._sensors if sensor.info.readable])
        self._actuators = find_actuators(sys_root)
        self._clocks = ClockWatch()
        self._work = _WorkMeter()

    def channels(self) -> Sequence[ChannelInfo]:
        """Return what this machine offers, and what is missing with the reason."""
        infos = [sensor.info for sensor in self._sensors]
        infos += [
            ChannelInfo(
                name="load.work.rate_per_s",
                what="rounds of work per second, over all workers",
                source="the load",
            ),
            ChannelInfo(
                name="load.work.errors_count",
                what="rounds with a wrong result: an unstable machine",
                source="the load",
            ),
        ]
        return infos

    def missing(self) -> list[tuple[str, str]]:
        """Return what is missing on this machine: what, and why and what to do."""
        names = [s.info.name for s in self._sensors if s.info.readable]
        hints = []
        if not any(name.startswith("cpu.") and name.endswith(".temp_c") for name in names):
            hints.append(
                (
                    "processor temperature",
                    "the kernel offers none: no driver is loaded (try: modprobe coretemp, or modprobe "
                    "k10temp), or this is a virtual machine. Without it, only work and clocks can be "
                    "compared",
                )
            )
        if not any(name.endswith(".speed_rpm") for name in names):
            hints.append(
                (
                    "fan speed",
                    "no fan is reported: the board's sensor driver is not loaded, or there is none. "
                    "Without it, a fan that ran differently stays unseen",
                )
            )
        if not any(name.endswith(".power_w") for name in names):
            hints.append(
                (
                    "power",
                    "no readable energy counter or meter: run as root, or read a meter at the wall. "
                    "Without it, it stays open whether two runs did the same work",
                )
            )
        hints.append(
            (
                "room air",
                "machines do not measure it: lay a probe before the intake, and give its readings by "
                "hand. Without it, runs on different days cannot be compared",
            )
        )
        return hints

    def read(self) -> Mapping[str, float]:
        """Return one value per readable channel; NaN where a sensor failed."""
        values = self._reader.read()
        values.update(self._work.read())
        return values

    def failures(self) -> Mapping[str, int]:
        """Return how often each channel failed so far."""
        return self._reader.failures

    def failure_reasons(self) -> Mapping[str, str]:
        """Return why each channel failed last."""
        return self._reader.reasons

    def news(self) -> Sequence[str]:
        """Return what happened to the clocks since the last call."""
        return self._clocks.news()

    def actuators(self) -> Mapping[str, Actuator]:
        """Return what can be set on this machine; only root may, as a rule."""
        return dict(self._actuators)

    def load(self, name: str, *, workers: int | None = None) -> Load:
        """Return the load; its workers start at once and wait."""
        if name not in LOADS:
            raise InputError(f'"{name}" is no load ({", ".join(LOADS)}).{nearest(name, LOADS)}')
        load = WorkerLoad(cores_for(workers))
        load.prepare()
        self._work.follow(load)
        return load

    def now(self) -> float:
        """Return a clock that never runs backwards."""
        return time.monotonic()

    def sleep(self, seconds: float) -> None:
        """Wait."""
        if seconds > 0:
            time.sleep(seconds)


def available_cores() -> list[int]:
    """Return the cores this process may use."""
    if sys.platform.startswith("linux"):
        return sorted(os.sched_getaffinity(0))
    return list(range(os.cpu_count() or 1))


def cores_for(workers: int | None) -> list[int]:
    """Return the cores that so many workers would use; all if not given."""
    cores = available_cores()
    if workers is not None and not 1 <= workers <= len(cores):
        raise InputError(f"{workers} workers asked for; 1 to {len(cores)} are possible here")
    return cores[:workers] if workers else cores


def _roots(sysfs: Path | None) -> tuple[Path, Path | None]:
    if sysfs is None:
        return Path("/sys"), Path("/proc")
    if not sysfs.is_dir():
        raise FileError(f"{sysfs}: there is no such folder to stand in for /sys")
    sys_root = sysfs / "sys" if (sysfs / "sys").is_dir() else sysfs
    if not (sys_root / "class").is_dir() and not (sys_root / "devices").is_dir():
        raise FileError(f'{sysfs} does not look like /sys: it has neither "class" nor "devices"')
    proc = sys_root.parent / "proc"
    return sys_root, proc if proc.is_dir() and sys_root != sysfs else None


class _WorkMeter:
    """Work per second of the load that is followed."""

    def __init__(self) -> None:
        self._load: WorkerLoad | None = None
        self._last = (time.monotonic(), 0)
        self._errors = 0

    def follow(self, load: WorkerLoad) -> None:
        self._load = load
        self._last = (time.monotonic(), 0)

    def read(self) -> dict[str, float]:
        if self._load is None:
            return {"load.work.rate_per_s": 0.0, "load.work.errors_count": float(self._errors)}
        now = time.monotonic()
        rounds, errors = self._load.rounds_and_errors()
        passed, done = now - self._last[0], rounds - self._last[1]
        self._last = (now, rounds)
        self._errors = max(self._errors, errors)  # the count outlives the workers
        rate = done / passed if passed > 0 and done >= 0 else 0.0
        return {"load.work.rate_per_s": rate, "load.work.errors_count": float(self._errors)}
