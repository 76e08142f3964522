"""The duty of a fan, through the kernel's hwmon pwm files."""

import time
from collections.abc import Sequence
from pathlib import Path

from gelassen.bench.actuators.safety import SafetyNet
from gelassen.bench.actuators.setting import SHOWS_AFTER_S, Setting, number_in, put
from gelassen.bench.actuators.undo import Before
from gelassen.bench.sensors.hwmon import find_hwmon
from gelassen.bench.sensors.identity import hwmon_finder, text_of
from gelassen.bench.sensors.sensor import Sensor

_MANUAL = 1
_FULL = 255


class FanDuty(Setting):
    """Duty of one pwm output. The board's own fan control is switched off in the meantime."""

    tolerance = 7.0  # some chips know sixteen steps only

    def __init__(self, sys_root: Path, sensor: Sensor, net: SafetyNet) -> None:
        super().__init__(sensor.info.name, f"duty of {sensor.info.what}", 0.0, 100.0, net)
        self._sys_root = sys_root
        self._device = sensor.device
        self._find = hwmon_finder(sys_root, sensor.device)
        self._folder = Path(sensor.info.source).parent
        self._pwm = Path(sensor.info.source).name

    def _place(self) -> Path:
        """Return the device's folder, whose number may have changed."""
        if not (self._folder / self._pwm).exists():
            self._folder = self._find() or self._folder
        return self._folder

    @property
    def _mode_name(self) -> str:
        return f"{self._pwm}_enable"

    def read(self) -> float:
        """Return the duty that is set, in %."""
        return round(number_in(self._place() / self._pwm) * 100 / _FULL, 1)

    def _before(self) -> Sequence[Before]:
        folder = self._place()
        mode, duty = text_of(folder / self._mode_name), text_of(folder / self._pwm)
        if duty is None:
            raise ValueError(f"{folder / self._pwm} is gone")
        root = str(self._sys_root)
        entries = [Before(root, self.name, self._pwm, duty, device=self._device)]
        if mode is not None:
            # First in this list, so last when put back: the duty must be in manual mode until then.
            entries.insert(
                0,
                Before(
                    root, self.name, self._mode_name, mode,
                    device=self._device, if_not=(self._pwm, str(_FULL)),
                ),
            )  # fmt: skip
        return entries

    def _write(self, value: float) -> None:
        folder = self._place()
        mode = folder / self._mode_name
        if mode.exists():
            put(mode, _MANUAL)
        put(folder / self._pwm, value * _FULL / 100)

    def _settled(self, value: float) -> float:
        found = super()._settled(value)
        mode = self._place() / self._mode_name
        deadline_s = time.monotonic() + SHOWS_AFTER_S
        while mode.exists() and number_in(mode) != _MANUAL:
            if time.monotonic() > deadline_s:
                raise ValueError(
                    "the board keeps control of it. Switch this fan to manual in the "
                    "firmware's setup"
                )
            time.sleep(0.1)
        return found

    def _refused(self, found: float) -> str:
        return "the board controls this fan itself. Switch it to manual in the firmware's setup"

    def check(self) -> str:
        """Return whether the machine changed the duty or the mode."""
        said = super().check()
        mode = self._place() / self._mode_name
        if not said and self._changed and (text := text_of(mode)) not in (None, str(_MANUAL)):
            said = f"{self.name}: the board has taken control of this fan back (mode {text})"
        return said


def find_fans(sys_root: Path, net: SafetyNet) -> list[Setting]:
    """Return the pwm outputs that can be written."""
    return [
        FanDuty(sys_root, sensor, net)
        for sensor in find_hwmon(sys_root)
        if sensor.info.name.endswith(".duty_pct") and _has_write_bit(Path(sensor.info.source))
    ]


def _has_write_bit(file: Path) -> bool:
    try:
        return bool(file.stat().st_mode & 0o222)
    except OSError:
        return False
