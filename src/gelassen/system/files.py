"""Reading and writing files that somebody else may have prepared: links, pipes, half-written files."""

import contextlib
import os
import secrets
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

_NOFOLLOW = getattr(os, "O_NOFOLLOW", 0)  # not on every system
_NONBLOCK = getattr(os, "O_NONBLOCK", 0)
_CLOEXEC = getattr(os, "O_CLOEXEC", 0)
_BINARY = getattr(os, "O_BINARY", 0)


def replace_file(
    path: Path,
    content: str | bytes,
    *,
    check: Callable[[Path], object] | None = None,
    mode: int = 0o666,
) -> None:
    """Replace a file as a whole, so that a crash leaves the old one or the new one.

    Parameters
    ----------
    path
        The file. A link of this name is replaced; what it leads to stays as it is.
    content
        What it holds; text is written as UTF-8.
    check
        Called with the draft before it takes the file's place. If it raises, the file stays as it is.
    mode
        Permissions of the new file, less the process's umask.

    Raises
    ------
    OSError
        The file cannot be written. The draft is deleted.
    """
    data = content.encode() if isinstance(content, str) else content
    with draft_of(path, mode=mode) as draft:
        with draft.open("r+b") as stream:
            stream.write(data)
        if check is not None:
            check(draft)


@contextmanager
def draft_of(path: Path, *, mode: int = 0o666) -> Iterator[Path]:
    """Give a new, empty file beside `path`; it is synced and takes the path's place at the end.

    Its name cannot be guessed, so nobody can put a link there beforehand. On an error it is deleted.
    A device, a pipe or a folder is never replaced: OSError.
    """
    if is_stream(path):
        raise _irregular(path)
    draft = path.with_name(f".{path.name}.{secrets.token_hex(8)}.part")
    flags = os.O_CREAT | os.O_EXCL | os.O_WRONLY | _NOFOLLOW | _CLOEXEC
    os.close(os.open(draft, flags, mode))
    try:
        yield draft
        sync(draft)
        draft.replace(path)
    except BaseException:
        with contextlib.suppress(OSError):
            draft.unlink()
        raise


def write_out(path: Path, text: str) -> None:
    """Write what a user asked for where he wants it: into a device or a pipe, else as a whole file.

    Raises
    ------
    OSError
        It cannot be written there.
    """
    if is_stream(path):
        path.write_text(text, encoding="utf-8")
    else:
        replace_file(path, text)


def is_stream(path: Path) -> bool:
    """Return whether a path is, or leads to, something else than a file: a device, a pipe, a folder."""
    try:
        link = str(path.readlink())
    except OSError:
        link = ""
    try:
        # The streams of a process are links there, also where they lead to files.
        return link.startswith("/proc/") or not stat.S_ISREG(path.stat().st_mode)
    except OSError:
        return False  # nothing is there, or a link to nothing


def append_line(path: Path, line: str, *, synced: bool = True) -> None:
    """Append a line to a regular file, or make it; with `synced`, it is on disk when this returns."""
    flags = os.O_CREAT | os.O_WRONLY | os.O_APPEND | _NOFOLLOW | _NONBLOCK | _CLOEXEC
    descriptor = os.open(path, flags, 0o644)
    try:
        _need_regular(path, descriptor)
        os.write(descriptor, line.encode() + b"\n")
        if synced:
            os.fsync(descriptor)
    finally:
        os.close(descriptor)


def read_bytes(path: Path) -> bytes:
    """Return the content of a regular file. Pipes and devices are refused: they might never answer.

    Raises
    ------
    OSError
        It cannot be read, or is no regular file.
    """
    descriptor = os.open(path, os.O_RDONLY | _NONBLOCK | _CLOEXEC | _BINARY)
    with os.fdopen(descriptor, "rb") as stream:
        _need_regular(path, descriptor)
        return stream.read()


def read_text(path: Path, *, errors: str = "strict") -> str:
    """Return the content of a regular file in UTF-8; OSError or UnicodeDecodeError if it cannot."""
    return read_bytes(path).decode("utf-8", errors).replace("\r\n", "\n")


def need_regular(path: Path) -> None:
    """Raise OSError if a path cannot be read, or is no regular file."""
    descriptor = os.open(path, os.O_RDONLY | _NONBLOCK | _CLOEXEC)
    try:
        _need_regular(path, descriptor)
    finally:
        os.close(descriptor)


def sync(path: Path) -> None:
    """Force a file, or the names in a folder, to disk, where the system can do that."""
    if os.name != "posix" and path.is_dir():
        return
    descriptor = os.open(path, os.O_RDONLY | _CLOEXEC)
    try:
        os.fsync(descriptor)
    except OSError:
        pass  # a file system that cannot
    finally:
        os.close(descriptor)


def _need_regular(path: Path, descriptor: int) -> None:
    if not stat.S_ISREG(os.fstat(descriptor).st_mode):
        raise _irregular(path)


def _irregular(path: Path) -> OSError:
    return OSError(f"{path} is a pipe, a device or a folder, not a regular file")
