"""One kernel file that holds one number, read repeatedly."""

import contextlib
import os
import time
from collections.abc import Callable
from pathlib import Path

_SEARCH_EVERY_S = 1.0  # a missing device is searched this often, not at every reading


class Home:
    """The present place of a device's files. Devices disappear, return, and get other numbers.

    Parameters
    ----------
    folder
        Where they are at first.
    find
        Says where the same device is now, or None; without it the folder stays.
    """

    __slots__ = ("_find", "_looked_s", "folder")

    def __init__(self, folder: Path, find: Callable[[], Path | None] | None = None) -> None:
        self.folder = folder
        self._find = find
        self._looked_s = -_SEARCH_EVERY_S

    def look(self) -> None:
        """Find the device again, unless that was tried a moment ago."""
        now_s = time.monotonic()
        if self._find is None or now_s - self._looked_s < _SEARCH_EVERY_S:
            return
        self._looked_s = now_s
        self.folder = self._find() or self.folder


class SysFile:
    """A number in a file of sysfs or procfs.

    The file stays open between readings: an open sysfs file gives a fresh value when read from its
    start, and an error, never another device's value, once its device is gone. After a failure the
    device is looked for and the file opened anew. `fd` is the open file, -1 if there is none.
    """

    __slots__ = ("_failed", "_home", "_name", "fd")

    def __init__(self, name: str, home: Home | Path) -> None:
        self._home = home if isinstance(home, Home) else Home(home)
        self._name = name
        self.fd = -1
        self._failed = False

    @property
    def path(self) -> Path:
        """Where the file is now."""
        return self._home.folder / self._name

    def read(self) -> float:
        """Return the number; OSError or ValueError if there is none."""
        try:
            return float(os.pread(self.fd, 64, 0))
        except OSError:
            return float(self._anew())
        except ValueError:
            raise ValueError(f"{self.read_text()[:40]!r} is not a number") from None

    def read_text(self) -> str:
        """Return the text of the file; OSError if it cannot be read."""
        try:
            content = os.pread(self.fd, 1 << 16, 0)
        except OSError:
            content = self._anew()
        return content.decode("ascii", errors="replace").strip()

    def _anew(self) -> bytes:
        """Open the file and read it; for the first time, or after a failure."""
        self.close()
        if self._failed:
            self._home.look()
        try:
            self.fd = os.open(self.path, os.O_RDONLY | os.O_CLOEXEC)
            content = os.pread(self.fd, 1 << 16, 0)
        except OSError:
            self._failed = True
            self.close()
            raise
        self._failed = False
        return content

    def close(self) -> None:
        """Close the file, if it is open."""
        if self.fd >= 0:
            with contextlib.suppress(OSError):
                os.close(self.fd)
            self.fd = -1
