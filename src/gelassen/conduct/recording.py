"""From a plan to a run folder, as `gelassen record` does, on a real or a simulated bench."""

from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager, nullcontext
from datetime import datetime
from pathlib import Path

from gelassen.bench.interface import Bench
from gelassen.conduct.planning.plan import RunPlan
from gelassen.conduct.run import RunOutcome, Wish, carry_out
from gelassen.core.foundation.progress import Progress
from gelassen.core.recording.recording import Recording
from gelassen.study.disk.archive import read_run
from gelassen.study.disk.run_file import FAN_STEPS, OriginEntry, RunFile, StatedRoom, versions
from gelassen.study.disk.samples import load_libraries
from gelassen.study.disk.writer import RunWriter, new_run_folder


def record_run(
    bench: Bench,
    plan: RunPlan,
    runs: Path,
    *,
    label: str,
    setup: str | None = None,
    levels: Mapping[str, str | float] | None = None,
    limit_c: float | None = None,
    power_limit_w: float | None = None,
    reference: str | None = None,
    made_up: bool = False,
    mount: str | None = None,
    started: datetime | None = None,
    progress: Callable[[Progress], None] | None = None,
    wish: Callable[[], Wish] | None = None,
    again_of: str | None = None,
    kind: str = "steady",
    load_name: str | None = None,
    room: StatedRoom | None = None,
) -> tuple[Path, RunOutcome]:
    """Carry a plan out into a new folder below `runs`; return the folder and how the run ended.

    `started` is the wall-clock time to note; the present one if not given. `load_name` is what the load is
    called in answers. `room` is the room, where it is stated and not logged.
    """
    load_libraries()
    folders: list[Path] = []

    def open_writer() -> RunWriter:
        # Now that the load is ready its channels are known, too.
        readable = [info for info in bench.channels() if info.readable]
        run = RunFile(
            started=(started or datetime.now().astimezone()).isoformat(timespec="milliseconds"),
            setup=setup,
            levels=dict(levels or {}),
            load=load_name or str(plan.load),
            settings=dict(plan.settings),
            limit_c=limit_c,
            power_limit_w=power_limit_w,
            reference=reference,
            made_up=made_up,
            mount=mount,
            again_of=again_of,
            room=room,
            protocol=FAN_STEPS if plan.fan_steps else kind,
            channels={
                info.name: OriginEntry(
                    header=info.source or info.what,
                    conversion=info.what,
                    offset=info.offset,
                    limit=min(info.limits.values(), default=None),
                )
                for info in readable
            },
            versions=versions(),
        )
        folders.append(new_run_folder(runs, label))
        return RunWriter.create(folders[0], [info.name for info in readable], run)

    with claimed(bench, plan):
        outcome = carry_out(bench, plan, open_writer, progress=progress, wish=wish)
    return folders[0], outcome


def claimed(bench: Bench, plan: RunPlan) -> AbstractContextManager[None]:
    """Keep other processes off the machine if the plan loads or changes it."""
    touches = any(phase.loaded for phase in plan.phases) or plan.settings or plan.fan_curves
    claim = getattr(bench, "claim", nullcontext)  # benches of others may have none
    return claim() if touches else nullcontext()


def record(bench: Bench, plan: RunPlan, runs: Path, *, label: str = "run") -> Recording:
    """Carry a plan out below `runs` and return the recording: the short way from Python."""
    folder, _ = record_run(bench, plan, runs, label=label)
    return read_run(folder)
