"""The values of settings before they were changed, kept on disk until they are put back.

The note is on disk before the first change. The settings are put back from it by the run itself at its
end, by its guardian if the run was killed, or by the user at the next start if both were, as by a reset.
This module has few imports, as the guardian loads it.
"""

import contextlib
import json
import os
import time
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

from gelassen.bench.sensors.identity import hwmon_finder, text_of

_BOOT = Path("/proc/sys/kernel/random/boot_id")
_SHOWS_AFTER_S = 2.0  # drivers show cached readings for about a second


@dataclass(frozen=True, slots=True)
class Before:
    """One file as it was.

    Attributes
    ----------
    setting
        The channel it belongs to.
    path
        The file, below `sys_root`; below the device's folder if `device` is given.
    text
        What stood in it.
    device
        Key of the hwmon device, which may have another number by then.
    if_not
        What to write into which file of the same folder if it cannot be put back: a fan that cannot
        go back to its own control runs at full speed.
    """

    sys_root: str
    setting: str
    path: str
    text: str
    device: str = ""
    if_not: tuple[str, str] | None = None

    def file(self) -> Path | None:
        """Return where the file is now; None if its device is gone."""
        if not self.device:
            return Path(self.sys_root) / self.path
        folder = hwmon_finder(Path(self.sys_root), self.device)()
        return folder / self.path if folder else None

    def put_back(self) -> str:
        """Write the value from before; return what went wrong, if anything did."""
        file = self.file()
        if file is None:
            return f"{self.setting}: the device of {self.path} is gone; {self.text} was set there"
        if text_of(file) == self.text:
            return ""
        try:
            write_text(file, self.text)
        except OSError as error:
            problem = (
                f"{self.setting}: {file} cannot be put back to {self.text} "
                f"({error.strerror or error})"
            )
            if self.if_not is not None:
                with contextlib.suppress(OSError):
                    write_text(file.parent / self.if_not[0], self.if_not[1])
                    problem += f"; {self.if_not[0]} is set to {self.if_not[1]} instead"
            return problem
        deadline_s = time.monotonic() + _SHOWS_AFTER_S
        while (found := text_of(file)) != self.text:
            if time.monotonic() > deadline_s:
                return f"{self.setting}: {file} was put back to {self.text} and shows {found}"
            time.sleep(0.05)
        return ""

    def same_place(self, other: "Before") -> bool:
        """Whether both entries are about one file."""
        mine, its = (
            (self.sys_root, self.device, self.path),
            (other.sys_root, other.device, other.path),
        )
        return mine == its


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
    """Write a note, whole or not at all."""
    content = {"process": _birth(os.getpid()), "entries": [asdict(entry) for entry in entries]}
    draft = path.with_suffix(".part")
    with draft.open("w", encoding="utf-8") as stream:
        json.dump(content, stream, indent=1)
        stream.flush()
        os.fsync(stream.fileno())
    draft.replace(path)


def read_note(path: Path) -> list[Before]:
    """Return the entries of a note; none if it is gone. Raises ValueError if it is damaged."""
    try:
        content = json.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        return []
    entries = []
    for entry in content["entries"]:
        if_not = entry.pop("if_not", None)
        entries.append(Before(**entry, if_not=tuple(if_not) if if_not else None))
    return entries


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
        return Path("/var/lib/gelassen")
    base = os.environ.get("XDG_STATE_HOME")
    return (Path(base) if base else Path.home() / ".local" / "state") / "gelassen"


def left_behind() -> Iterator[tuple[Path, list[Before]]]:
    """Yield the notes whose process is gone and whose settings still differ from before."""
    for path, entries, alive in _notes():
        if alive:
            continue
        changed = [e for e in entries if (file := e.file()) and text_of(file) != e.text]
        if changed:
            yield path, changed
        else:  # a restart of the machine has put everything back
            with contextlib.suppress(OSError):
                path.unlink()


def claimed(entries: Sequence[Before], but: Path) -> str:
    """Return why these files may not be changed now (another run has changed them), or ""."""
    for path, others, alive in _notes():
        if path == but:
            continue
        for other in others:
            if any(entry.same_place(other) for entry in entries):
                if alive:
                    return "another run has changed it and will put it back: wait for its end"
                return "an earlier run left it changed: first put it back, gelassen --put-back"
    return ""


def _notes() -> Iterator[tuple[Path, list[Before], bool]]:
    """Yield every note, its entries, and whether its process still runs."""
    for folder in sorted({note_folder(), Path("/var/lib/gelassen")}):
        try:
            paths = sorted(folder.glob("settings-*.json"))
        except OSError:
            continue
        for path in paths:
            try:
                process = json.loads(path.read_text(encoding="utf-8"))["process"]
                entries = read_note(path)
            except (OSError, ValueError, KeyError, TypeError):
                continue
            yield path, entries, _birth(process["pid"]) == process


def _birth(pid: int) -> dict[str, int | str]:
    """Return an identity of a process that no later process of its number has: boot and start time."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text(encoding="ascii", errors="replace")
        began = fields.rsplit(")", 1)[1].split()[19]
        return {"pid": pid, "began": began, "boot": text_of(_BOOT) or ""}
    except (OSError, IndexError):
        return {"pid": pid, "began": "", "boot": ""}


def write_text(file: Path, text: str) -> None:
    """Write a small kernel file in one go."""
    # Truncate first: a kernel file ignores it, but a plain file would keep the rest.
    descriptor = os.open(file, os.O_WRONLY | os.O_TRUNC | os.O_CLOEXEC)
    try:
        os.write(descriptor, text.encode())
    finally:
        os.close(descriptor)
