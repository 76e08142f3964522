"""Watches the clocks of a machine: a wall clock that is moved, and sleep of the whole machine."""

import shutil
import subprocess
import time

_JUMP_S = 1.0  # corrections of a synchronised clock are far smaller


class ClockWatch:
    """Compares the clocks of the system at every call."""

    def __init__(self) -> None:
        self._wall_s = _wall_offset_s()
        self._asleep_s = _asleep_s()

    def news(self) -> list[str]:
        """Return what happened to the clocks since the last call, in words."""
        found = []
        asleep_s, self._asleep_s = _asleep_s() - self._asleep_s, _asleep_s()
        wall_s, self._wall_s = _wall_offset_s() - self._wall_s, _wall_offset_s()
        if asleep_s > _JUMP_S:
            found.append(f"the machine was suspended for {asleep_s:.0f} s; it cooled meanwhile")
        jump_s = wall_s - asleep_s  # the wall clock goes on while the machine sleeps
        if abs(jump_s) > _JUMP_S:
            where = "forward" if jump_s > 0 else "back"
            found.append(
                f"the wall clock was moved {where} by {abs(jump_s):.0f} s; times from the start "
                "of the recording are not touched by it"
            )
        return found


def _wall_offset_s() -> float:
    return time.time() - time.monotonic()


def _asleep_s() -> float:
    """Return how long the machine has slept since it was started; 0 where no clock tells."""
    if not hasattr(time, "CLOCK_BOOTTIME"):
        return 0.0
    return time.clock_gettime(time.CLOCK_BOOTTIME) - time.clock_gettime(time.CLOCK_MONOTONIC)


def wall_clock_synchronised() -> bool | None:
    """Return whether a time server sets the wall clock; None where nothing tells."""
    if shutil.which("timedatectl") is None:
        return None
    try:
        said = subprocess.run(
            ["timedatectl", "show", "--property", "NTPSynchronized", "--value"],
            capture_output=True, text=True, timeout=5, check=True,
        ).stdout.strip()  # fmt: skip
    except (OSError, subprocess.SubprocessError):
        return None
    return {"yes": True, "no": False}.get(said)
