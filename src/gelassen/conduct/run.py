"""Carries out one run: phases on a fixed grid of samples, watched by the guard, always cleaned up."""

import contextlib
import logging
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from gelassen.bench.interface import Bench, Load
from gelassen.conduct.planning.plan import PlannedPhase, RunPlan
from gelassen.conduct.settings import Settings
from gelassen.conduct.watching.faults import Faults
from gelassen.conduct.watching.guard import Guard
from gelassen.conduct.watching.history import History
from gelassen.conduct.watching.stand_in import Sample, StandIn
from gelassen.core.foundation.counted import counted
from gelassen.core.foundation.errors import BenchError, FileError, GelassenError
from gelassen.core.foundation.progress import Progress
from gelassen.study.disk.writer import RunWriter
from gelassen.study.file.durations import words

if TYPE_CHECKING:  # they bring SciPy, and a run without gates does without it
    from gelassen.conduct.climb import Climb
    from gelassen.conduct.fan_stepper import FanStepper
    from gelassen.conduct.watching.gates import PhaseEnd

_LOG = logging.getLogger(__name__)
_LATE = 0.1  # of the interval
# After a stop by the guard, fans run at full speed until the machine is this far below, or this long.
_COOLED_K, _COOLING_S = 15.0, 60.0
_WISHED = "ended by the user"  # this phase only
_STOPPED = "stopped by the user; what was recorded is kept"

# What a watcher may ask for at any sample: nothing, the next phase, the end of this run, or of all.
Wish = Literal["", "phase", "run", "all"]


@dataclass(frozen=True, slots=True, kw_only=True)
class RunOutcome:
    """How a run ended: "finished", "stopped" by the user, "guard", or "failed"."""

    status: str
    text: str
    missed_samples: int
    ends_all: bool = True  # whether the stop also ends all following runs


def carry_out(
    bench: Bench,
    plan: RunPlan,
    open_writer: Callable[[], RunWriter],
    *,
    progress: Callable[[Progress], None] | None = None,
    wish: Callable[[], Wish] | None = None,
) -> RunOutcome:
    """Carry a run out and record it. Whatever happens, the load ends and settings are put back.

    `open_writer` is called when everything else is ready, so that an impossible plan leaves no folder. A
    KeyboardInterrupt stops the run and keeps it, as does the guard. `wish` is called at every sample and
    returns what the watcher wants: "phase" ends the present phase.

    Raises
    ------
    GelassenError
        The plan does not fit the bench: an unknown load, channel or setting.
    """
    readable = [info.name for info in bench.channels() if info.readable]
    guard = Guard(
        plan.stop_c, readable, each=plan.stop_each, rise_k_per_s=plan.stop_rise_k_per_s,
        fans=plan.stop_fans,
    )  # fmt: skip
    settings = Settings(bench, plan.settings, plan.fan_curves)
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
    conductor = _Conductor(bench, plan, guard, settings, writer, progress, wish)
    try:
        conductor.conduct(load)
    except KeyboardInterrupt:
        conductor.end("stopped", _STOPPED)
    except OSError as error:  # a full disk, most likely
        conductor.end(
            "failed",
            f"a sample could not be stored ({error.strerror or error}); "
            "everything before it is kept",
        )
    except GelassenError as error:
        conductor.end("failed", str(error))
    finally:
        conductor.leave()
        load.stop()  # the load ends before settings are put back
        not_put_back = settings.put_back()
        with contextlib.suppress(OSError, FileError):
            conductor.store_rest()
        _finish(writer, conductor.status, [*conductor.cautions, *not_put_back])
    text = ". ".join(filter(None, [conductor.text, *not_put_back]))
    status = "failed" if not_put_back and conductor.status == "finished" else conductor.status
    return RunOutcome(
        status=status, text=text, missed_samples=conductor.missed, ends_all=conductor.ends_all
    )


