"""An imported log becomes a run of a study, with the original kept beside it."""

import hashlib
import shutil
from pathlib import Path

from gelassen.core.errors import FileError
from gelassen.core.recording import Recording
from gelassen.study.archive import store_recording
from gelassen.study.newstudy import ensure_setup
from gelassen.study.runfile import OriginEntry, RunFile, versions
from gelassen.study.writer import new_run_folder


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
    if not original.is_file():
        raise FileError(f"{original} is a folder; import takes log files")
    ensure_setup(study, setup, limit_c=limit_c, new_setup=new_setup, made_up=made_up)
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
