"""A lock between processes: one holder at a time, and others are told who it is and since when."""

import contextlib
import json
import os
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path

from gelassen.core.foundation.errors import InUseError

try:
    import fcntl
except ImportError:  # not on every system; there the lock does nothing
    fcntl = None  # type: ignore[assignment]

_held: dict[str, int] = {}  # locks of this process, and how often each was taken
_AGAIN_S = 0.2  # a holder that is just leaving gets this long


def machine_lock() -> Path:
    """Return the lock of this machine's loads and settings: one file for all users."""
    chosen = os.environ.get("GELASSEN_STATE")
    shared = Path("/run/lock")
    folder = Path(chosen) if chosen else shared if shared.is_dir() else Path(tempfile.gettempdir())
    return folder / "gelassen-machine.lock"


@contextmanager
def holding(path: Path, what: str) -> Iterator[None]:
    """Hold a lock for the time of a ``with``. The kernel frees it if this process ends in any way.

    The same process may take it again. Where the file cannot be made or the file system has no locks,
    nothing is locked.

    Parameters
    ----------
    path
        The lock's file. It stays, and says who held it last.
    what
        What is locked, for the message.

    Raises
    ------
    InUseError
        Another process holds it.
    """
    key = os.path.realpath(path)
    descriptor = None if key in _held else _taken(path, what)
    _held[key] = _held.get(key, 0) + 1
    try:
        yield
    finally:
        _held[key] -= 1
        if not _held[key]:
            del _held[key]
        if descriptor is not None:
            os.close(descriptor)


def _taken(path: Path, what: str) -> int | None:
    descriptor = _opened(path)
    if descriptor is None or fcntl is None:
        return None
    deadline_s = time.monotonic() + _AGAIN_S
    while True:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
            break
        except BlockingIOError:
            if time.monotonic() > deadline_s:
                holder = _holder(descriptor)
                os.close(descriptor)
                raise InUseError(
                    f"{what} is in use: {holder}. Wait for its end, or end it; nothing was started"
                ) from None
            time.sleep(0.02)
        except OSError:  # a file system without locks
            os.close(descriptor)
            return None
    said = {
        "process": os.getpid(),
        "since": datetime.now().astimezone().isoformat(timespec="seconds"),
        "command": " ".join([Path(sys.argv[0]).name, *sys.argv[1:]])[:200],
    }
    with contextlib.suppress(OSError):  # another user's file: who holds it stays unsaid
        os.ftruncate(descriptor, 0)
        os.pwrite(descriptor, json.dumps(said).encode(), 0)
    return descriptor


def _opened(path: Path) -> int | None:
    """Open the lock's file, or make it; None where neither is possible."""
    flags = (
        getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_NONBLOCK", 0)
    )
    for access in (os.O_RDWR, os.O_RDWR | os.O_CREAT | os.O_EXCL, os.O_RDWR, os.O_RDONLY):
        with contextlib.suppress(OSError):
            descriptor = os.open(path, access | flags, 0o666)
            if access & os.O_CREAT:
                with contextlib.suppress(OSError, AttributeError):
                    os.fchmod(descriptor, 0o666)  # all users share it, whatever the umask is
            return descriptor
    return None


def _holder(descriptor: int) -> str:
    """Return who holds the lock, in words."""
    try:
        said = json.loads(os.pread(descriptor, 4096, 0))
        return f'process {int(said["process"])} has it since {said["since"]} ("{said["command"]}")'
    except (OSError, ValueError, KeyError, TypeError, OverflowError):
        return "another process has it"
