"""Runs on disk: written so that a crash loses nothing, read as far as they go.

While a run is recorded its folder holds `run.json` (what was set up), `samples.csv` (one line a
sample, flushed each time) and `journal.jsonl` (phases and events as they happen). Finishing folds
the journal into `run.json` and turns the samples into `samples.parquet`, which is read back and
compared before the CSV goes.
"""

import csv
import json
import math
import os
import re
import time
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from pathlib import Path
from typing import Any, TextIO

import pandas as pd

from gelassen.core.channels import slug
from gelassen.core.errors import FileError
from gelassen.core.recording import Event, Origin, Phase, Recording
from gelassen.study.runfile import RUN_FORMAT, EventEntry, PhaseEntry, RunFile, read_run_file

SAMPLES_CSV, SAMPLES_PARQUET = "samples.csv", "samples.parquet"
RUN_JSON, JOURNAL = "run.json", "journal.jsonl"
_SYNC_S = 5.0  # the kernel keeps flushed lines over a crash of ours, but not over a power cut


def new_run_folder(runs: Path, label: str) -> Path:
    """Make and return the next numbered folder in `runs`, such as `007-brise-120`."""
    runs.mkdir(parents=True, exist_ok=True)
    for _ in range(100):
        numbers = [int(m[1]) for p in runs.iterdir() if (m := re.match(r"(\d+)-", p.name))]
        name = slug(label).replace("_", "-")[:60]
        folder = runs / f"{max(numbers, default=0) + 1:03d}-{name}"
        try:
            folder.mkdir()
        except FileExistsError:  # another recording took the number in the same moment
            continue
        return folder
    raise FileError(f"{runs}: no free run number found")


@dataclass(slots=True)
class RunWriter:
    """Writes one run, sample by sample."""

    folder: Path
    columns: tuple[str, ...]
    _run: RunFile
    _samples: TextIO
    _journal: TextIO
    _writer: Any
    _synced_s: float = -math.inf

    @classmethod
    def create(cls, folder: Path, columns: Sequence[str], run: RunFile) -> "RunWriter":
        """Start a run in an empty folder."""
        if (folder / RUN_JSON).exists():
            raise FileError(
                f"{folder} already holds a run; nothing was written. Choose another folder"
            )
        _write_json(folder / RUN_JSON, run.model_dump(mode="json"))
        samples = (folder / SAMPLES_CSV).open("w", newline="", encoding="utf-8")
        journal = (folder / JOURNAL).open("w", encoding="utf-8")
        writer = csv.writer(samples, lineterminator="\n")
        writer.writerow(("t_s", *columns))
        samples.flush()
        return cls(folder, tuple(columns), run, samples, journal, writer)

    def sample(self, t_s: float, values: Mapping[str, float]) -> None:
        """Store one sample; it is with the kernel before this returns."""
        row: list[str | float] = [f"{t_s:.3f}"]
        for column in self.columns:
            value = values.get(column, math.nan)
            row.append("" if math.isnan(value) else value)
        self._writer.writerow(row)
        self._samples.flush()
        # By the real clock: in virtual time nothing is lost that could not be computed again.
        now_s = time.monotonic()
        if now_s - self._synced_s >= _SYNC_S:
            os.fsync(self._samples.fileno())
            self._synced_s = now_s

    def phase(self, name: str, start_s: float) -> None:
        """Note that a phase begins."""
        self._note({"phase": name, "at_s": start_s})

    def phase_ended(self, name: str, end_s: float, ended_by: str) -> None:
        """Note that a phase ended, and what ended it."""
        self._note({"phase_ended": name, "at_s": end_s, "by": ended_by})

    def event(self, at_s: float, text: str) -> None:
        """Note something that happened."""
        self._note({"event": text, "at_s": at_s})

    def _note(self, entry: dict[str, Any]) -> None:
        self._journal.write(json.dumps(entry, ensure_ascii=False) + "\n")
        self._journal.flush()

    def close(self) -> None:
        """Close the files and leave the run unfinished; it opens as one that ended without notice."""
        for stream in (self._samples, self._journal):
            if not stream.closed:
                stream.flush()
                os.fsync(stream.fileno())
                stream.close()

    def finish(self, outcome: str, cautions: Sequence[str] = ()) -> None:
        """End the run: samples become Parquet, the journal becomes part of `run.json`."""
        self.close()
        frame, _ = _read_csv(self.folder / SAMPLES_CSV)
        _write_verified_parquet(frame, self.folder / SAMPLES_PARQUET, self._run)
        phases, events, _ = _read_journal(self.folder / JOURNAL)
        end_s = float(frame.index[-1]) if len(frame) else 0.0
        finished = self._run.model_copy(
            update={
                "outcome": outcome,
                "phases": [PhaseEntry(**asdict(phase)) for phase in _closed(phases, end_s)],
                "events": [EventEntry(**asdict(event)) for event in events],
                "cautions": [*self._run.cautions, *cautions],
            }
        )
        _write_json(self.folder / RUN_JSON, finished.model_dump(mode="json"))
        (self.folder / SAMPLES_CSV).unlink()
        (self.folder / JOURNAL).unlink()


