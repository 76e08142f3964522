"""Reads `study.toml`, and explains what is wrong with it: file, line, key, what is allowed."""

import tomllib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from gelassen.core.foundation.errors import FileError
from gelassen.core.foundation.spelling import nearest
from gelassen.core.recording.recording import PHASES
from gelassen.study.file.checks import check_factors, check_setups
from gelassen.study.file.combinations import combined
from gelassen.study.file.fan_tables import CurveTable, FanTable
from gelassen.study.file.gate import Gate
from gelassen.study.file.study_file import (
    STUDY_FILE,
    ChannelTable,
    Climb,
    Doubt,
    Factor,
    Guard,
    LoadTable,
    Machine,
    Protocol,
    StudyFile,
)
from gelassen.study.file.toml_place import line_of
from gelassen.study.file.workload import Workload
from gelassen.system.files import read_text


def read_study_file(path: Path) -> StudyFile:
    """Read and check a study file.

    Raises
    ------
    FileError
        Naming file, line and key, what was found, what is allowed and the nearest spelling.
    """
    try:
        text = read_text(path)
    except FileNotFoundError:
        raise FileError(
            f"{path.parent} is not a study: it has no {STUDY_FILE}. "
            'Make one with "gelassen demo FOLDER" or "gelassen import ... --study FOLDER"'
        ) from None
    except (OSError, UnicodeDecodeError) as error:
        raise FileError(f"{path} cannot be read: {error}") from None
    try:
        content = tomllib.loads(text)
    except RecursionError:
        raise FileError(f"{path}: its tables or lists are nested too deeply") from None
    except tomllib.TOMLDecodeError as error:
        raise FileError(f"{path}: {error}. Strings need quotes, sections square brackets") from None
    try:
        study = StudyFile.model_validate(content)
    except ValidationError as error:
        raise FileError(_explained(path, text, content, error)) from None
    check_factors(path, text, study)
    study = study.model_copy(
        update={"setups": combined(study.combine, study.factors, study.setups, study.baseline)}
    )
    check_setups(path, text, study)
    return study


def _explained(path: Path, text: str, content: Any, error: ValidationError) -> str:
    lines, same_value = [], ""  # a value that may be one of two kinds has a problem with each
    for problem in error.errors()[:5]:
        loc = _loc_in(content, problem["loc"])
        key = ".".join(loc)
        where = f"{path.name}, line {line_of(text, loc)}, {key}"
        found = f"found {problem['input']!r:.60}"
        if problem["type"] == "extra_forbidden":
            allowed = _allowed_keys(loc[:-1])
            hint = nearest(loc[-1], allowed)
            lines.append(f'{where}: unknown key "{loc[-1]}". Allowed: {", ".join(allowed)}.{hint}')
        elif problem["type"] == "missing":
            lines.append(f"{path.name}, {key}: this key is missing and must be given")
        else:
            message = problem["msg"].removeprefix("Value error, ")
            message = message[:1].lower() + message[1:]
            if lines and key == same_value:
                lines[-1] = f"{lines[-1].removesuffix(f' ({found})')}; or else {message} ({found})"
            else:
                lines.append(f"{where}: {message} ({found})")
            same_value = key
    return "\n".join(lines)


def _loc_in(content: Any, loc: Sequence[int | str]) -> list[str]:
    """Return the keys and places of a problem, without the kinds of value that were tried there."""
    known: list[str] = []
    for number, part in enumerate(loc):
        if part == "[key]":
            continue
        if isinstance(content, dict) and (part in content or number == len(loc) - 1):
            content = content.get(part)
        elif isinstance(content, list) and isinstance(part, int):
            content = content[part]
        else:
            continue
        known.append(str(part))
    return known


def _allowed_keys(loc: list[str]) -> list[str]:
    model: Any = StudyFile
    named = {
        "machine": Machine,
        "load": LoadTable,
        "channels": ChannelTable,
        "factors": Factor,
        "protocol": Protocol,
        "protocol.climb": Climb,
        "guard": Guard,
        "doubt": Doubt,
        "workloads": Workload,
        "fans": FanTable,
    }
    if loc:
        model = named.get(".".join(loc[:2])) or named.get(loc[0], StudyFile)
        if len(loc) == 2 and loc[0] == "protocol" and loc[1] in PHASES:
            model = Gate
        elif len(loc) == 4 and (loc[0], loc[2]) == ("factors", "curves"):
            model = CurveTable
    return [field.alias or name for name, field in model.model_fields.items()]


def read_study_folder(path: Path) -> tuple[Path, StudyFile]:
    """Return the folder of a study, which may be named by its `study.toml`, and what that says.

    Raises
    ------
    FileError
        There is no such folder, or its `study.toml` cannot be read.
    """
    try:
        folder = path.parent if path.is_file() and path.name == STUDY_FILE else path
        if not folder.is_dir():
            raise FileError(f"{folder}: there is no such folder")
    except OSError as error:
        raise FileError(f"{path} cannot be read ({error.strerror or error})") from None
    return folder, read_study_file(folder / STUDY_FILE)
