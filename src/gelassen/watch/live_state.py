"""What the page shows of the newest run below a folder, read from disk while it is recorded."""

import math
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from gelassen.answers import Study, open_study
from gelassen.answers.traces import RunTraces, run_traces
from gelassen.core.foundation.errors import FileError, GelassenError
from gelassen.core.foundation.printable import printable
from gelassen.core.foundation.result import Result
from gelassen.core.recording.recording import Recording
from gelassen.study.disk.archive import read_run
from gelassen.study.disk.journal import goes_on
from gelassen.study.disk.writer import RUN_JSON
from gelassen.study.file.study_file import STUDY_FILE

_MOST_EVENTS = 12
_ESTIMATE_EVERY_S = 15.0  # an estimate takes up to a second of a core


@dataclass(frozen=True, slots=True, kw_only=True)
class LiveState(Result):
    """The newest run, as far as it is on disk.

    Attributes
    ----------
    title, run, setup
        Of the study, and of the run; empty where there is none.
    made_up
        Whether it is made-up data.
    going
        Whether it is being recorded now.
    phase, phase_s, elapsed_s
        The phase, how long it has lasted, and the time since the run began, in s.
    estimate
        Where the judged temperature settles, with its interval, in words.
    outcome
        How the run ended, if it did.
    traces
        The course of each quantity, thinned, with the last reading at its end.
    messages
        What happened, the newest first.
    problem
        Why there is nothing to show.
    """

    title: str
    run: str = ""
    setup: str = ""
    made_up: bool = False
    going: bool = False
    phase: str = ""
    phase_s: float = 0.0
    elapsed_s: float = 0.0
    estimate: str = ""
    outcome: str = ""
    traces: RunTraces | None = None
    messages: tuple[str, ...] = ()
    problem: str = ""


@dataclass(slots=True)
class LiveRuns:
    """Reads the newest run of a study, or below a folder of runs.

    Parameters
    ----------
    folder
        A study, a run, or a folder with runs in it.
    """

    folder: Path
    _estimated_s: float = field(default=-math.inf, init=False)
    _estimate: str = field(default="", init=False)
    _of: tuple[str, int] = field(default=("", 0), init=False)

    def __post_init__(self) -> None:
        """Refuse a folder that is not there.

        Raises
        ------
        FileError
            There is no such folder.
        """
        if not self.folder.is_dir():
            raise FileError(f"{self.folder}: there is no such folder")

    def state(self) -> LiveState:
        """Return the present state; what cannot be read says why."""
        try:
            study = open_study(self.folder) if (self.folder / STUDY_FILE).is_file() else None
        except GelassenError as error:
            return LiveState(title=self.folder.name, problem=str(error))
        title = study.file.title if study is not None else self.folder.resolve().name
        run = self._newest()
        if run is None:
            return LiveState(title=title, problem="no run has begun yet")
        try:
            recording = read_run(run)
        except GelassenError as error:
            return LiveState(title=title, run=run.name, problem=str(error))
        recording = study.completed(recording) if study is not None else recording
        return self._told(title, run, recording, study)

    def _told(self, title: str, run: Path, recording: Recording, study: Study | None) -> LiveState:
        going = goes_on(run)
        end_s = float(recording.frame.index[-1]) if len(recording.frame) else 0.0
        phase = recording.phases[-1] if recording.phases else None
        said = [f"{_clock(one.at_s)}  {one.text}" for one in recording.events]
        return LiveState(
            title=title,
            run=run.name,
            setup=recording.setup or "",
            made_up=recording.made_up,
            going=going,
            phase=phase.name if phase is not None and going else "",
            phase_s=end_s - phase.start_s if phase is not None else 0.0,
            elapsed_s=end_s,
            estimate=self._told_so_far(run.name, recording, study, going),
            outcome="" if going else recording.outcome,
            traces=run_traces(recording),
            messages=tuple(reversed(said[-_MOST_EVENTS:])),
        )

    def _newest(self) -> Path | None:
        """Return the run that is being recorded, else the last one."""
        if (self.folder / RUN_JSON).is_file():
            return self.folder
        runs = self.folder / "runs" if (self.folder / "runs").is_dir() else self.folder
        folders = sorted(p for p in runs.iterdir() if (p / RUN_JSON).is_file())
        going = [one for one in folders[-3:] if goes_on(one)]
        found = going or folders
        return found[-1] if found else None

    def _told_so_far(
        self, name: str, recording: Recording, study: Study | None, going: bool
    ) -> str:
        """Return the estimate; it is made anew now and then while the run goes on."""
        of = (name, 0 if going else len(recording.frame))
        now_s = time.monotonic()
        if self._of == of and (not going or now_s - self._estimated_s < _ESTIMATE_EVERY_S):
            return self._estimate
        self._of, self._estimated_s = of, now_s
        self._estimate = _estimate(recording, study)
        return self._estimate


def _estimate(recording: Recording, study: Study | None) -> str:
    """Return where the run settles, from what is there."""
    from gelassen.core.run.summary import summarise_run

    judged = study.file.compare if study is not None else None
    channel = judged if judged in recording.frame else None
    try:
        summary = summarise_run(recording, channel=channel)
    except GelassenError:
        return ""  # too little is there yet
    if summary.steady is None:
        return ""
    return f"{summary.channel_words}: {str(summary.steady).splitlines()[0]}"


def _clock(seconds: float) -> str:
    return f"{int(seconds) // 60}:{int(seconds) % 60:02d}"


def as_page_data(state: LiveState) -> dict[str, Any]:
    """Return a state as the page reads it: short numbers, printable text."""
    content: dict[str, Any] = {
        name: printable(value) if isinstance(value, str) else value
        for name in LiveState.__dataclass_fields__
        if name not in ("traces", "messages")
        for value in [getattr(state, name)]
    }
    content["messages"] = [printable(text) for text in state.messages]
    traces = state.traces.traces if state.traces is not None else ()
    content["traces"] = [
        {
            "label": printable(trace.label),
            "unit": trace.unit,
            "time_s": [round(float(t), 1) for t in trace.time_s],
            "values": [round(float(v), 2) for v in trace.readings],
        }
        for trace in traces
    ]
    return content
