"""The real bench: this machine, its sensors, its load and its clock."""

import sys
import time
from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path

from gelassen.bench.actuators import find_actuators
from gelassen.bench.actuators.find import find_added_actuators
from gelassen.bench.clocks import ClockWatch, wall_clock_synchronised
from gelassen.bench.interface import Actuator, ChannelInfo, Load
from gelassen.bench.loads.by_hand import LoadByHand
from gelassen.bench.loads.command import CommandLoad
from gelassen.bench.loads.cores import cores_for
from gelassen.bench.loads.spec import BY_HAND, COMMAND, LoadSpec
from gelassen.bench.loads.workers import WorkerLoad
from gelassen.bench.missing import missing_of
from gelassen.bench.sensors import Sensor, find_sensors
from gelassen.bench.sensors.find import find_added_sensors
from gelassen.bench.sensors.first_try import try_once
from gelassen.bench.sensors.nvml import find_nvml
from gelassen.bench.sensors.other import find_other
from gelassen.bench.sensors.reader import Reader
from gelassen.core.foundation.errors import FileError
from gelassen.system.locks import holding, machine_lock


class MachineBench:
    """The present machine, or a captured tree of one. Implements `gelassen.bench.Bench`.

    Parameters
    ----------
    sysfs : Path, optional
        A folder that stands in for /sys (or that holds `sys` and perhaps `proc`). Loads still run
        on the real processor.
    extra
        Sensors beyond those the machine offers: instruments, programs.
    """

    def __init__(self, *, sysfs: Path | None = None, extra: Sequence[Sensor] = ()) -> None:
        sys_root, proc_root = _roots(sysfs)
        self._sensors: list[Sensor] = find_sensors(sys_root, proc_root)
        if sysfs is None:
            if not sys.platform.startswith("linux"):
                self._sensors = find_other()
            self._sensors += find_nvml([sensor.info.name for sensor in self._sensors])
        added, broken_sensors = find_added_sensors(sys_root, proc_root, self._sensors)
        self._sensors += [*added, *extra]
        try_once(self._sensors)
        self._reader = Reader([sensor for sensor in self._sensors if sensor.info.readable])
        settings, broken_settings = find_added_actuators(sys_root)
        self._actuators = settings | find_actuators(sys_root)
        self._broken = [*broken_sensors, *broken_settings]
        self._clocks = ClockWatch()
        self._load: WorkerLoad | CommandLoad | None = None
        self._load_channels = _channels_of(LoadSpec())
        self._resting = {"load.work.rate_per_s": 0.0, "load.work.errors_count": 0.0}

    def channels(self) -> Sequence[ChannelInfo]:
        """Return what this machine offers, and what is missing with the reason."""
        return [*(sensor.info for sensor in self._sensors), *self._load_channels]

    def missing(self) -> list[tuple[str, str]]:
        """Return what is missing on this machine: what, and why and what to do."""
        readable = (info.name for info in self.channels() if info.readable)
        return [*missing_of(readable), *self._broken]

    def read(self) -> Mapping[str, float]:
        """Return one value per readable channel; NaN where a sensor failed."""
        values = self._reader.read()
        values.update(self._resting if self._load is None else self._load.readings())
        return values

    def failures(self) -> Mapping[str, int]:
        """Return how often each channel failed so far."""
        return self._reader.failures

    def failure_reasons(self) -> Mapping[str, str]:
        """Return why each channel failed last."""
        return self._reader.reasons

    def news(self) -> Sequence[str]:
        """Return what happened to the clocks, and to the load's score, since the last call."""
        said = self._load.news() if isinstance(self._load, CommandLoad) else ""
        return [*self._clocks.news(), said] if said else self._clocks.news()

    def clock_synchronised(self) -> bool | None:
        """Return whether a time server sets the wall clock; None where nothing tells."""
        return wall_clock_synchronised()

    def actuators(self) -> Mapping[str, Actuator]:
        """Return what can be set on this machine; only root may, as a rule."""
        return dict(self._actuators)

    def load(self, spec: LoadSpec | str, *, workers: int | None = None) -> Load:
        """Return the load; its workers start at once and wait."""
        if isinstance(spec, str):
            spec = LoadSpec(name=spec, workers=workers)
        if spec.name == BY_HAND:
            self._load, self._load_channels = None, []
            self._resting = {}
            return LoadByHand()
        cores = cores_for(spec.workers, spec.cores)
        load: WorkerLoad | CommandLoad
        if spec.name == COMMAND:
            pinned = cores if spec.workers or spec.cores else None
            load = CommandLoad(spec.command, score=spec.score, cores=pinned)
        else:
            load = WorkerLoad(
                cores, kernel=spec.name, duty_pct=spec.duty_pct, period_s=spec.period_s
            )
        load.prepare()
        self._load = load
        self._load_channels = _channels_of(spec)
        return load

    def claim(self) -> AbstractContextManager[None]:
        """Keep other processes of Gelassen from loading or changing this machine."""
        return holding(machine_lock(), "this machine")

    def now(self) -> float:
        """Return a clock that never runs backwards."""
        return time.monotonic()

    def sleep(self, seconds: float) -> None:
        """Wait."""
        if seconds > 0:
            time.sleep(seconds)


def _channels_of(spec: LoadSpec) -> list[ChannelInfo]:
    """Return the channels a load brings."""
    if spec.name != COMMAND:
        rate, errors = "rounds of work", "rounds with a wrong result: an unstable machine"
    else:
        rate, errors = "runs of the program", "runs that ended with a failure"
    found = [
        ChannelInfo(name="load.work.rate_per_s", what=f"{rate} per second", source="the load"),
        ChannelInfo(name="load.work.errors_count", what=errors, source="the load"),
    ]
    if spec.score:
        what = f"the program's score, by {spec.score}"
        found.append(ChannelInfo(name="load.program.score_count", what=what, source="the load"))
    return found


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
