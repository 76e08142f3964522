"""Identifies the device of a folder in the kernel's class tree, by names that survive a reboot.

hwmon numbers, disk numbers and bus numbers are handed out anew when devices come and go. What stays
is the driver's name and the device's place: a PCI address, an address on an I2C adapter, a platform
device's own name. Light: the process that puts settings back after a crash uses it too.
"""

import os
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

_PCI = re.compile(r"([0-9a-f]{4}):([0-9a-f]{2}:[0-9a-f]{2}\.[0-9a-f])")
_I2C_CLIENT = re.compile(r"\d+-([0-9a-f]{4})")
_I2C_ADAPTER = re.compile(r"i2c-\d+")
_USB = re.compile(r"\d+-(\d+(?:\.\d+)*)((?::\d+\.\d+)?)")  # bus, ports, interface
_HID = re.compile(r"([0-9A-F]{4}:[0-9A-F]{4}:[0-9A-F]{4})\.[0-9A-F]{4}")
_PORT = re.compile(r"ata\d+")
_INSTANCE = re.compile(r"(?:[^.:]+)[.:]([0-9a-f]+)")  # platform "nct6775.656", ACPI "ACPI000D:00"
# Numbers handed out in the order in which devices appear.
_PASSING = re.compile(
    r"hwmon\d*|usb\d+|nvme(\d+(n\d+)?)?|host\d+|target[\d:]+|\d+:\d+:\d+:\d+|phy\d+|ieee80211|"
    r"drm|card\d+|thermal_zone\d+|virtual|platform|thermal"
)


@dataclass(frozen=True, slots=True)
class HwmonDevice:
    """A hwmon device: its present place, and its lasting name.

    Attributes
    ----------
    folder
        Its present folder, with links resolved.
    driver
        The name it gives itself.
    address
        Its place on its bus, short, for a channel name; empty where one place is all there is.
    bus
        The bus's own place, for when two devices have one address.
    key
        Driver and whole place: no two devices share it.
    """

    folder: Path
    driver: str
    address: str
    bus: str
    key: str

    @property
    def device(self) -> Path:
        """The folder of the device behind the hwmon folder."""
        return _behind(self.folder)


def hwmon_devices(sys_root: Path) -> Iterator[HwmonDevice]:
    """Yield the hwmon devices that are there now, by place."""
    parent = sys_root / "class" / "hwmon"
    try:
        links = list(parent.iterdir())
    except OSError:
        return
    found = []
    for link in links:
        folder = Path(os.path.realpath(link))
        driver = text_of(folder / "name") or text_of(folder / "device" / "name")
        if driver is None and not folder.is_dir():
            continue  # it disappeared during the search
        found.append(_described(folder, driver or _behind(folder).name))
    yield from sorted(found, key=lambda device: (device.key, str(device.folder)))


def hwmon_finder(sys_root: Path, key: str) -> Callable[[], Path | None]:
    """Return a function that says where the device of this key is now; None if it is gone."""

    def find() -> Path | None:
        for device in hwmon_devices(sys_root):
            if device.key == key:
                return device.folder
        return None

    return find


def _behind(folder: Path) -> Path:
    """Return the device's folder: hwmon folders lie in it, with or without a "hwmon" between."""
    return folder.parent.parent if folder.parent.name == "hwmon" else folder.parent


def _described(folder: Path, driver: str) -> HwmonDevice:
    device = _behind(folder)
    parts = _after_devices(device)
    place = [part for part in (_lasting(device, parts, k) for k in range(len(parts))) if part]
    address = _address(parts)
    bus = place[-2] if len(place) > 1 else ""
    return HwmonDevice(folder, driver, address, bus, "/".join([driver, *place]))


def _after_devices(device: Path) -> tuple[str, ...]:
    parts = device.parts
    return parts[parts.index("devices") + 1 :] if "devices" in parts else parts[-1:]


def _lasting(device: Path, parts: tuple[str, ...], k: int) -> str:
    """Return the lasting part of one part of the path; empty if nothing lasts."""
    part = parts[k]
    if _I2C_ADAPTER.fullmatch(part):
        folder = Path(*device.parts[: len(device.parts) - len(parts) + k + 1])
        return text_of(folder / "name") or "i2c"
    if match := _I2C_CLIENT.fullmatch(part):
        return match[1]
    if match := _USB.fullmatch(part):
        return match[1] + match[2]  # the number of a bus is handed out, ports are soldered
    if match := _HID.fullmatch(part):
        return match[1]
    return "" if _PASSING.fullmatch(part) else part


def _address(parts: tuple[str, ...]) -> str:
    for part in reversed(parts):
        if match := _I2C_CLIENT.fullmatch(part):
            return match[1].lstrip("0") or "0"
        if match := _PCI.fullmatch(part):
            return match[2] if match[1] == "0000" else part
        if _PORT.fullmatch(part):
            return part
        if match := _USB.fullmatch(part):
            return f"usb_{match[1]}"
        if match := _INSTANCE.fullmatch(part):
            return match[1]
        if not _PASSING.fullmatch(part) and not _HID.fullmatch(part):
            return ""
    return ""


def text_of(path: Path) -> str | None:
    """Return the stripped text of a small file; None if it cannot be read."""
    try:
        return path.read_text(encoding="ascii", errors="replace").strip() or None
    except OSError:
        return None
