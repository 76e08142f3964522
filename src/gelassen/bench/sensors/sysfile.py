"""One kernel file that holds one number, read again and again."""

import contextlib
import os
from pathlib import Path


class SysFile:
    """A number in a file of sysfs or procfs.

    The file stays open between readings (an open sysfs file gives a fresh value when read from its
    start). After a failure it is opened anew: devices go and come back.
    """

    __slots__ = ("_fd", "path")

    def __init__(self, path: Path) -> None:
        self.path = path
        self._fd: int | None = None

    def read(self) -> float:
        """Return the number; OSError or ValueError if there is none."""
        return float(self._bytes())

    def read_text(self) -> str:
        """Return the text of the file; OSError if it cannot be read."""
        return self._bytes().decode("ascii", errors="replace").strip()

    def _bytes(self) -> bytes:
        try:
            if self._fd is None:
                self._fd = os.open(self.path, os.O_RDONLY | os.O_CLOEXEC)
            return os.pread(self._fd, 4096, 0)
        except OSError:
            self.close()
            raise

    def close(self) -> None:
        """Close the file, if it is open."""
        if self._fd is not None:
            with contextlib.suppress(OSError):
                os.close(self._fd)
            self._fd = None


def text_of(path: Path) -> str | None:
    """Return the stripped text of a small file; None if there is none to be had."""
    try:
        return path.read_text(encoding="ascii", errors="replace").strip() or None
    except OSError:
        return None
