"""The note of the values from before, kept on disk until all settings are put back.

The note is on disk before the first change. The settings are put back from it by the run itself at its
end, by its guardian if the run was killed, or by the user at the next start if both were, as by a reset.
A note is trusted only if nobody else could have written it. Few imports, as the guardian loads it.
"""

import contextlib
import json
import os
import stat
from collections.abc import Iterator, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from gelassen.bench.actuators.undo import Before
from gelassen.bench.sensors.identity import text_of
from gelassen.system.files import read_text, replace_file

_BOOT = Path("/proc/sys/kernel/random/boot_id")
_OTHERS_WRITE = stat.S_IWGRP | stat.S_IWOTH
_SYSTEM_FOLDER = Path("/var/lib/gelassen")


class UndoNote:
    """The note of one process. Entries are put back in reverse order."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._entries: list[Before] = []

    @property
    def entries(self) -> tuple[Before, ...]:
        """The entries to put back."""
        return tuple(self._entries)

    def add(self, entries: Sequence[Before]) -> None:
        """Note the value from before. It is on disk when this returns. Raises OSError if that fails."""
        write_note(self.path, [*self._entries, *entries])
        self._entries.extend(entries)

    def put_back(self, setting: str) -> list[str]:
        """Put one setting back; return what went wrong."""
        mine = [entry for entry in self._entries if entry.setting == setting]
        problems = [said for entry in reversed(mine) if (said := entry.put_back())]
        if not problems:
            self._entries = [entry for entry in self._entries if entry.setting != setting]
            if self._entries:
                write_note(self.path, self._entries)
            else:
                self.path.unlink(missing_ok=True)
        return problems


def write_note(path: Path, entries: Sequence[Before]) -> None:
    """Write a note, whole or not at all; only its owner may read or write it."""
    content = {"process": _birth(os.getpid()), "entries": [asdict(entry) for entry in entries]}
    replace_file(path, json.dumps(content, indent=1), mode=0o600)


def read_note(path: Path) -> list[Before]:
    """Return the entries of a note; none if it is gone.

    Raises
    ------
    ValueError
        It is damaged, somebody else may have written it, or it names what no setting writes.
    """
    try:
        return _read(path)[1]
    except FileNotFoundError:
        return []


def _read(path: Path) -> tuple[dict[str, Any], list[Before]]:
    """Return the process and the entries of a note; OSError or ValueError if it cannot be trusted."""
    _need_own(path.parent)
    _need_own(path)
    try:
        content = json.loads(read_text(path))
        process = content["process"]
        entries = [_entry(one) for one in content["entries"]]
        if not isinstance(process["pid"], int) or process["pid"] <= 0:
            raise ValueError("it names no process")
    except (KeyError, TypeError, AttributeError, RecursionError, OverflowError) as error:
        raise ValueError(f"it is damaged ({type(error).__name__})") from None
    for entry in entries:
        entry.check()
    return process, entries


def _entry(said: dict[str, Any]) -> Before:
    if_not = said.pop("if_not", None)
    entry = Before(**said, if_not=(str(if_not[0]), str(if_not[1])) if if_not else None)
    if not all(isinstance(value, str) for value in said.values()):
        raise TypeError
    return entry


def _need_own(path: Path) -> None:
    """Raise ValueError if somebody else owns a file or folder, or may write it."""
    if not hasattr(os, "geteuid"):
        return
    found = path.lstat()
    if stat.S_ISLNK(found.st_mode) or found.st_uid not in (0, os.geteuid()):
        raise ValueError(f"{path} is a link or belongs to another user")
    if found.st_mode & _OTHERS_WRITE:
        raise ValueError(f"other users may write {path}")


def prepare_folder(folder: Path) -> None:
    """Make the folder of notes, for its owner only.

    Raises
    ------
    OSError
        It cannot be made, or other users may write it and that cannot be changed.
    """
    folder.parent.mkdir(parents=True, exist_ok=True)
    with contextlib.suppress(FileExistsError):
        folder.mkdir(mode=0o700)
    if folder.name == "gelassen" and folder.stat().st_mode & _OTHERS_WRITE:
        folder.chmod(0o700)  # earlier versions left it to the umask
    try:
        _need_own(folder)
    except ValueError as error:
        raise OSError(f"{error}, so it could be forged: chmod 700 {folder}") from None


def put_back_note(path: Path) -> list[str]:
    """Put back every entry of a note; return what went wrong. The note is deleted if nothing did."""
    problems = [said for entry in reversed(read_note(path)) if (said := entry.put_back())]
    if not problems:
        path.unlink(missing_ok=True)
    return problems


def note_folder() -> Path:
    """Return the folder of notes: one for the system where root writes, else the user's own."""
    if chosen := os.environ.get("GELASSEN_STATE"):
        return Path(chosen)
    if hasattr(os, "geteuid") and os.geteuid() == 0:
        return _SYSTEM_FOLDER
    base = os.environ.get("XDG_STATE_HOME")
    return (Path(base) if base else Path.home() / ".local" / "state") / "gelassen"


def left_behind() -> Iterator[tuple[Path, list[Before]]]:
    """Yield the notes whose process is gone and whose settings still differ from before."""
    for path, process, entries in _notes():
        if _birth(process["pid"]) == process:
            continue
        changed = [e for e in entries if (file := e.file()) and text_of(file) != e.text]
        if changed:
            yield path, changed
        else:  # a restart of the machine has put everything back
            with contextlib.suppress(OSError):
                path.unlink()


def spoilt_notes() -> list[tuple[Path, str]]:
    """Return the notes that cannot be used, and why."""
    found = []
    for path in _paths():
        try:
            _read(path)
        except FileNotFoundError:
            continue
        except (OSError, ValueError) as error:
            found.append((path, str(error)))
    return found


def claimed(entries: Sequence[Before], but: Path) -> str:
    """Return why these files may not be changed now (another run has changed them), or ""."""
    for path, process, others in _notes():
        if path == but:
            continue
        for other in others:
            if any(entry.same_place(other) for entry in entries):
                if _birth(process["pid"]) == process:
                    return "another run has changed it and will put it back: wait for its end"
                return "an earlier run left it changed: first put it back, gelassen --put-back"
    return ""


def _paths() -> list[Path]:
    found: list[Path] = []
    for folder in sorted({note_folder(), _SYSTEM_FOLDER}):
        with contextlib.suppress(OSError):
            found += sorted(folder.glob("settings-*.json"))
    return found


def _notes() -> Iterator[tuple[Path, dict[str, Any], list[Before]]]:
    """Yield every note that can be trusted: its path, its process, its entries."""
    for path in _paths():
        try:
            process, entries = _read(path)
        except (OSError, ValueError):
            continue
        yield path, process, entries


def _birth(pid: int) -> dict[str, int | str]:
    """Return an identity of a process that no later process of its number has: boot and start time."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text(encoding="ascii", errors="replace")
        began = fields.rsplit(")", 1)[1].split()[19]
        return {"pid": pid, "began": began, "boot": text_of(_BOOT) or ""}
    except (OSError, IndexError):
        return {"pid": pid, "began": "", "boot": ""}
