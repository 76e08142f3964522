"""What a made-up study of one way of testing is made of."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from gelassen.core.foundation.errors import FileError
from gelassen.study.file.study_file import STUDY_FILE

HEAD = """\
# Made-up sample data: every part, person and number in this study is invented.
format = 1
title = "{title}"
question = "{question}"
made_up = true
reference = "room.air.temp_c"
{more}
[machine]
name = "Playout box (Corvane 12)"
limit_c = 95
"""


@dataclass(frozen=True, slots=True, kw_only=True)
class Scenario:
    """One way of testing, on the sample scenario.

    Attributes
    ----------
    about
        What it shows, in a few words.
    study
        The text of its `study.toml`.
    fill
        Makes the runs in the folder of the study; the same seed gives the same numbers.
    ask
        The options of each `gelassen compare` that answers it.
    """

    about: str
    study: str
    fill: Callable[[Path, int], None]
    ask: tuple[tuple[str, ...], ...]

    def make(self, folder: Path, *, seed: int = 1) -> Path:
        """Write the study and its runs into a new or empty folder.

        Raises
        ------
        FileError
            The folder is not empty.
        """
        if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
            raise FileError(f"{folder} is not empty; nothing was written. Choose another folder")
        folder.mkdir(parents=True, exist_ok=True)
        (folder / STUDY_FILE).write_text(self.study, encoding="utf-8")
        self.fill(folder, seed)
        return folder


def head(title: str, question: str, more: str = "") -> str:
    """Return the beginning of a study file."""
    return HEAD.format(title=title, question=question, more=more)


def setups(factor: str, *levels: str) -> str:
    """Return a factor with one setup for each level."""
    shown = ", ".join(f'"{level}"' for level in levels)
    tables = [f'[setups."{level}"]\n{factor} = "{level}"\n' for level in levels]
    return f"\n[factors.{factor}]\nlevels = [{shown}]\n\n" + "\n".join(tables)
