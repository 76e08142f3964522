"""Finds the meaning of the channels of a bench: with a load, or with probes at one place."""

import tempfile
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path

from gelassen.bench.interface import Bench
from gelassen.conduct.planning.plan import PlannedPhase, RunPlan
from gelassen.conduct.recording import record_run
from gelassen.conduct.watching.guard import stop_temperatures
from gelassen.core.foundation.errors import BenchError, InputError
from gelassen.core.foundation.progress import Progress
from gelassen.core.foundation.spelling import nearest
from gelassen.core.probing.channel_response import Response, probe_response
from gelassen.core.probing.probe_offsets import ProbeOffset, probe_offsets
from gelassen.core.recording.channels import parse_channel
from gelassen.core.recording.recording import Recording
from gelassen.study.disk.archive import read_run

_INTERVAL_S = 0.25


def probe_channels(
    bench: Bench, *, rest_s: float = 20.0, load_s: float = 40.0,
    progress: Callable[[Progress], None] | None = None,
) -> dict[str, Response | None]:  # fmt: skip
    """Idle, load and idle a bench; return each channel's response, None without readings.

    Raises
    ------
    BenchError
        The guard stopped it, or the load failed.
    """
    names = [info.name for info in bench.channels() if info.readable]
    plan = RunPlan(
        phases=(
            PlannedPhase("idle", rest_s),
            PlannedPhase("soak", load_s),
            PlannedPhase("cooldown", rest_s),
        ),
        interval_s=_INTERVAL_S,
        stop_c=stop_temperatures((), {}, names),
        stop_each=False,
    )
    with tempfile.TemporaryDirectory(prefix="gelassen-") as folder:
        run, outcome = record_run(bench, plan, Path(folder), label="probe", progress=progress)
        if outcome.status != "finished":
            raise BenchError(f"the probe was ended early: {outcome.text}")
        recording = read_run(run)
    return responses(recording)


def responses(recording: Recording) -> dict[str, Response | None]:
    """Return how each channel of a run responded to the load."""
    span = recording.load_span_s()
    if span is None:
        raise InputError("a probe needs a run with a load")
    times = recording.frame.index.to_numpy()
    found: dict[str, Response | None] = {}
    for name, column in recording.frame.items():
        try:
            found[str(name)] = probe_response(
                times, column.to_numpy(), load_start_s=span[0], load_end_s=span[1]
            )
        except InputError:
            found[str(name)] = None
    return found


def compare_probes(
    recording: Recording, channels: Sequence[str], *, true: str | None = None
) -> tuple[ProbeOffset, ...]:
    """Return the offsets of probes that were at one place during a whole recording."""
    check_probes(channels, recording.frame.columns, true)
    return probe_offsets({name: recording.frame[name].to_numpy() for name in channels}, true=true)


def check_probes(channels: Sequence[str], known: Iterable[str], true: str | None) -> None:
    """Refuse probes that cannot be compared: fewer than two, unknown, or not temperatures."""
    found = list(known)
    for name in channels:
        if name not in found:
            raise InputError(f'"{name}" is not a channel here.' + nearest(name, found))
        if parse_channel(name).unit != "c":
            raise InputError(f'"{name}" is not a temperature')
    if len(set(channels)) < 2:
        raise InputError("offsets need at least two probes that lie together: --together for each")
    if true is not None and true not in channels:
        raise InputError(f'"{true}" is none of the probes ({", ".join(channels)})')
