"""Changes to a study file that leave everything else in it as people wrote it."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomlkit

from gelassen.study.file.reader import read_study_file
from gelassen.study.file.study_file import STUDY_FILE


def store_offsets(study: Path, offsets: Mapping[str, tuple[float, float]]) -> None:
    """Write offsets and their standard errors into the channels of a study file.

    Raises
    ------
    FileError
        The folder is not a study, or its file is wrong; nothing is changed then.
    """
    path = study / STUDY_FILE
    read_study_file(path)
    document: Any = tomlkit.parse(path.read_text(encoding="utf-8"))
    channels = document.setdefault("channels", tomlkit.table(is_super_table=True))
    for name, (offset, standard_error) in offsets.items():
        channel = channels.setdefault(name, tomlkit.table())
        channel["offset"] = round(offset, 3)
        channel["offset_se"] = round(standard_error, 3)
    draft = path.with_suffix(".toml.part")
    draft.write_text(tomlkit.dumps(document), encoding="utf-8")
    read_study_file(draft)  # never leave a file that cannot be read
    draft.replace(path)
