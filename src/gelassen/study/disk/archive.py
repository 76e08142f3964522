"""Runs on disk, read as far as possible: finished, cut off, or still being recorded."""

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import FileError
from gelassen.core.recording.recording import Event, Origin, Phase, Recording
from gelassen.study.disk.journal import JOURNAL, closed, goes_on, read_journal
from gelassen.study.disk.last_samples import last_words
from gelassen.study.disk.notes import Note, read_notes
from gelassen.study.disk.run_file import RunFile, read_run_file
from gelassen.study.disk.samples import SAMPLES_CSV, SAMPLES_PARQUET, read_samples, write_parquet
from gelassen.study.disk.writer import RUN_JSON, write_json

ROOM = "room.air.temp_c"

if TYPE_CHECKING:
    import pandas as pd


def store_recording(
    folder: Path,
    recording: Recording,
    run: RunFile,
    *,
    source: Callable[[], dict[str, Any]] | None = None,
) -> None:
    """Store a whole recording at once, such as an imported log.

    `source` copies the original file and returns its place, while the samples are written.
    """
    with ThreadPoolExecutor(1) as pool:
        keeping = pool.submit(source) if source is not None else None
        write_parquet(recording.frame, folder / SAMPLES_PARQUET, run)
        if keeping is not None:
            run = run.model_copy(update={"source": keeping.result()})
    write_json(folder / RUN_JSON, run.model_dump(mode="json"))


def read_run(folder: Path) -> Recording:
    """Open a run as far as it can be read. A missing or torn part becomes a caution.

    Raises
    ------
    FileError
        The folder holds no run, or neither samples nor a readable `run.json`.
    """
    import pandas as pd

    folder = Path(folder)
    try:
        if not folder.is_dir():
            raise FileError(f"{folder}: there is no such run folder")
        next(folder.iterdir(), None)
    except OSError as error:
        raise FileError(f"{folder} cannot be read ({error.strerror or error})") from None
    cautions: list[Caution] = []
    run: RunFile | None = None
    if os.path.lexists(folder / RUN_JSON):
        try:
            run = read_run_file(folder / RUN_JSON)
        except FileError as error:
            cautions.append(caution("run_file_unreadable", why=str(error)))
    else:
        cautions.append(caution("run_file_missing", file=RUN_JSON))
    frame, torn = read_samples(folder)
    cautions += torn
    if frame is None:
        if run is None:
            raise FileError(
                f"{folder} holds no run: neither {RUN_JSON} nor {SAMPLES_PARQUET} nor {SAMPLES_CSV} "
                f"can be read. A study keeps its runs in runs/{_why(cautions)}"
            )
        frame = pd.DataFrame(index=pd.Index([], name="t_s", dtype=float))
        entered = run is not None and run.by_hand is not None
        if not entered and not any(one.code == "file_unreadable" for one in cautions):
            cautions.append(caution("samples_missing"))
    if run is None:
        run = RunFile(outcome="unknown")
    return _recording(folder, frame, run, cautions)


def _recording(
    folder: Path, frame: "pd.DataFrame", run: RunFile, cautions: list[Caution]
) -> Recording:
    phases = tuple(Phase(**phase.model_dump()) for phase in run.phases)
    events = tuple(Event(**event.model_dump()) for event in run.events)
    outcome = run.outcome
    end_s = float(frame.index[-1]) if len(frame) else 0.0
    if (folder / JOURNAL).exists():
        open_phases, open_events, torn = _journal(folder)
        phases = phases or tuple(closed(open_phases, end_s))
        events = events or tuple(open_events)
        cautions += torn
    if outcome == "recording":
        if goes_on(folder):
            cautions.append(caution("still_recording", end_s=end_s))
        else:
            outcome = "ended without notice"
            cautions.append(caution("ended_without_notice", how=last_words(frame, run)))
    notes, torn = read_notes(folder)
    cautions += torn
    if run.room is not None and ROOM not in frame:
        notes = [Note(0.0, {ROOM: run.room.temp_c}), *notes]
    origins = {name: Origin(o.header, o.conversion) for name, o in run.channels.items()}
    frame, by_hand, more = _with_readings(frame, notes)
    cautions += more
    origins.update(dict.fromkeys(by_hand, Origin("by hand")))
    noted = [Event(note.at_s, note.text) for note in notes if note.text]
    return Recording(
        frame=frame,
        started=datetime.fromisoformat(run.started) if run.started else None,
        channels={name: origins.get(name, Origin(name)) for name in frame.columns},
        cautions=(*(entry.read() for entry in run.cautions), *cautions),
        phases=phases,
        events=tuple(sorted((*events, *noted), key=lambda event: event.at_s)),
        name=folder.name,
        setup=run.setup,
        limit_c=run.limit_c,
        power_limit_w=run.power_limit_w,
        reference=run.reference,
        outcome=(run.by_hand.ending if run.by_hand else "") or outcome,
        made_up=run.made_up,
        mount=run.mount,
        protocol=run.protocol,
        load=run.load,
        by_hand=_by_hand(run),
        stated_room=None if run.room is None else (run.room.temp_c, run.room.standard_error_k),
        levels=dict(run.levels),
        limits_c={
            name: entry.limit
            for name, entry in run.channels.items()
            if entry.limit is not None and name.endswith(".temp_c")
        },
    )


def _by_hand(run: RunFile) -> dict[str, float]:
    """Return the numbers of a run that was read by hand."""
    if run.by_hand is None:
        return {}
    said = run.by_hand.model_dump(exclude={"note", "ending"})
    return {name: float(value) for name, value in said.items() if value is not None}


def _why(cautions: list[Caution]) -> str:
    said = [str(one) for one in cautions if one.code in ("run_file_unreadable", "file_unreadable")]
    return f" ({'; '.join(said)})" if said else ""


def _journal(folder: Path) -> tuple[list[Phase], list[Event], list[Caution]]:
    try:
        return read_journal(folder / JOURNAL)
    except OSError as error:
        return [], [], [caution("file_unreadable", file=JOURNAL, why=error.strerror or str(error))]


def _with_readings(
    frame: "pd.DataFrame", notes: Sequence[Note]
) -> tuple["pd.DataFrame", list[str], list[Caution]]:
    """Put readings taken by hand beside the sample nearest in time.

    Return the table, the channels read by hand, and cautions.
    """
    import numpy as np

    channels = sorted({name for note in notes for name in note.readings})
    taken = [name for name in channels if name in frame.columns]
    channels = [name for name in channels if name not in taken]
    cautions = [caution("noted_and_recorded", channel=name) for name in taken]
    if not channels or frame.empty:
        return frame, [], cautions
    times = frame.index.to_numpy()
    columns = {name: np.full(len(times), np.nan) for name in channels}
    for note in notes:
        nearest = int(np.argmin(np.abs(times - note.at_s)))
        for name, value in note.readings.items():
            if name in columns:
                columns[name][nearest] = value
    return frame.assign(**columns), channels, cautions
