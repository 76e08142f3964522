"""The sample study, made up from end to end: three coolers, two fan curves, two power limits."""

from collections.abc import Callable, Iterator
from concurrent.futures import Executor, as_completed
from contextlib import nullcontext
from dataclasses import dataclass
from datetime import datetime, timedelta, timezone
from pathlib import Path

import numpy as np

from gelassen.answers.workers.pool import process_pool
from gelassen.bench.simulated import COOLERS, CURVES, Room, SimulatedBench
from gelassen.conduct.planning.plan import RunPlan, plan_phases
from gelassen.conduct.recording import record_run
from gelassen.core.foundation.errors import FileError
from gelassen.study.file.study_file import STUDY_FILE

_COOLERS = ("Brise 120", "Kiesel 92", "Tarn 240")
_CURVES = ("on-air", "off-air")
_POWERS_W = (65, 125)
_REPEATS = 3
_PHASES = plan_phases(idle=120, soak=1080, hold=480, cooldown=120)
_LIMIT_C = 95.0
_BASELINE = "Kiesel 92, off-air, 125 W"
_FIRST_DAY = datetime(2026, 3, 2, 8, 30, tzinfo=timezone(timedelta(hours=1)))


@dataclass(frozen=True, slots=True)
class _DemoRun:
    number: int
    cooler: str
    curve: str
    power_w: int
    seed: int
    room_c: float
    room_phase: float
    started: datetime

    @property
    def setup(self) -> str:
        return f"{self.cooler}, {self.curve}, {self.power_w} W"


def make_demo(
    folder: Path,
    *,
    seed: int = 1,
    executor: Executor | None = None,
    progress: Callable[[int, int], None] | None = None,
) -> Path:
    """Create the sample study in an empty or new folder and conduct its 36 runs in virtual time.

    The same seed gives the same numbers. Runs are spread over `executor`, a
    pool of processes if not given; `progress` is told runs done and runs in all.
    """
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise FileError(
            f"{folder} is not empty; nothing was written. "
            f'Choose another folder: gelassen demo "{folder.name}-2"'
        )
    runs = list(_runs(seed))
    (folder / "runs").mkdir(parents=True, exist_ok=True)
    (folder / STUDY_FILE).write_text(_study_toml(), encoding="utf-8")
    done = 0
    with nullcontext(executor) if executor else process_pool() as pool:
        futures = [pool.submit(_conduct, folder / "runs", run) for run in runs]
        for future in as_completed(futures):
            future.result()
            done += 1
            if progress:
                progress(done, len(runs))
    return folder


def _runs(seed: int) -> Iterator[_DemoRun]:
    """Yield the runs day by day: on each, every setup once, in shuffled order of coolers."""
    rng = np.random.default_rng(seed)
    number = 0
    for day in range(_REPEATS):
        started = _FIRST_DAY + timedelta(days=day)
        room_c, phase = float(rng.normal(22.5, 0.8)), float(rng.random())
        for cooler in rng.permutation(_COOLERS):
            for curve in _CURVES:
                for power in _POWERS_W:
                    number += 1
                    yield _DemoRun(
                        number=number,
                        cooler=str(cooler),
                        curve=curve,
                        power_w=power,
                        seed=int(rng.integers(2**31)),
                        room_c=room_c + float(rng.normal(0, 0.3)),
                        room_phase=phase + 0.4 * number,
                        started=started,
                    )
                    started += timedelta(seconds=sum(p.duration_s for p in _PHASES) + 300)


def _conduct(runs: Path, run: _DemoRun) -> None:
    bench = SimulatedBench(
        cooler=COOLERS[run.cooler],
        curve=CURVES[run.curve],
        power_limit_w=float(run.power_w),
        room=Room(mean_c=run.room_c, phase=run.room_phase),
        seed=run.seed,
    )
    # Runs are conducted side by side, so each gets its place before: the order stays that of the plan.
    place = runs / f".{run.number:03d}"
    folder, _ = record_run(
        bench,
        RunPlan(phases=_PHASES, stop_c={"cpu.package.temp_c": 105.0}),
        place,
        label=run.setup,
        setup=run.setup,
        levels={"cooler": run.cooler, "curve": run.curve, "power_limit_w": run.power_w},
        limit_c=_LIMIT_C,
        power_limit_w=float(run.power_w),
        reference="room.air.temp_c",
        made_up=True,
        started=run.started,
    )
    folder.rename(runs / f"{run.number:03d}-{folder.name.split('-', 1)[1]}")
    place.rmdir()


def _study_toml() -> str:
    lines = [
        "# Made-up sample data: every part, person and number in this study is invented.",
        "format = 1",
        'title = "A cooler for the playout box"',
        'question = "Which cooler keeps the playout box calm in its cabinet beside the studio?"',
        "made_up = true",
        'reference = "room.air.temp_c"   # rises are relative to this channel',
        'compare = "hottest core"',
        f'baseline = "{_BASELINE}"',
        "",
        "[machine]",
        'name = "Playout box (Corvane 12)"',
        f"limit_c = {_LIMIT_C:g}   # the chip holds itself back at this temperature",
        "",
        "[factors.cooler]",
        f"levels = [{', '.join(f'{c!r}' for c in _COOLERS)}]".replace("'", '"'),
        'changed_by = "hand"',
        "",
        "[factors.curve]",
        f"levels = [{', '.join(f'{c!r}' for c in _CURVES)}]".replace("'", '"'),
        'changed_by = "software"',
        "",
        "[factors.power_limit_w]",
        f"levels = [{', '.join(map(str, _POWERS_W))}]",
        'changed_by = "software"',
        'channel = "cpu.package.power_limit_w"',
        "",
        "[protocol]",
        *(f'{phase.name} = "{phase.duration_s:.0f} s"' for phase in _PHASES),
        f"repeats = {_REPEATS}",
        "baseline_again = false",
        "",
        "[guard.stop_c]",
        '"cpu.package.temp_c" = 105',
        "",
    ]
    for cooler in _COOLERS:
        for curve in _CURVES:
            for power in _POWERS_W:
                lines += [
                    f'[setups."{cooler}, {curve}, {power} W"]',
                    f'cooler = "{cooler}"',
                    f'curve = "{curve}"',
                    f"power_limit_w = {power}",
                    "",
                ]
    return "\n".join(lines)
