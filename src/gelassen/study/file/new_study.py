"""A study that begins with its first run, and gains a setup on request."""

from pathlib import Path

from gelassen.core.foundation.errors import FileError, InputError
from gelassen.study.file.reader import read_study_file
from gelassen.study.file.study_file import STUDY_FILE, check_setup_name
from gelassen.study.file.template import Answers, study_text


def check_setup(
    study: Path, setup: str, *, limit_c: float | None = None, new_setup: bool = False
) -> bool:
    """Return whether the study knows the setup; raise as `ensure_setup` would. Writes nothing."""
    path = study / STUDY_FILE
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
) -> None:
    """Make sure that the study exists and knows the setup.

    A folder that does not exist, or is empty, becomes a study. A setup that an existing study does
    not know is refused unless `new_setup` is true, as it may be a typing error.

    Raises
    ------
    FileError
        The folder is something else, or its study file is wrong.
    InputError
        An unknown setup, or a new study without the limit temperature.
    """
    if check_setup(study, setup, limit_c=limit_c, new_setup=new_setup):
        return
    path = study / STUDY_FILE
    section = f'\n[setups."{_quoted(setup)}"]\n'
    if path.exists():
        with path.open("a", encoding="utf-8") as stream:
            stream.write(section)
        return
    study.mkdir(parents=True, exist_ok=True)
    path.write_text(
        "format = 1\n"
        f'title = "{_quoted(study.resolve().name)}"\n'
        f"made_up = {str(made_up).lower()}\n\n"
        "[machine]\n"
        'name = "the machine under test"\n'
        f"limit_c = {limit_c:g}\n" + section,
        encoding="utf-8",
    )


def write_study(folder: Path, answers: Answers) -> Path:
    """Write the study file of a new study. Its content is checked first.

    Raises
    ------
    FileError
        Answers that contradict each other, or a folder that cannot be written.
    """
    draft = folder / f".{STUDY_FILE}.part"
    path = folder / STUDY_FILE
    try:
        folder.mkdir(parents=True, exist_ok=True)
        draft.write_text(study_text(answers), encoding="utf-8")
    except OSError as error:
        raise FileError(
            f"{folder}: no study can be written there ({error.strerror or error})"
        ) from None
    try:
        read_study_file(draft)
    except FileError as error:
        draft.unlink()
        if not any(folder.iterdir()):
            folder.rmdir()
        raise FileError(f"nothing was written. {error}".replace(draft.name, STUDY_FILE)) from None
    draft.replace(path)
    return path


def _quoted(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", " ")
