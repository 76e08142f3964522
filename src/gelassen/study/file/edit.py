"""Changes to a study file that leave everything else in it as people wrote it."""

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import tomlkit

from gelassen.study.file.reader import read_study_file
from gelassen.study.file.study_file import STUDY_FILE
from gelassen.system.files import read_text, replace_file


def store_sweeps(study: Path, tables: Sequence[Mapping[str, Any]]) -> None:
    """Write what sweeps of fans showed into a study file; older sweeps of the same duty are replaced.

    Raises
    ------
    FileError
        The folder is not a study, or its file is wrong; nothing is changed then.
    """
    path, document = _opened(study)
    swept = {(table["channel"], table["fan"]) for table in tables}
    kept = [
        one for one in document.get("fans", []) if (one.get("channel"), one.get("fan")) not in swept
    ]
    fans = tomlkit.aot()
    for table in [*kept, *tables]:
        entry = tomlkit.table()
        entry.update(table)
        fans.append(entry)
    document["fans"] = fans
    replace_file(path, tomlkit.dumps(document), check=read_study_file)


def store_offsets(study: Path, offsets: Mapping[str, tuple[float, float]]) -> None:
    """Write offsets and their standard errors into the channels of a study file.

    Raises
    ------
    FileError
        The folder is not a study, or its file is wrong; nothing is changed then.
    """
    path, document = _opened(study)
    channels = document.setdefault("channels", tomlkit.table(is_super_table=True))
    for name, (offset, standard_error) in offsets.items():
        channel = channels.setdefault(name, tomlkit.table())
        channel["offset"] = round(offset, 3)
        channel["offset_se"] = round(standard_error, 3)
    replace_file(path, tomlkit.dumps(document), check=read_study_file)


def _opened(study: Path) -> tuple[Path, Any]:
    """Return the path of a study file that is right, and its content to be edited."""
    path = study / STUDY_FILE
    read_study_file(path)
    return path, tomlkit.parse(read_text(path))