def _finish(writer: RunWriter, status: str, cautions: list[str]) -> None:
    try:
        if not writer.in_place():
            writer.close()
            raise writer.lost()
        writer.finish(status, cautions)
    except OSError as error:
        raise FileError(
            f"{writer.folder}: the run could not be finished ({error.strerror or error}). What "
            f"was recorded is kept there: make room, then: gelassen show {writer.folder}"
        ) from None


class _NoLoad:
    """The load of a run that only records."""

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
        wish: Callable[[], Wish] | None,
    ) -> None:
        self._bench, self._plan, self._guard = bench, plan, guard
        self._settings = settings
        self._setting_news: list[str] = []
        self._writer, self._progress = writer, progress
        self._wish = wish
        self._history = History()
        self._end: PhaseEnd | Climb | FanStepper | None = None
        self._climb: Climb | None = None
        self._stepper: FanStepper | None = None
        self._stepped_pct: float | None = None
        self._start_s = 0.0
        self._tick = 0
        self._load_start_s: float | None = None
        self._stair = -1
        self._faults = Faults(bench)
        self._load: Load = _NoLoad()
        self._stand_in = StandIn(
            bench, plan.interval_s, self._in_place, lambda sample: writer.sample(*sample)
        )
        self._tripped = ""
        self._cools = False
        self.missed = 0
        self.late = 0
        self.status = "failed"
        self.text = ""
        self.ends_all = True

    @property
    def cautions(self) -> list[str]:
        failures = [*self._faults.cautions(), *self._setting_news]
        if self.missed:
            failures.append(
                f"not taken, as the machine was too busy: {counted(self.missed, 'sample')}"
            )
        if self.late:
            failures.append(
                f"late by more than a tenth of the interval: {counted(self.late, 'sample')}; the real "
                "times are recorded"
            )
        if self.status not in ("finished", "stopped") and self.text:
            failures.append(self.text)
        return failures

    def conduct(self, load: Load) -> None:
        self._start_s = self._bench.now()
        self._load = load
        self._stand_in.begin(self._start_s)
        loaded = False
        begins_s = 0.0
        for phase in self._plan.phases:
            if phase.loaded and self._load_start_s is None:
                self._load_start_s = begins_s
            self._end = self._end_of(phase, begins_s)
            if self._climb is not None:
                for name, value in self._climb.first().items():
                    self._settings.set_now(name, value)
                    self._writer.event(begins_s, f"{name} set to {value:g}")
            if phase.loaded != loaded:
                if phase.loaded:
                    self._climb_stairs(load, begins_s)
                    load.start()
                    self._guard.expect_rise(begins_s)
                else:
                    load.stop()
                    self._guard.unloaded()
                loaded = phase.loaded
            self._writer.phase(phase.name, begins_s)
            _LOG.info("%.1f s: %s begins", begins_s, phase.name)
            try:
                ended_by = self._sample_until(begins_s, phase, load)
            finally:
                if self._end is not None:
                    self._end.close()
            # A phase that lasted its time ends on the grid. Any other ending has its own moment.
            on_time = not ended_by
            begins_s = begins_s + phase.duration_s if on_time else self._bench.now() - self._start_s
            self._writer.phase_ended(phase.name, begins_s, *self._ending(ended_by))
            if ended_by == "guard":
                self.end("guard", self.text)
                self._cool_down(begins_s)
                return
            if ended_by == "load":
                self.end("failed", self.text)
                return
            if ended_by == "user":
                self.end("stopped", _STOPPED)
                return
        self.end("finished", "")

    def _ending(self, ended_by: str) -> tuple[str, str]:
        """Return what ended a phase, in words and as one of `ENDINGS`."""
        if ended_by in ("guard", "load", "user"):
            return ended_by, ended_by
        if ended_by == _WISHED:
            return ended_by, "user"
        if self._end is None:
            return "time", "time"
        return (ended_by, self._end.ending) if ended_by else (self._end.time_up(), "time limit")

    def _end_of(
        self, phase: PlannedPhase, begins_s: float
    ) -> "PhaseEnd | Climb | FanStepper | None":
        self._climb = self._stepper = None
        steps = self._plan.fan_steps
        if steps is not None and steps.within and phase.name == "soak":
            from gelassen.conduct.fan_stepper import FanStepper

            self._stepper = FanStepper(
                steps, self._bench, self._history, self._plan.judged, begin_s=begins_s
            )
            return self._stepper
        if self._plan.climb is not None and phase.name == "soak":
            from gelassen.conduct.climb import Climb

            self._climb = Climb(
                self._plan.climb, self._bench, self._history, self._plan.judged, begin_s=begins_s
            )
            return self._climb
        if phase.gate is None:
            return None
        from gelassen.conduct.watching.gates import PhaseEnd

        return PhaseEnd(
            phase.gate, self._bench, self._history, self._plan.judged,
            begin_s=begins_s, load_start_s=self._load_start_s if phase.loaded else None,
        )  # fmt: skip

    def _sample_until(self, begins_s: float, phase: PlannedPhase, load: Load) -> str:
        """Sample on the grid during the phase; return what ended it early, if anything did."""
        interval = self._plan.interval_s
        end_s = begins_s + phase.duration_s
        while self._tick * interval < end_s:
            due_s = self._start_s + self._tick * interval
            self._bench.sleep(due_s - self._bench.now())
            if phase.loaded:
                self._climb_stairs(load, self._tick * interval)
                self._step_fan(self._tick * interval)
            late_by = (self._bench.now() - due_s) / interval
            if late_by >= 1:
                self._tick += int(late_by)
            elif late_by > _LATE:
                self.late += 1
            now_s, values, events = self._sample(missed=int(late_by))
            if self._tripped:
                self.text = self._tripped
                self._writer.event(now_s, f"guard: {self._tripped}")
                return "guard"
            if phase.loaded and (problem := load.problem()):
                self.text = problem
                self._writer.event(now_s, problem)
                return "load"
            ended_by = self._ended(now_s, phase)
            if self._progress:
                self._progress(self._where(phase, begins_s, now_s, values, events))
            if ended_by:
                return ended_by
        return ""

    def _guarded(self, now_s: float, values: Mapping[str, float]) -> None:
        """Stop the load if the guard says so."""
        if self._tripped or self._cools:
            return
        self._tripped = self._guard.reason_to_stop(values, now_s)
        if self._tripped:
            self._load.stop()  # the load first: everything else can wait
            self._guard.unloaded()

    def _in_place(self, sample: Sample) -> None:
        """Guard while this thread is kept waiting; the load ends when its time is over, too."""
        self._guarded(*sample)
        if sample[0] > self._plan.load_end_s:
            self._load.stop()

    def _sample(self, missed: int = 0) -> tuple[float, Mapping[str, float], tuple[str, ...]]:
        """Take a sample, guard, and store it, with the events at it."""
        with self._stand_in.turn:
            now_s = self._bench.now() - self._start_s
            values = self._bench.read()
            self._guarded(now_s, values)
            in_place_s = self._stand_in.sampled((now_s, values))
        self.missed += max(missed - len(in_place_s), 0)
        self._stand_in.store_all()
        self._tell_waiting(in_place_s)
        self._tick += 1
        if self._plan.gated:
            self._history.add(now_s, values)
        lost = [*self._settings.news(now_s), *self._settings.follow(now_s, values)]
        lost = [text for text in lost if text not in self._setting_news]
        self._setting_news += lost
        events = (*self._faults.events(now_s), *self._bench.news(), *lost)
        for text in events:
            self._writer.event(now_s, text)
        return now_s, values, events

    def _tell_waiting(self, in_place_s: list[float]) -> None:
        """Note how long this thread was kept waiting, if samples were taken in its place."""
        if in_place_s:
            self._writer.event(
                in_place_s[0],
                f"kept waiting for {in_place_s[-1] - in_place_s[0] + 2 * self._plan.interval_s:.0f} s, by "
                "the disk, the terminal or another program; sampling and the guard went on",
            )

    def leave(self) -> None:
        """End the watching."""
        self._stand_in.leave()

    def store_rest(self) -> None:
        """Store what was sampled in place of this thread and is not stored yet."""
        self._stand_in.store_all()

    def _ended(self, now_s: float, phase: PlannedPhase) -> str:
        """Return what ends the phase now: its gate, or a wish."""
        wish = self._wish() if self._wish else ""
        if wish in ("run", "all"):
            self.ends_all = wish == "all"
            return "user"
        if wish == "phase":
            return _WISHED
        if self._end is None:
            return ""
        if self._climb is not None:
            for name, value in self._climb.wanted(now_s).items():
                self._guard.expect_rise(now_s)
                if self._climb.by_hand:
                    self._writer.event(now_s, f"asked for by hand: {name} at {value:g}")
                else:
                    self._settings.set_now(name, value)
                    self._writer.event(now_s, f"{name} set to {value:g}")
        return self._end.offer(now_s)

    def _where(
        self, phase: PlannedPhase, begins_s: float, now_s: float, values: Mapping[str, float],
        events: tuple[str, ...],
    ) -> Progress:  # fmt: skip
        phases = self._plan.phases
        later_s = sum(one.likely_s for one in phases[phases.index(phase) + 1 :])
        present_s = max(phase.likely_s - (now_s - begins_s), 0.0)
        if phase.gate is not None and present_s == 0.0:
            present_s = max(phase.duration_s - (now_s - begins_s), 0.0) / 4
        known = "" if self._end is None or self._end.outlook is None else str(self._end.outlook)
        return Progress(
            phase=phase.name,
            elapsed_s=now_s,
            left_s=present_s + later_s,
            readings=values,
            phase_s=now_s - begins_s,
            waits_for=f"lasts {words(phase.duration_s)}"
            if self._end is None
            else self._end.waits_for,
            known=known,
            events=events,
        )

    def _cool_down(self, begins_s: float) -> None:
        """Cool down after a stop by the guard: fans at full speed first, then settings back."""
        self._cools = True
        for text in self._settings.fans_up():
            self._writer.event(begins_s, f"guard: {text}")
        self._writer.phase("cooldown", begins_s)
        ended_by, ending, now_s = "time", "time", begins_s
        while now_s - begins_s < _COOLING_S:
            due_s = self._start_s + self._tick * self._plan.interval_s
            self._bench.sleep(due_s - self._bench.now())
            now_s, values, _ = self._sample()
            if _COOLED_K <= self._guard.coolest_margin_k(values) < math.inf:
                ended_by, ending = "cooled down", "rested"
                break
        self._writer.phase_ended("cooldown", now_s, ended_by, ending)

    def _climb_stairs(self, load: Load, now_s: float) -> None:
        """Let as many workers work as the staircase says for this moment."""
        if not self._plan.stairs:
            return
        begun_s = now_s if self._load_start_s is None else self._load_start_s
        number = self._plan.stair_at(now_s - begun_s)
        stair = self._plan.stairs[number]
        if number != self._stair:
            self._stair = number
            load.use(stair.workers)
            self._guard.expect_rise(now_s)
            said = (
                f"{stair.workers} of {counted(load.workers, 'worker')}"
                if stair.workers
                else "pause"
            )
            self._writer.event(now_s, f"load: {said}")

    def _step_fan(self, now_s: float) -> None:
        """Set the duty of the present fan step, if it changed."""
        steps = self._plan.fan_steps
        if steps is None:
            return
        begun_s = now_s if self._load_start_s is None else self._load_start_s
        known = self._stepper
        duty = steps.duty_at(now_s - begun_s) if known is None else known.duty_pct
        if duty != self._stepped_pct:
            self._stepped_pct = duty
            self._settings.set_now(steps.channel, duty)
            self._guard.expect_rise(now_s)
            self._writer.event(now_s, f"{steps.channel} set to {duty:g}")

    def end(self, status: str, text: str) -> None:
        if self.status != "guard":  # events during the cooling are not the reason for the end
            self.status, self.text = status, text