def store_recording(folder: Path, recording: Recording, run: RunFile) -> None:
    """Store a whole recording at once, such as an imported log."""
    _write_verified_parquet(recording.frame, folder / SAMPLES_PARQUET, run)
    _write_json(folder / RUN_JSON, run.model_dump(mode="json"))


def read_run(folder: Path) -> Recording:
    """Open a run as far as it goes; what is missing or torn becomes a caution.

    Raises
    ------
    FileError
        The folder holds no run, or neither samples nor a readable `run.json`.
    """
    folder = Path(folder)
    if not folder.is_dir():
        raise FileError(f"{folder}: there is no such run folder")
    cautions: list[str] = []
    run: RunFile | None = None
    if (folder / RUN_JSON).exists():
        try:
            run = read_run_file(folder / RUN_JSON)
        except FileError as error:
            cautions.append(f"{error}. The samples are shown without it")
    else:
        cautions.append(f"{RUN_JSON} is missing: setup, phases and limits are unknown")
    frame, torn = _read_samples(folder)
    cautions += torn
    if frame is None:
        if run is None:
            raise FileError(
                f"{folder} holds no run: neither {RUN_JSON} nor {SAMPLES_PARQUET} nor {SAMPLES_CSV} "
                "can be read. A study keeps its runs in runs/"
            )
        frame = pd.DataFrame(index=pd.Index([], name="t_s", dtype=float))
        cautions.append("the samples are missing: only what was set up is known")
    if run is None:
        run = RunFile(outcome="unknown")
    return _recording(folder, frame, run, cautions)


def _recording(folder: Path, frame: pd.DataFrame, run: RunFile, cautions: list[str]) -> Recording:
    phases = tuple(Phase(**phase.model_dump()) for phase in run.phases)
    events = tuple(Event(**event.model_dump()) for event in run.events)
    outcome = run.outcome
    if (folder / JOURNAL).exists():
        open_phases, open_events, torn = _read_journal(folder / JOURNAL)
        end_s = float(frame.index[-1]) if len(frame) else 0.0
        phases = phases or tuple(_closed(open_phases, end_s))
        events = events or tuple(open_events)
        cautions += torn
    if outcome == "recording":
        end_s = float(frame.index[-1]) if len(frame) else 0.0
        outcome = "ended without notice"
        cautions.append(
            f"the recording ended without notice after {end_s:.0f} s (or still goes on); "
            "everything up to its last sample is here"
        )
    origins = {name: Origin(o.header, o.conversion) for name, o in run.channels.items()}
    return Recording(
        frame=frame,
        started=datetime.fromisoformat(run.started) if run.started else None,
        channels={name: origins.get(name, Origin(name)) for name in frame.columns},
        cautions=(*run.cautions, *cautions),
        phases=phases,
        events=events,
        name=folder.name,
        setup=run.setup,
        limit_c=run.limit_c,
        power_limit_w=run.power_limit_w,
        reference=run.reference,
        outcome=outcome,
        made_up=run.made_up,
    )


