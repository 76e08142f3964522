"""Carries one run out: phases on a fixed grid of samples, watched by the guard, always cleaned up."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from gelassen.bench.interface import Bench, Load
from gelassen.conduct.faults import Faults
from gelassen.conduct.guard import Guard
from gelassen.conduct.plan import PlannedPhase, RunPlan
from gelassen.conduct.settings import Settings
from gelassen.core.errors import BenchError, FileError, GelassenError
from gelassen.study.writer import RunWriter

_LATE = 0.1  # of the interval


@dataclass(frozen=True, slots=True, kw_only=True)
class Progress:
    """Where a run is, for whoever shows it."""

    phase: str
    elapsed_s: float
    left_s: float
    readings: Mapping[str, float]


@dataclass(frozen=True, slots=True, kw_only=True)
class RunOutcome:
    """How a run ended: "finished", "stopped" by the user, "guard", or "failed"."""

    status: str
    text: str
    missed_samples: int


def carry_out(
    bench: Bench,
    plan: RunPlan,
    open_writer: Callable[[], RunWriter],
    *,
    progress: Callable[[Progress], None] | None = None,
) -> RunOutcome:
    """Carry a run out and record it. Whatever happens, the load ends and settings are put back.

    `open_writer` is called once everything else is ready, so that a plan that cannot be carried out
    leaves nothing behind. A KeyboardInterrupt stops the run and keeps it; so does the guard.

    Raises
    ------
    GelassenError
        The plan does not fit the bench: an unknown load, channel or setting.
    """
    readable = [info.name for info in bench.channels() if info.readable]
    guard = Guard(plan.stop_c, readable, each=plan.stop_each)
    settings = Settings(bench, plan.settings)
    settings.make()
    load: Load | None = None
    try:
        loaded = any(phase.loaded for phase in plan.phases)
        load = bench.load(plan.load, workers=plan.workers) if loaded else _NoLoad()
        writer = open_writer()
    except BaseException as error:
        if load is not None:
            load.stop()
        problems = settings.put_back()
        if problems and isinstance(error, GelassenError):
            raise BenchError(". ".join([str(error), *problems])) from None
        raise
    conductor = _Conductor(bench, plan, guard, settings, writer, progress)
    try:
        conductor.conduct(load)
    except KeyboardInterrupt:
        conductor.end("stopped", "stopped by the user; what was recorded is kept")
    except OSError as error:  # a full disk, most likely
        conductor.end(
            "failed",
            f"a sample could not be stored ({error.strerror or error}); "
            "everything before it is kept",
        )
    except GelassenError as error:
        conductor.end("failed", str(error))
    finally:
        load.stop()  # heat goes off before settings go back
        not_put_back = settings.put_back()
        _finish(writer, conductor.status, [*conductor.cautions, *not_put_back])
    text = ". ".join(filter(None, [conductor.text, *not_put_back]))
    status = "failed" if not_put_back and conductor.status == "finished" else conductor.status
    return RunOutcome(status=status, text=text, missed_samples=conductor.missed)


def _finish(writer: RunWriter, status: str, cautions: list[str]) -> None:
    try:
        writer.finish(status, cautions)
    except OSError as error:
        raise FileError(
            f"{writer.folder}: the run could not be finished ({error.strerror or error}). What "
            f"was recorded is kept there: make room, then: gelassen show {writer.folder}"
        ) from None


class _NoLoad:
    """For a run that only looks on."""

    workers = 0

    def start(self) -> None: ...

    def use(self, workers: int) -> None: ...

    def stop(self) -> None: ...

    def problem(self) -> str:
        return ""


class _Conductor:
    def __init__(
        self,
        bench: Bench,
        plan: RunPlan,
        guard: Guard,
        settings: Settings,
        writer: RunWriter,
        progress: Callable[[Progress], None] | None,
    ) -> None:
        self._bench, self._plan, self._guard = bench, plan, guard
        self._settings = settings
        self._setting_news: list[str] = []
        self._writer, self._progress = writer, progress
        self._start_s = 0.0
        self._tick = 0
        self._load_start_s: float | None = None
        self._stair = -1
        self._faults = Faults(bench)
        self.missed = 0
        self.late = 0
        self.status = "failed"
        self.text = ""

    @property
    def cautions(self) -> list[str]:
        failures = [*self._faults.cautions(), *self._setting_news]
        if self.missed:
            failures.append(f"{self.missed} samples were missed: the machine was too busy")
        if self.late:
            failures.append(
                f"{self.late} samples were late by more than a tenth of the interval; their real "
                "times are recorded"
            )
        if self.status not in ("finished", "stopped") and self.text:
            failures.append(self.text)
        return failures

    def conduct(self, load: Load) -> None:
        self._start_s = self._bench.now()
        loaded = False
        ends_s = 0.0
        for phase in self._plan.phases:
            if phase.loaded != loaded:
                if phase.loaded:
                    self._climb(load, ends_s)
                    load.start()
                else:
                    load.stop()
                loaded = phase.loaded
            self._writer.phase(phase.name, ends_s)
            ends_s += phase.duration_s
            ended_by = self._sample_until(ends_s, phase, load)
            now_s = ends_s if not ended_by else self._bench.now() - self._start_s
            self._writer.phase_ended(phase.name, now_s, ended_by or "time")
            if ended_by:
                self.end("guard" if ended_by == "guard" else "failed", self.text)
                return
        self.end("finished", "")

    def _sample_until(self, end_s: float, phase: PlannedPhase, load: Load) -> str:
        """Sample on the grid until this moment; return what ended it early, if anything."""
        interval = self._plan.interval_s
        while self._tick * interval < end_s:
            due_s = self._start_s + self._tick * interval
            self._bench.sleep(due_s - self._bench.now())
            if phase.loaded:
                self._climb(load, self._tick * interval)
            late_by = (self._bench.now() - due_s) / interval
            if late_by >= 1:
                self.missed += int(late_by)
                self._tick += int(late_by)
            elif late_by > _LATE:
                self.late += 1
            now_s = self._bench.now() - self._start_s
            values = self._bench.read()
            self._writer.sample(now_s, values)
            self._tick += 1
            lost = self._settings.news(now_s)
            self._setting_news += lost
            for text in (*self._faults.events(now_s), *self._bench.news(), *lost):
                self._writer.event(now_s, text)
            reason = self._guard.reason_to_stop(values)
            if reason:
                load.stop()  # heat first; everything else can wait
                self.text = reason
                self._writer.event(now_s, f"guard: {reason}")
                return "guard"
            if phase.loaded and (problem := load.problem()):
                self.text = problem
                self._writer.event(now_s, problem)
                return "load"
            if self._progress:
                self._progress(
                    Progress(
                        phase=phase.name,
                        elapsed_s=now_s,
                        left_s=max(self._plan.duration_s - now_s, 0.0),
                        readings=values,
                    )
                )
        return ""

    def _climb(self, load: Load, now_s: float) -> None:
        """Let as many workers work as the staircase says for this moment."""
        if not self._plan.stairs:
            return
        if self._load_start_s is None:
            self._load_start_s = now_s
        number = self._plan.stair_at(now_s - self._load_start_s)
        stair = self._plan.stairs[number]
        if number != self._stair:
            self._stair = number
            load.use(stair.workers)
            said = f"{stair.workers} of {load.workers} workers" if stair.workers else "pause"
            self._writer.event(now_s, f"load: {said}")

    def end(self, status: str, text: str) -> None:
        self.status, self.text = status, text
