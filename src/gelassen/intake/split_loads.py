"""Splits one log with several loads, by the rests between them and by marks, into one run for each load."""

from dataclasses import replace
from datetime import timedelta

import numpy as np

from gelassen.core.foundation.caution import Caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.recording.load_span import load_stretches
from gelassen.core.recording.recording import Event, Recording
from gelassen.core.recording.series import mean_where
from gelassen.intake.load_phases import LOAD_PAUSED, find_phases, load_channel
from gelassen.intake.marks import cut_at_marks, mark_of

# A load this short, beside the longest one, was not meant to be measured.
_SHORT_S, _SHORT_SHARE = 300.0, 0.25


def split_loads(recording: Recording) -> tuple[Recording, ...]:
    """Return one recording for each load of a log, in order.

    Each has the rest before its load and the rest after it, so that both its start and its cooling are
    seen; its times count from its own first sample. Where marks say that another program began without
    a rest, the load is cut there. Marks also name the loads.

    Parameters
    ----------
    recording : Recording
        A log with power or load.

    Raises
    ------
    InputError
        Neither power nor load was logged, or it holds one load only.
    """
    source, level = load_channel(recording.frame)
    if source is None or level is None:
        raise InputError(
            "neither power nor load was logged: loads cannot be found. Take them one by one with "
            "--load-start and --load-end"
        )
    times = recording.frame.index.to_numpy(dtype=float)
    found = load_stretches(times, level)
    longest_s = max((end - start for start, end in found), default=0.0)
    least_s = min(_SHORT_S, _SHORT_SHARE * longest_s)
    loads = [(start, end) for start, end in found if end - start >= least_s]
    loads = cut_at_marks(loads, recording.events, least_s)
    if len(loads) < 2:
        raise InputError(
            f"{source} has one load only, or no pause and no mark between loads: there is nothing to split"
        )
    begins = [-np.inf, *(end for _, end in loads[:-1])]
    ends = [*(start for start, _ in loads[1:]), np.inf]
    pieces = []
    for number, (load, begin, end) in enumerate(zip(loads, begins, ends, strict=True), start=1):
        inside = ((times > begin) | (times == load[0])) & (times < end)
        name = mark_of([e for e in recording.events if e.at_s >= begin], load)
        words = f"{mean_where(level, (times >= load[0]) & (times <= load[1])):.3g}"
        words += " %" if source.endswith("_pct") else " W"
        words = f"load {number} of {len(loads)}: {f'{name}, ' if name else ''}{words}"
        pieces.append(replace(_piece(recording, inside, load, words), load=name or recording.load))
    return tuple(pieces)


def _piece(
    recording: Recording,
    inside: "np.ndarray[tuple[int], np.dtype[np.bool_]]",
    load: tuple[float, float],
    words: str,
) -> Recording:
    frame = recording.frame[inside]
    first = float(frame.index[0])
    frame = frame.set_index(frame.index - first)
    frame.index.name = recording.frame.index.name
    ended_s = min(load[1] - first, float(frame.index[-1]))  # the next may begin at once
    phases, _ = find_phases(frame, load_start_s=load[0] - first, load_end_s=ended_s)
    started = recording.started
    last = float(frame.index[-1])
    events = tuple(
        Event(event.at_s - first, event.text)
        for event in recording.events if 0 <= event.at_s - first <= last
    )  # fmt: skip
    told = [one for one in recording.cautions if one.code != LOAD_PAUSED]
    return replace(
        recording,
        frame=frame,
        started=None if started is None else started + timedelta(seconds=first),
        phases=phases,
        events=events,
        cautions=(*told, Caution(f"{words}, from {first:.0f} s of the log on", code="part_of_log")),
    )
