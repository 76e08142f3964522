"""Several files of one log: a logger that began a new file while the run went on."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pandas as pd

from gelassen.core.recording.recording import Recording
from gelassen.intake.load_phases import LOAD_PAUSED
from gelassen.intake.meaning.columns import TIME
from gelassen.intake.understanding import Understanding

# Steps between the last sample of a file and the first of the next, at most. A tester who starts another
# run takes longer. Source: loggers that change their file lose a sample or two.
_MOST_STEPS = 5.0


def one_log_of(
    parts: Sequence[Understanding], *, at_rest: bool = False
) -> tuple[Recording, list[int]] | None:
    """Return the log that several files are, and their order; None if they are several logs.

    They are one log if they have the same channels and each goes on, by its clock, where another ends. Its
    phases are left to be found. Files that all begin at rest are runs that a script made one after the
    other, unless `at_rest` says that they may be one log.
    """
    starts_s = [_start_s(one) for one in parts]
    if len(parts) < 2 or len({_clock(one) for one in parts}) > 1:
        return None
    order = [int(k) for k in np.argsort(starts_s, kind="stable")]
    logs = [parts[k].recording for k in order]
    if any(set(log.frame.columns) != set(logs[0].frame.columns) for log in logs):
        return None
    if not at_rest and all(log.phases and log.phases[0].name == "idle" for log in logs):
        return None
    starts = np.array([starts_s[k] for k in order])
    offsets_s = starts - starts[0] + float(logs[0].frame.index[0])
    times = [
        log.frame.index.to_numpy(dtype=float) - float(log.frame.index[0]) + offset
        for log, offset in zip(logs, offsets_s, strict=True)
    ]
    steps_s = [float(np.median(np.diff(own))) for own in times]
    for before, after, step_s in zip(times, times[1:], steps_s, strict=False):
        if not 0 < after[0] - before[-1] <= _MOST_STEPS * step_s:
            return None
    frame = pd.concat([log.frame for log in logs])
    frame.index = pd.Index(np.round(np.concatenate(times), 6), name=TIME)
    moved = [
        offset - float(log.frame.index[0]) for log, offset in zip(logs, offsets_s, strict=True)
    ]
    loads = {log.load for log in logs} - {None}
    said = [c for log in logs[1:] for c in log.cautions if c.code != "log_start"]
    said = [
        c for c in (*logs[0].cautions, *said) if c.code != LOAD_PAUSED
    ]  # of the files, not of the log
    whole = replace(
        logs[0], frame=frame, phases=(), load=loads.pop() if len(loads) == 1 else None,
        cautions=tuple(dict.fromkeys(said)),
        events=tuple(
            replace(event, at_s=event.at_s + by)
            for log, by in zip(logs, moved, strict=True) for event in log.events
        ),
    )  # fmt: skip
    return whole, order


def _clock(one: Understanding) -> str:
    return "elapsed" if one.recording.started is None else "wall"


def _start_s(one: Understanding) -> float:
    """Return when the first sample was, by the clock of the log, s."""
    first_s = float(one.recording.frame.index[0])
    if one.recording.started is not None:
        return one.recording.started.timestamp() + first_s
    return one.zero_s + first_s
