"""A study that begins with its first run, and gains a setup on request."""

import re
from collections.abc import Mapping
from importlib import resources
from pathlib import Path
from typing import Any

import tomlkit

from gelassen.core.foundation.errors import FileError, InputError
from gelassen.core.foundation.printable import check_new_name, printable
from gelassen.study.file.reader import read_study_file
from gelassen.study.file.study_file import STUDY_FILE, check_setup_name
from gelassen.study.file.template import SCHEMA_FILE, Answers, study_text
from gelassen.system.files import read_text, replace_file


def check_limit(limit_c: float | None, room_c: float | None, where: str = "") -> None:
    """Refuse a limit that lies below the room: no part could ever be below it."""
    if limit_c is not None and room_c is not None and limit_c <= room_c:
        at = f"{where}: " if where else ""
        raise InputError(f"{at}a limit of {limit_c:g} °C lies below the room ({room_c:.1f} °C)")


def setup_of(study: Path, levels: Mapping[str, str | float]) -> str | None:
    """Return the setup of a study that has these levels; None if there is none, or no study yet."""
    path = study / STUDY_FILE
    known = read_study_file(path).setups if path.exists() else {}
    return next((name for name, its in known.items() if its and dict(its) == dict(levels)), None)


def check_setup(
    study: Path, setup: str, *, limit_c: float | None = None, new_setup: bool = False
) -> bool:
    """Return whether the study knows the setup; raise as `ensure_setup` would. Writes nothing."""
    path = study / STUDY_FILE
    check_new_name("setup", setup)
    if not path.exists():
        if study.exists() and (not study.is_dir() or any(study.iterdir())):
            raise FileError(
                f"{study} is not a study and is not empty; nothing was written. Choose a new folder"
            )
        if limit_c is None:
            raise InputError(
                f"{study} is a new study: say the limit temperature of the machine, --limit 95"
            )
        return False
    content = read_study_file(path)
    if setup not in content.setups and not new_setup:
        check_setup_name(content, setup, or_else=" If it is a new one, add --new-setup")
    return setup in content.setups


def ensure_setup(
    study: Path,
    setup: str,
    *,
    limit_c: float | None = None,
    new_setup: bool = False,
    made_up: bool = False,
    levels: Mapping[str, str | float] | None = None,
    details: Mapping[str, Mapping[str, Mapping[str, str | float]]] | None = None,
) -> None:
    """Make sure that the study exists and knows the setup.

    A folder that does not exist, or is empty, becomes a study. A setup that an existing study does
    not know is refused unless `new_setup` is true, as it may be a typing error. A new setup gets these
    levels; factors and levels that the study does not know are added, as changed by hand. `details` is
    factor to level to what else is known of it.

    Raises
    ------
    FileError
        The folder is something else, or its study file is wrong.
    InputError
        An unknown setup, or a new study without the limit temperature.
    """
    if check_setup(study, setup, limit_c=limit_c, new_setup=new_setup):
        return
    check_new_name("setup", setup)
    path = study / STUDY_FILE
    document: Any
    if path.exists():
        document = tomlkit.parse(read_text(path))
    else:
        study.mkdir(parents=True, exist_ok=True)
        document = tomlkit.document()
        document["format"] = 1
        document["title"] = printable(study.resolve().name)
        document["made_up"] = made_up
        document["machine"] = {"name": "the machine under test", "limit_c": limit_c}
    for factor, level in (levels or {}).items():
        known = document.setdefault("factors", tomlkit.table(is_super_table=True))
        if factor not in known:
            known[factor] = {"levels": [], "changed_by": "hand"}
        if level not in known[factor]["levels"]:
            known[factor]["levels"].append(level)
            said = (details or {}).get(factor, {}).get(str(level))
            if said:
                known[factor].setdefault("details", tomlkit.table())[str(level)] = dict(said)
    document.setdefault("setups", tomlkit.table(is_super_table=True))[setup] = dict(levels or {})
    replace_file(path, tomlkit.dumps(document), check=read_study_file)


def write_study(folder: Path, answers: Answers) -> Path:
    """Write the study file of a new study. Its content is checked first.

    Raises
    ------
    FileError
        Answers that contradict each other, or a folder that cannot be written.
    """
    path = folder / STUDY_FILE
    made = not folder.exists()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        replace_file(path, study_text(answers), check=read_study_file)
    except OSError as error:
        raise FileError(
            f"{folder}: no study can be written there ({error.strerror or error})"
        ) from None
    except FileError as error:
        if made:
            folder.rmdir()
        words = re.sub(rf"\.{STUDY_FILE}\.\w+\.part", STUDY_FILE, str(error))
        raise FileError(f"nothing was written. {words}") from None
    schema = resources.files("gelassen.study") / "schemas/study.schema.json"
    replace_file(folder / SCHEMA_FILE, schema.read_text(encoding="utf-8"))
    return path
