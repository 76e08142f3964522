"""The course of every run of a study, thinned for drawing so that no extreme is lost."""

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
import pandas as pd

from gelassen.answers.study_runs import StudyRuns
from gelassen.core.foundation.errors import GelassenError
from gelassen.core.foundation.inputs import Floats
from gelassen.core.foundation.result import Result
from gelassen.core.recording.channel_words import channel_words
from gelassen.core.recording.channels import parse_channel
from gelassen.core.recording.chips import core_channels
from gelassen.core.recording.recording import Recording
from gelassen.core.recording.series import columns_of, mean_of
from gelassen.core.signal.thinning import thinned

_POINTS = 400  # a channel: enough for every extreme on a wide screen
_MOST_CHANNELS = 16
_SHOWN = (".temp_c", ".power_w", ".speed_rpm", ".level_dba", ".flow_lpm", ".rate_per_s")


@dataclass(frozen=True, slots=True, kw_only=True)
class Trace(Result):
    """One quantity of a run over time, in s from the start of its load."""

    label: str
    unit: str
    time_s: Floats
    readings: Floats


@dataclass(frozen=True, slots=True, kw_only=True)
class RunTraces(Result):
    """The traces of one run, and what happened in it."""

    run: str
    setup: str
    load: str
    started: str
    outcome: str
    cautions: tuple[str, ...] = ()
    events: tuple[tuple[float, str], ...] = ()
    traces: tuple[Trace, ...] = field(default=())
    unreadable: str = ""


def study_traces(study: StudyRuns) -> Iterator[RunTraces]:
    """Yield the traces of every run, in order; a run that cannot be read says why."""
    for folder in study.run_folders():
        try:
            recording = study.run(folder.name)
        except (GelassenError, OSError) as error:
            yield RunTraces(
                run=folder.name, setup="", load="", started="", outcome="", unreadable=str(error)
            )
            continue
        yield run_traces(recording)


def run_traces(recording: Recording) -> RunTraces:
    """Return the traces of one run."""
    span = recording.load_span_s()
    start_s = span[0] if span else 0.0
    return RunTraces(
        run=recording.name,
        setup=recording.setup or "",
        load=recording.load or "",
        started=recording.started.isoformat(sep=" ", timespec="minutes")
        if recording.started
        else "",
        outcome=recording.outcome,
        cautions=tuple(map(str, recording.cautions)),
        events=tuple((event.at_s - start_s, event.text) for event in recording.events),
        traces=tuple(_traces(recording.frame, start_s)),
    )


def _traces(frame: pd.DataFrame, start_s: float) -> Iterator[Trace]:
    if frame.empty:
        return
    times = frame.index.to_numpy(dtype=float) - start_s
    found: list[tuple[str, str, Floats]] = []
    cores = core_channels(frame)
    if cores:
        found.append(("hottest core", "°C", np.fmax.reduce(columns_of(frame, cores), axis=1)))
    clock = mean_of(frame, "cpu.", ".clock_mhz")
    if clock is not None:
        found.append(("clock", "MHz", clock))
    for name in frame.columns:
        if name in cores or not name.endswith(_SHOWN):
            continue
        found.append((channel_words(name), parse_channel(name).symbol, frame[name].to_numpy(float)))
    for label, unit, values in found[:_MOST_CHANNELS]:
        if np.isfinite(values).any():
            time_s, kept = thinned(times, values, _POINTS)
            yield Trace(label=label, unit=unit, time_s=time_s, readings=kept)