def _closed(phases: Sequence[Phase], end_s: float) -> list[Phase]:
    """End phases that were never ended where the samples end."""
    return [
        phase
        if math.isfinite(phase.end_s)
        else Phase(phase.name, phase.start_s, max(end_s, phase.start_s), phase.ended_by)
        for phase in phases
    ]


def _read_journal(path: Path) -> tuple[list[Phase], list[Event], list[str]]:
    phases: list[Phase] = []
    events: list[Event] = []
    cautions = []
    for number, line in enumerate(path.read_text(encoding="utf-8").splitlines(), start=1):
        try:
            entry = json.loads(line)
            at_s = float(entry["at_s"])
        except (ValueError, KeyError, TypeError):
            cautions.append(f"{path.name}, line {number} is torn: left out")
            continue
        if "phase" in entry:
            phases.append(Phase(str(entry["phase"]), at_s, math.nan))
        elif "phase_ended" in entry and phases:
            last = phases[-1]
            phases[-1] = Phase(last.name, last.start_s, at_s, str(entry.get("by", "")))
        elif "event" in entry:
            events.append(Event(at_s, str(entry["event"])))
    return phases, events, cautions


def _read_samples(folder: Path) -> tuple[pd.DataFrame | None, list[str]]:
    """Read the samples from whichever file has them; the Parquet file only exists when verified."""
    cautions: list[str] = []
    if (folder / SAMPLES_PARQUET).exists():
        try:
            frame = pd.read_parquet(folder / SAMPLES_PARQUET)
            return frame, cautions
        except (OSError, ValueError) as error:
            cautions.append(f"{SAMPLES_PARQUET} cannot be read ({type(error).__name__})")
    if (folder / SAMPLES_CSV).exists():
        frame, torn = _read_csv(folder / SAMPLES_CSV)
        return frame, [*cautions, *torn]
    return None, cautions


def _read_csv(path: Path) -> tuple[pd.DataFrame, list[str]]:
    """Read our own CSV; a torn last line is left out and said."""
    data = path.read_bytes()
    cautions = []
    end = data.rfind(b"\n") + 1
    if end < len(data):
        cautions.append(f"the last line of {path.name} is torn: left out")
    rows = list(csv.reader(data[:end].decode("utf-8", errors="replace").splitlines()))
    if not rows or rows[0][:1] != ["t_s"]:
        raise FileError(
            f'{path}, line 1: the header must begin with "t_s". Is this a run of Gelassen?'
        )
    good: list[list[float]] = []
    for number, row in enumerate(rows[1:], start=2):
        try:
            if len(row) != len(rows[0]):
                raise ValueError
            good.append([float(cell) if cell else math.nan for cell in row])
        except ValueError:
            cautions.append(f"{path.name}, line {number} cannot be read: left out")
    frame = pd.DataFrame(good, columns=rows[0], dtype=float).set_index("t_s")
    return frame, cautions


def _write_verified_parquet(frame: pd.DataFrame, path: Path, run: RunFile) -> None:
    """Write next to the target, read back, compare, and only then give it its name."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    draft = path.with_suffix(".parquet.part")
    table = pa.Table.from_pandas(frame)
    metadata = {
        **(table.schema.metadata or {}),
        b"gelassen.format": str(RUN_FORMAT).encode(),
        b"gelassen.made_up": str(run.made_up).lower().encode(),
        b"gelassen.channels": json.dumps(
            {name: origin.model_dump() for name, origin in run.channels.items()}
        ).encode(),
    }
    pq.write_table(table.replace_schema_metadata(metadata), draft)
    if not pd.read_parquet(draft).equals(frame):
        raise FileError(f"{draft}: what was written does not read back alike; the CSV is kept")
    with draft.open("rb") as stream:
        os.fsync(stream.fileno())
    draft.replace(path)


def _write_json(path: Path, content: Mapping[str, Any]) -> None:
    """Replace a file as a whole, so that a crash leaves the old one or the new one."""
    draft = path.with_suffix(".json.part")
    with draft.open("w", encoding="utf-8") as stream:
        json.dump(content, stream, indent=2, ensure_ascii=False)
        stream.write("\n")
        stream.flush()
        os.fsync(stream.fileno())
    draft.replace(path)
