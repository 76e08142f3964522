"""An imported log becomes a run of a study, with the originals kept beside it."""

import contextlib
import hashlib
import os
import shutil
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from gelassen.core.foundation.errors import FileError
from gelassen.core.recording.recording import Recording
from gelassen.study.disk.archive import store_recording
from gelassen.study.disk.run_file import (
    CautionEntry,
    EventEntry,
    OriginEntry,
    PhaseEntry,
    RunFile,
    StatedRoom,
    read_run_file,
    versions,
)
from gelassen.study.disk.writer import RUN_JSON, new_run_folder
from gelassen.study.file.new_study import ensure_setup

_PIECE = 1 << 20


def store_import(
    recording: Recording,
    original: Path | Sequence[Path],
    study: Path,
    *,
    setup: str,
    limit_c: float | None = None,
    new_setup: bool = False,
    made_up: bool = False,
    mount: str | None = None,
    beside: Path | None = None,
) -> Path:
    """Store an imported log as a run of `study` and return its folder.

    A folder that does not exist becomes a new study. A setup the study does not know is refused
    unless `new_setup` is true. `original` is the log, or all logs that were merged;
    `beside` is a run that holds the same ones: they are not stored twice where the disk can share them.
    """
    originals = [original] if isinstance(original, Path) else list(original)
    for path in originals:
        if not path.is_file():
            raise FileError(f"{path} is a folder; import takes log files")
    ensure_setup(study, setup, limit_c=limit_c, new_setup=new_setup, made_up=made_up)
    folder = new_run_folder(study / "runs", f"{setup}-{originals[0].stem}")
    try:
        _fill(folder, originals, recording, setup, limit_c, made_up, mount, beside)
    except BaseException as error:
        shutil.rmtree(folder, ignore_errors=True)  # a partial run is worse than no run
        if isinstance(error, OSError):
            raise FileError(
                f"{folder} could not be written ({error.strerror or error}); nothing of it was kept"
            ) from None
        raise
    return folder


def stored_before(study: Path, originals: Sequence[Path]) -> str | None:
    """Return the run of a study that holds the first of these logs already, by its content."""
    if not (study / "runs").is_dir():
        return None
    size, wanted = originals[0].stat().st_size, ""
    for folder in sorted((study / "runs").iterdir()):
        with contextlib.suppress(FileError):
            source = read_run_file(folder / RUN_JSON).source
            kept = folder / str(source.get("kept_as"))
            if "sha256" not in source or (kept.is_file() and kept.stat().st_size != size):
                continue
            wanted = wanted or _digest(originals[0])
            if source["sha256"] == wanted:
                return folder.name
    return None


def _fill(
    folder: Path,
    originals: Sequence[Path],
    recording: Recording,
    setup: str,
    limit_c: float | None,
    made_up: bool,
    mount: str | None,
    beside: Path | None,
) -> None:
    def keep() -> dict[str, Any]:
        several = len(originals) > 1
        kept = [
            _keep(path, folder, k * several, beside) for k, path in enumerate(originals, start=1)
        ]
        return {**kept[0], **({"merged_with": kept[1:]} if several else {})}

    run = RunFile(
        outcome="imported",
        started=recording.started.isoformat() if recording.started else None,
        setup=setup,
        limit_c=limit_c,
        made_up=made_up,
        mount=mount,
        load=recording.load,
        room=None
        if recording.stated_room is None
        else StatedRoom(temp_c=recording.stated_room[0], standard_error_k=recording.stated_room[1]),
        channels={
            name: OriginEntry(header=origin.header, conversion=origin.conversion)
            for name, origin in recording.channels.items()
        },
        phases=[PhaseEntry(**asdict(p)) for p in recording.phases],
        events=[EventEntry(at_s=event.at_s, text=event.text) for event in recording.events],
        cautions=[CautionEntry.of(one) for one in recording.cautions],
        versions=versions(),
    )
    store_recording(folder, recording, run, source=keep)


def _keep(path: Path, folder: Path, number: int, beside: Path | None) -> dict[str, Any]:
    """Copy an original beside the run, and return its name and the hash of what was copied."""
    kept = folder / f"original{f'-{number}' if number else ''}{path.suffix.lower()}"
    if beside is not None:
        with contextlib.suppress(OSError):
            os.link(beside / kept.name, kept)
            return {"file": path.name, "kept_as": kept.name, "sha256": _digest(kept)}
    digest = hashlib.sha256()
    with path.open("rb") as source, kept.open("wb") as copy:
        while piece := source.read(_PIECE):
            digest.update(piece)
            copy.write(piece)
    return {"file": path.name, "kept_as": kept.name, "sha256": digest.hexdigest()}


def _digest(path: Path) -> str:
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()
