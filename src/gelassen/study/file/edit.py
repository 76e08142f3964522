"""Changes to a study file that leave everything else in it as people wrote it."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomlkit

from gelassen.study.file.reader import read_study_file
from gelassen.study.file.study_file import STUDY_FILE
from gelassen.system.files import read_text, replace_file


def store_offsets(study: Path, offsets: Mapping[str, tuple[float, float]]) -> None:
    """Write offsets and their standard errors into the channels of a study file.

    Raises
    ------
    FileError
        The folder is not a study, or its file is wrong; nothing is changed then.
    """
    path = study / STUDY_FILE
    read_study_file(path)
    document: Any = tomlkit.parse(read_text(path))
    channels = document.setdefault("channels", tomlkit.table(is_super_table=True))
    for name, (offset, standard_error) in offsets.items():
        channel = channels.setdefault(name, tomlkit.table())
        channel["offset"] = round(offset, 3)
        channel["offset_se"] = round(standard_error, 3)
    replace_file(path, tomlkit.dumps(document), check=read_study_file)
