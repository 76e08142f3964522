"""Answers that were printed before: asked again of the same files, they are printed at once.

Loading the libraries that find an answer takes longer than finding it. An answer is used again only while
the question, the files it was found from, and this program are the same. Its figure is kept with it, as
another question may have drawn over it. It lies in the user's own cache, not in the study: a study from
elsewhere cannot bring answers of its own.
"""

import base64
import contextlib
import hashlib
import importlib.util
import json
import logging
import os
import shutil
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import astuple, dataclass
from pathlib import Path

from gelassen.commands.shared.common import emit, hint, listen
from gelassen.system.files import replace_file

_MOST_KEPT = 200  # answers; of more, those that were not asked for longest are dropped
_LONGEST = 1 << 20  # letters of an answer that is worth keeping, with its figure
_LIBRARIES = ("numpy", "scipy", "pandas", "matplotlib")


@dataclass(frozen=True, slots=True)
class KeptAnswer:
    """The place of one answer; None if it is not kept."""

    path: Path | None

    def given_again(self) -> bool:
        """Print the answer if it was given before, and put its figure in place; return whether it was."""
        if self.path is None:
            return False
        try:
            content = json.loads(self.path.read_text(encoding="utf-8"))
            printed = [(str(text), bool(nl)) for text, nl in content["printed"]]
            figures = [_KeptFigure(*map(str, one)) for one in content["figures"]]
            if not all(one.put_in_place() for one in figures):
                return False
        except (OSError, ValueError, TypeError, KeyError, OverflowError):
            return False
        logging.getLogger("gelassen").info("the answer is kept from before: %s", self.path)
        for text, nl in printed:
            emit(text, nl=nl)
        for one in figures:
            hint(f"figure: {one.path}")
        with contextlib.suppress(OSError):
            os.utime(self.path)
        return True

    @contextmanager
    def kept(self) -> Iterator[None]:
        """Keep what is printed within, unless it ends in an error."""
        if self.path is None:
            yield
            return
        with listen() as heard:
            yield
        with contextlib.suppress(OSError):
            figures = [astuple(_KeptFigure.of(path)) for path in heard.figures]
            text = json.dumps({"printed": heard.printed, "figures": figures})
            if len(text) > _LONGEST:
                return
            self.path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            replace_file(self.path, text)
            _drop_oldest(self.path.parent)


@dataclass(frozen=True, slots=True)
class _KeptFigure:
    """A figure of an answer, where it was written, and the real folder that was then."""

    path: str
    folder: str
    content: str  # as Base64

    @classmethod
    def of(cls, path: Path) -> "_KeptFigure":
        content = base64.b64encode(path.read_bytes()).decode()
        return cls(str(path), os.path.realpath(path.parent), content)

    def put_in_place(self) -> bool:
        """Write it again if something else is there; return False if its folder leads elsewhere now."""
        path, content = Path(self.path), base64.b64decode(self.content, validate=True)
        if os.path.realpath(path.parent) != self.folder:
            return False
        if not path.is_file() or path.read_bytes() != content:
            replace_file(path, content)
        return True


def kept_answer(
    command: str, asked: object, paths: Sequence[Path], *, wanted: bool = True
) -> KeptAnswer:
    """Return where the answer to a question about these files and folders is kept.

    Parameters
    ----------
    command, asked
        The command and its options.
    paths
        Files and folders the answer is found from. Of a folder, all files directly in it count. What is
        neither, such as a pipe, can hold something else each time: its answer is not kept.
    wanted
        False for a question that does more than print: it writes other files, or asks for work.
    """
    folder = _folder()
    if folder is None or not wanted or not all(one.is_file() or one.is_dir() for one in paths):
        return KeptAnswer(None)
    try:
        said = [
            command, repr(asked), str(Path.cwd()), sys.version, time.tzname, sys.stdout.isatty(),
            shutil.get_terminal_size(), [os.path.realpath(path) for path in paths],
            [_marks(path) for path in paths], _program(),
        ]  # fmt: skip
    except OSError:
        return KeptAnswer(None)
    key = hashlib.sha256(json.dumps(said).encode()).hexdigest()
    return KeptAnswer(folder / f"{key}.json")


def study_paths(study: Path) -> list[Path]:
    """Return the folders that the answers of a study are found from."""
    runs = study / "runs"
    return [study, *(sorted(runs.iterdir()) if runs.is_dir() else ())]


def _folder() -> Path | None:
    """Return the folder of kept answers.

    None if the user keeps none, or if the folder belongs to somebody else.
    """
    chosen = os.environ.get("GELASSEN_CACHE")
    if chosen == "":
        return None
    try:
        base = Path(chosen or os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")
    except RuntimeError:  # nobody knows where this user is at home
        return None
    folder = base / "gelassen" / "answers"
    try:
        owner = folder.stat().st_uid
    except OSError:
        return folder  # not there yet
    return folder if not hasattr(os, "getuid") or owner == os.getuid() else None


def _marks(path: Path) -> list[list[object]]:
    """Return name, size and time of a file, or of all files directly in a folder that nobody hid."""
    if not path.is_dir():
        return [[path.name, *_marked(path)]]
    with os.scandir(path) as entries:
        files = [one for one in entries if not one.name.startswith(".") and one.is_file()]
        return [
            [one.name, *_marked(Path(one.path))] for one in sorted(files, key=lambda one: one.name)
        ]


def _marked(path: Path) -> list[int]:
    """Return size and time of a file; nothing if it is not there."""
    try:
        found = path.stat()
    except OSError:
        return []
    return [found.st_size, found.st_mtime_ns]


def _program() -> list[list[object]]:
    """Return the marks of this program, and of the libraries that it finds answers with."""
    package = Path(__file__).parents[2]
    paths = list(package.rglob("*.py"))
    for name in _LIBRARIES:
        found = importlib.util.find_spec(name)
        if found is not None and found.origin is not None:
            paths.append(Path(found.origin))
    return [[str(path), *_marked(path)] for path in sorted(paths)]


def _drop_oldest(folder: Path) -> None:
    kept = sorted(folder.glob("*.json"), key=lambda path: path.stat().st_mtime_ns)
    for path in kept[:-_MOST_KEPT]:
        path.unlink(missing_ok=True)
