"""What a tester may miss on a machine, why it is missing, and what to do."""

from collections.abc import Iterable


def missing_of(readable: Iterable[str]) -> list[tuple[str, str]]:
    """Return what is missing among these channels, each with the reason and what to do."""
    names = list(readable)
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
    if not any(name.startswith("room.") and name.endswith(".temp_c") for name in names):
        hints.append(
            (
                "room air",
                "machines do not measure it: lay a probe before the intake, and describe it in the "
                "study file, or give its readings by hand (gelassen note). Without it, runs on "
                "different days cannot be compared",
            )
        )
    return hints
