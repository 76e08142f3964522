"""Where an archive lives: a folder, or an address that fsspec understands, such as s3://bench/studies."""

import contextlib
import hashlib
import json
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any

from fsspec.core import url_to_fs

from gelassen.core.foundation.errors import FileError
from gelassen.study.disk.cache import CACHE, code_fingerprint
from gelassen.study.file.study_file import STUDY_FILE

INDEX = ".gelassen-archive"
_DEEPEST = 12  # folders below the archive: links that lead in a circle end here
# What a study makes of its runs is not read again.
_MADE = (CACHE, f"{INDEX}/", "figures/", "report.html", ".locks/")


@dataclass(frozen=True, slots=True)
class Place:
    """A folder of some file system.

    Attributes
    ----------
    files
        The file system, of fsspec.
    root
        The folder in it.
    local
        Whether it is a folder of this machine.
    """

    files: Any
    root: str
    local: bool

    @classmethod
    def at(cls, address: str | Path) -> "Place":
        """Return the place of an address.

        Raises
        ------
        FileError
            There is no such folder, or the address is of a kind that is not installed here.
        """
        try:
            files, root = url_to_fs(str(address))
            there = files.isdir(root)
        except (ImportError, ValueError) as error:
            raise FileError(
                f"{address}: this kind of address cannot be read here ({error}). Install what fsspec needs "
                "for it, such as s3fs"
            ) from None
        except OSError as error:
            raise FileError(f"{address} cannot be read ({error})") from None
        if not there:
            raise FileError(f"{address}: there is no such folder")
        return cls(files, root.rstrip("/") or "/", "file" in _protocols(files))

    def studies(self) -> list[str]:
        """Return the studies below, as paths relative to this place, sorted."""
        found: list[str] = []
        folders = [(self.root, 0)]
        while folders:
            folder, depth = folders.pop()
            entries = self._listed(folder)
            if any(PurePosixPath(one["name"]).name == STUDY_FILE for one in entries):
                found.append(self._relative(folder))
                continue  # a study holds runs, not studies
            folders += [
                (one["name"], depth + 1)
                for one in entries
                if one["type"] == "directory"
                and depth < _DEEPEST
                and not one.get("islink")
                and not PurePosixPath(one["name"]).name.startswith(".")
            ]
        return sorted(found)

    def stamp(self, study: str) -> str:
        """Return a mark that changes when a file of a study, or the code that reads it, changes."""
        folder = self.path(study)
        files = self.files.find(folder, detail=True)
        known = sorted(
            (name, info.get("size"), str(_changed(info)))
            for path, info in files.items()
            if not (name := path[len(folder) :].lstrip("/")).startswith(_MADE)
        )
        return hashlib.sha256(json.dumps([code_fingerprint(), known]).encode()).hexdigest()

    @contextlib.contextmanager
    def opened(self, study: str) -> Iterator[Path]:
        """Give a local folder with the study: its own, or a copy that is removed afterwards.

        Of a copy, the analyses that were kept go back to where it came from.
        """
        folder = self.path(study)
        if self.local:
            yield Path(folder)
            return
        with tempfile.TemporaryDirectory(prefix="gelassen-") as place:
            copy = Path(place) / "study"
            for path in self.files.find(folder):
                name = path[len(folder) :].lstrip("/")
                if name.startswith(_MADE) and name != CACHE:
                    continue
                target = _inside(copy, name)
                target.parent.mkdir(parents=True, exist_ok=True)
                self.files.get_file(path, str(target))
            before = _bytes(copy / CACHE)
            try:
                yield copy
            finally:
                after = _bytes(copy / CACHE)
                if after and after != before:
                    with contextlib.suppress(OSError):  # a store that is read-only keeps none
                        self.files.pipe_file(f"{folder}/{CACHE}", after)

    def path(self, study: str) -> str:
        """Return the full path of a study."""
        return self.root if study == "." else f"{self.root}/{study}"

    def _relative(self, folder: str) -> str:
        return folder[len(self.root) :].strip("/") or "."

    def _listed(self, folder: str) -> list[dict[str, Any]]:
        try:
            return list(self.files.ls(folder, detail=True))
        except OSError:
            return []  # a folder that may not be read holds no study for us


def _inside(folder: Path, name: str) -> Path:
    """Return a file below a folder; refuse names that lead out of it."""
    if ".." in PurePosixPath(name).parts:
        raise FileError(f'"{name}" leads out of its study')
    return folder / name


def _bytes(file: Path) -> bytes:
    return file.read_bytes() if file.exists() else b""


def _protocols(files: Any) -> tuple[str, ...]:
    return (files.protocol,) if isinstance(files.protocol, str) else tuple(files.protocol)


def _changed(info: dict[str, Any]) -> object:
    """Return what the store says of the last change: a time, or a mark of the content."""
    keys = ("mtime", "ETag", "etag", "LastModified", "last_modified", "created")
    return next((info[key] for key in keys if info.get(key)), None)
