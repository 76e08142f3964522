"""How many cores are on, through the kernel's CPU hotplug."""

from collections.abc import Sequence
from pathlib import Path

from gelassen.bench.actuators.safety import SafetyNet
from gelassen.bench.actuators.setting import Setting, noted, put
from gelassen.bench.actuators.undo import Before
from gelassen.bench.sensors.cpu import processors
from gelassen.bench.sensors.identity import text_of


class ActiveProcessors(Setting):
    """Logical processors that are on; those with the highest numbers go first."""

    name = "cpu.all.active_count"

    def __init__(self, sys_root: Path, folders: Sequence[Path], net: SafetyNet) -> None:
        switches = [folder / "online" for folder in folders if (folder / "online").exists()]
        fixed = len(folders) - len(switches)  # the first processor cannot be switched off
        what = "logical processors that are on, highest numbers off first"
        super().__init__(self.name, what, float(max(fixed, 1)), float(len(folders)), net)
        self._sys_root = sys_root
        self._fixed = fixed
        self._switches = switches

    def read(self) -> float:
        """Return how many are on."""
        return float(self._fixed + sum(text_of(switch) == "1" for switch in self._switches))

    def _before(self) -> Sequence[Before]:
        return [noted(self._sys_root, self.name, switch) for switch in self._switches]

    def _write(self, value: float) -> None:
        if value != int(value):
            raise ValueError("a whole number is needed")
        for number, switch in enumerate(self._switches):
            wanted = "1" if self._fixed + number < value else "0"
            if text_of(switch) != wanted:
                put(switch, float(wanted))


def find_active_processors(sys_root: Path, net: SafetyNet) -> list[Setting]:
    """Return the setting, where processors can be switched off."""
    folders = processors(sys_root)
    if not any((folder / "online").exists() for folder in folders):
        return []
    return [ActiveProcessors(sys_root, folders, net)]
