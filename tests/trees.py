"""Trees as the kernel lays them out, made for a test."""

import os


def write(root, path, text):
    file = root / path
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_text(f"{text}\n")
    return file


def device(root, number, driver, address, files):
    """Make a hwmon device: a class link into the tree of devices."""
    home = root / "sys/devices" / address
    for name, text in {"name": driver, **files}.items():
        write(home, f"hwmon/hwmon{number}/{name}", text)
    folder = home / f"hwmon/hwmon{number}"
    (folder / "device").symlink_to("../..")
    link = root / "sys/class/hwmon" / f"hwmon{number}"
    link.parent.mkdir(parents=True, exist_ok=True)
    link.symlink_to(os.path.relpath(folder, link.parent))
    return folder
