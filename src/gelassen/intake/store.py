"""An imported log becomes a run of a study, with the original kept beside it."""

import hashlib
import shutil
from pathlib import Path

from gelassen.core.errors import FileError, InputError
from gelassen.core.recording import Recording
from gelassen.core.spelling import nearest
from gelassen.study.archive import new_run_folder, store_recording
from gelassen.study.runfile import OriginEntry, RunFile, versions
from gelassen.study.studyfile import STUDY_FILE, read_study_file


def store_import(
    recording: Recording,
    original: Path,
    study: Path,
    *,
    setup: str,
    limit_c: float | None = None,
    new_setup: bool = False,
    made_up: bool = False,
) -> Path:
    """Store an imported log as a run of `study` and return its folder.

    A folder that does not exist becomes a new study. A setup the study does not know is refused
    unless `new_setup` says that it is meant.
    """
    _prepare_study(study, setup, limit_c, new_setup, made_up)
    folder = new_run_folder(study / "runs", f"{setup}-{original.stem}")
    kept = folder / f"original{original.suffix.lower()}"
    shutil.copyfile(original, kept)
    run = RunFile(
        outcome="imported",
        setup=setup,
        limit_c=limit_c,
        made_up=made_up,
        channels={
            name: OriginEntry(header=origin.header, conversion=origin.conversion)
            for name, origin in recording.channels.items()
        },
        cautions=list(recording.cautions),
        source={
            "file": original.name,
            "kept_as": kept.name,
            "sha256": hashlib.sha256(kept.read_bytes()).hexdigest(),
        },
        versions=versions(),
    )
    store_recording(folder, recording, run)
    return folder


def _prepare_study(
    study: Path, setup: str, limit_c: float | None, new_setup: bool, made_up: bool
) -> None:
    path = study / STUDY_FILE
    section = f'\n[setups."{_quoted(setup)}"]\n'
    if not path.exists():
        if study.exists() and (not study.is_dir() or any(study.iterdir())):
            raise FileError(
                f"{study} is no study and is not empty; nothing was written. Choose a new folder"
            )
        if limit_c is None:
            raise InputError(
                f"{study} is a new study: say the limit temperature of the machine, --limit 95"
            )
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
        return
    content = read_study_file(path)
    if setup in content.setups:
        return
    if not new_setup:
        raise InputError(
            f'"{setup}" is no setup of this study ({", ".join(content.setups) or "none"}).'
            + nearest(setup, content.setups)
            + " If it is a new one, add --new-setup"
        )
    with path.open("a", encoding="utf-8") as stream:
        stream.write(section)


def _quoted(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", " ")
