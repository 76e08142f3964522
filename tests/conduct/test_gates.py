"""Phases that end when enough is known, the climb to the capacity, and what stops a run."""

import math

import numpy as np
import pytest

from gelassen.bench.simulated import COOLERS, CURVES, Room, SimulatedBench
from gelassen.conduct import PlannedPhase, RunPlan, record_run
from gelassen.conduct.planning.climb_plan import ClimbPlan
from gelassen.conduct.watching.background import Background
from gelassen.conduct.watching.guard import Guard
from gelassen.conduct.watching.judged import Judged
from gelassen.core import InputError, summarise_run
from gelassen.core.capacity.from_climb import capacity_from_climb
from gelassen.core.fans.curve import parse_curve
from gelassen.core.settling.resting_temperature import at_rest
from gelassen.study import read_run
from gelassen.study.file.gate import Gate, phase_length

ROOM = Judged(reference="room.air.temp_c", limit_c=95.0)


def bench_of(cooler="Brise 120", power_w=95.0, seed=3, **options):
    return SimulatedBench(
        cooler=COOLERS[cooler], curve=CURVES["on-air"], power_limit_w=power_w, seed=seed, **options
    )


class Wrapped:
    """A bench that passes everything on, to be spoiled by a test."""

    def __init__(self, bench):
        self.bench = bench

    def __getattr__(self, name):
        return getattr(self.bench, name)


def made(bench, plan, folder, **options):
    run, outcome = record_run(bench, plan, folder, label="x", limit_c=95.0, **options)
    return read_run(run), outcome


def cooling(tau_s, minutes, *, from_k=40.0, seed=0):
    times = np.arange(0, 60 * minutes, 1.0)
    noise = np.random.default_rng(seed).normal(0, 0.3, times.size)
    return times, np.rint(8 + from_k * np.exp(-times / tau_s) + noise)


@pytest.mark.parametrize("tau_s", [90.0, 400.0, 1100.0])
def test_rest_is_said_near_to_it_and_not_before(tau_s):
    said = []
    for minutes in np.arange(1.5, 6 * tau_s / 60, 0.5 if tau_s < 300 else 2.0):
        times, rise = cooling(tau_s, minutes, seed=int(10 * minutes))
        if at_rest(times, rise).rested:
            said.append(40 * math.exp(-60 * minutes / tau_s))
    assert said  # it is said in the end
    assert max(said) < 2.5  # with whole degrees, a kelvin or two are hard to see
    rest = at_rest(*cooling(tau_s, 1))
    assert not rest.rested
    assert "rest" in str(rest) or "cannot tell" in str(rest) or "minute" in str(rest)


def test_a_part_above_its_known_level_is_not_at_rest():
    times, rise = cooling(60.0, 30)
    assert at_rest(times, rise).rested
    rest = at_rest(times, rise, known_level_k=3.0)
    assert not rest.rested
    assert "above where it rested before" in rest.text


def test_lengths_of_phases_are_read_as_people_write_them():
    assert phase_length("soak", "20 min") == 1200
    known = phase_length("soak", "until known")
    assert (known.until, known.within_k) == ("known", 0.5)
    assert phase_length("idle", {"at_most": "9 min"}).until == "rested"
    long = phase_length("soak", {"until": "known", "at_least": "2 h"})
    assert long.at_most > long.at_least
    for phase, wrong in (
        ("idle", "until known"), ("soak", "until rested"), ("soak", "until tuesday"),
        ("hold", {"at_least": "9 min", "at_most": "1 min"}), ("idle", "soon"),
    ):  # fmt: skip
        with pytest.raises(InputError):
            phase_length(phase, wrong)


def gated(soak, *, idle=60.0, hold=60.0):
    return RunPlan(
        phases=(PlannedPhase("idle", idle), PlannedPhase("soak", soak.at_most, soak),
                PlannedPhase("hold", hold)), judged=ROOM,
    )  # fmt: skip


def test_a_soak_ends_when_the_steady_state_is_known_and_says_so(tmp_path):
    soak = Gate(until="known", within_k=0.5, at_least=300, at_most=2400)
    seen = []
    bench = bench_of()
    run, outcome = made(bench, gated(soak), tmp_path, progress=seen.append)
    assert outcome.status == "finished"
    phase = run.phases[1]
    assert phase.ended_by.startswith("known: ")
    assert 300 <= phase.end_s - phase.start_s < 1900
    assert run.phases[2].end_s - run.phases[2].start_s == pytest.approx(60, abs=1.5)
    truth = bench.truth(room_c=float(run.frame["room.air.temp_c"].mean())).rise_k
    steady = summarise_run(run).steady
    assert steady.low - 0.1 <= truth <= steady.high + 0.1
    assert "waits until the steady rise is known to ±0.5 K" in seen[200].waits_for
    assert seen[200].left_s > 60
    assert "settles at" in seen[-1].known or seen[-1].phase == "hold"


def test_a_soak_that_never_knows_ends_at_its_limit(tmp_path):
    soak = Gate(until="known", within_k=0.1, at_least=60, at_most=400)
    run, _ = made(bench_of("Steg", 60.0), gated(soak), tmp_path)
    assert run.phases[1].ended_by.startswith("time limit: ")
    assert run.phases[1].end_s - run.phases[1].start_s == pytest.approx(400, abs=2)


def test_a_chip_held_at_its_limit_waits_for_its_power(tmp_path):
    soak = Gate(until="known", within_k=0.5, at_least=300, at_most=2400)
    run, _ = made(bench_of("Kiesel 92", 160.0, room=Room(mean_c=35)), gated(soak), tmp_path)
    assert "W (held at its limit)" in run.phases[1].ended_by


def test_idle_waits_for_rest(tmp_path):
    bench = bench_of()
    load = bench.load("matrix")
    load.start()
    bench.sleep(900)
    load.stop()
    idle = Gate(until="rested", within_k=1.0, at_least=60, at_most=3000)
    plan = RunPlan(
        phases=(PlannedPhase("idle", idle.at_most, idle), PlannedPhase("soak", 5)), judged=ROOM
    )
    run, _ = made(bench, plan, tmp_path)
    assert run.phases[0].ended_by == "at rest"
    assert 200 < run.phases[0].end_s < 1500
    run, _ = made(bench_of(), plan, tmp_path)
    assert run.phases[0].end_s < 400  # it was at rest


def test_an_answer_takes_no_virtual_time_and_holds_up_no_real_one():
    class Clock:
        ahead = 0.0

        def now(self):
            import time

            return time.monotonic() + self.ahead

    clock = Clock()
    thinker = Background(clock)
    thinker.ask(lambda: __import__("time").sleep(0.4) or "known")
    assert thinker.answer() is None  # real time: it goes on without
    clock.ahead = 5.0
    assert thinker.answer() == "known"  # virtual time has run ahead: it is waited for
    thinker.close()


def test_wishes_end_a_phase_or_the_run(tmp_path):
    wishes = iter([""] * 30 + ["phase"] + [""] * 20 + ["run"])
    plan = RunPlan(phases=(PlannedPhase("idle", 500), PlannedPhase("soak", 500)))
    run, outcome = made(bench_of(), plan, tmp_path, wish=lambda: next(wishes))
    assert outcome.status == run.outcome == "stopped"
    assert not outcome.ends_all
    assert [(p.name, p.ended_by) for p in run.phases] == [
        ("idle", "ended by the user"), ("soak", "user"),
    ]  # fmt: skip
    assert run.phases[0].end_s == pytest.approx(30, abs=1.5)


# -- the climb ----------------------------------------------------------------------------------------


def climb_of(folder, bench, **options):
    climb = ClimbPlan(
        channel="cpu.package.power_limit_w",
        **{"from_w": 30.0, "to_w": 150.0, "limit_c": 95.0, **options},
    )
    plan = RunPlan(
        phases=(PlannedPhase("idle", 60), PlannedPhase("soak", climb.at_most_s)), climb=climb,
        judged=ROOM,
    )  # fmt: skip
    return made(bench, plan, folder, kind="capacity", reference="room.air.temp_c")


def test_a_climb_finds_the_capacity_and_never_passes_the_limit(tmp_path):
    bench = bench_of("Kiesel 92")
    run, outcome = climb_of(tmp_path, bench)
    assert outcome.status == "finished"
    answer = summarise_run(run).climb
    low, high = 60.0, 140.0
    for _ in range(20):
        middle = (low + high) / 2
        bench.actuators()["cpu.package.power_limit_w"].set(middle)
        at_limit = bench.truth(room_c=answer.ambient_c).hottest_core_c > 94.99
        low, high = (low, middle) if at_limit else (middle, high)
    assert answer.power_w == pytest.approx(low, rel=0.03)
    assert answer.low_w <= low <= answer.high_w
    assert run.frame["cpu.package.temp_c"].max() <= 97
    set_to = [float(e.text.split()[-1]) for e in run.events if "set to" in e.text]
    assert set_to[0] == 30
    assert set_to[:4] == sorted(set_to[:4])  # it climbs
    assert summarise_run(run).steady is None


def test_a_climb_ends_where_nothing_more_can_be_drawn_or_was_asked_for(tmp_path):
    run, _ = climb_of(tmp_path, bench_of("Tarn 240"))
    assert "draws no more than" in run.phases[1].ended_by
    run, _ = climb_of(tmp_path, bench_of("Tarn 240"), to_w=65.0)
    assert "holds 65 W, the most that was asked for" in run.phases[1].ended_by


class ByHand(Wrapped):
    """Nothing can be set; somebody turns the knob half a minute after being asked."""

    def __init__(self, bench):
        super().__init__(bench)
        self.wanted = []

    def actuators(self):
        return {}

    def turn(self, seen):
        if seen.waits_for.startswith("set "):
            self.wanted.append((seen.elapsed_s, float(seen.waits_for.split()[3])))
            if self.wanted[-1][0] - self.wanted[0][0] >= 30:
                limit = self.bench.actuators()["cpu.package.power_limit_w"]
                limit.set(self.wanted[-1][1])
                self.wanted = []


def test_a_climb_by_hand_says_which_value_to_set_and_waits(tmp_path):
    bench = ByHand(bench_of("Kiesel 92", 30.0))
    climb = ClimbPlan(channel="cpu.package.power_limit_w", from_w=30, to_w=110, limit_c=95, by_hand=True,
                      at_most_s=1500)  # fmt: skip
    plan = RunPlan(
        phases=(PlannedPhase("idle", 60), PlannedPhase("soak", 1500)), climb=climb, judged=ROOM
    )
    run, _ = made(bench, plan, tmp_path, kind="capacity", progress=bench.turn)
    asked = [e.text for e in run.events if "asked for by hand" in e.text]
    assert len(asked) >= 3
    assert run.frame["cpu.package.power_w"].max() > 80


def test_a_climb_without_a_step_or_below_the_room_is_refused():
    times = np.arange(600.0)
    with pytest.raises(InputError, match="never rises"):
        capacity_from_climb(times, np.full(600, 20.0), np.full(600, 5.0), limit_c=95)
    with pytest.raises(InputError, match="not above the room"):
        capacity_from_climb(times, times, times, limit_c=20)
    short = capacity_from_climb(times[:60], times[:60], times[:60] / 10, limit_c=95)
    assert math.isinf(short.high_w)
    assert "cannot tell" in str(short)


# -- the guard ----------------------------------------------------------------------------------------

NAMES = ["cpu.package.temp_c", "fan.cpu.speed_rpm"]


def watched(guard, temps, fans=None):
    """Return at which sample the guard stops, and why."""
    guard.expect_rise(-100.0)
    for now, temp in enumerate(temps):
        fan = 1000.0 if fans is None else fans[now]
        why = guard.reason_to_stop(dict(zip(NAMES, (temp, fan), strict=True)), float(now))
        if why:
            return now, why
    return None, ""


def test_a_rise_that_is_too_fast_stops_within_two_samples():
    flicker = [60 + (k % 2) for k in range(20)]
    guard = Guard({NAMES[0]: 99.0}, NAMES, rise_k_per_s=2.0)
    assert watched(guard, flicker)[0] is None
    at, why = watched(guard, [*flicker, 64, 68, 72, 76])
    assert at <= 21
    assert "the guard allows 2 K/s" in why
    slow = [60 + 1.2 * k for k in range(20)]
    assert watched(Guard({NAMES[0]: 99.0}, NAMES, rise_k_per_s=2.0), slow)[0] is None


def test_a_fan_that_stops_under_load_stops_the_run_and_one_that_never_turned_does_not():
    warm = [60.0] * 20
    guard = Guard({}, NAMES, fans=None)
    at, why = watched(guard, warm, [900.0] * 10 + [0.0] * 10)
    assert at == 11
    assert "fan.cpu.speed_rpm stands still" in why
    assert watched(Guard({}, NAMES, fans=None), warm, [0.0] * 20)[0] is None
    assert watched(Guard({}, NAMES, fans=()), warm, [900.0] * 10 + [0.0] * 10)[0] is None
    with pytest.raises(InputError, match="cannot watch"):
        Guard({}, NAMES, fans=["fan.rear.speed_rpm"])


class Order(Wrapped):
    """Notes what is done in which order; has a fan whose duty can be set."""

    def __init__(self, bench):
        super().__init__(bench)
        self.done = []
        outer = self

        class Fan:
            name, what, low, high = "fan.cpu.duty_pct", "duty", 0.0, 100.0

            def read(self):
                return 40.0

            def set(self, value):
                outer.done.append(f"fan {value:g}")

            def check(self):
                return ""

            def restore(self):
                outer.done.append("fan back")

        self.fan = Fan()

    def actuators(self):
        return {**self.bench.actuators(), self.fan.name: self.fan}

    def load(self, spec, *, workers=None):
        outer, load = self, self.bench.load(spec, workers=workers)

        class Load(Wrapped):
            def stop(self):
                outer.done.append("load off")
                self.bench.stop()

        return Load(load)


def test_the_guard_ends_the_load_first_then_raises_fans_then_restores_settings(tmp_path):
    bench = Order(bench_of())
    plan = RunPlan(
        phases=(PlannedPhase("soak", 600),), stop_c={"cpu.package.temp_c": 55.0}, judged=ROOM
    )
    run, outcome = made(bench, plan, tmp_path)
    assert outcome.status == "guard"
    assert bench.done[:2] == ["load off", "fan 100"]
    assert bench.done[-1] == "fan back"
    assert run.phases[-1].name == "cooldown"
    assert any("fan.cpu.duty_pct at 100 %" in event.text for event in run.events)


def test_software_keeps_a_fan_on_its_curve(tmp_path):
    bench = Order(bench_of())
    curve = parse_curve("40: 30, 60: 50, 80 °C: 90 %", "here")
    assert curve.duty_at(70) == 70
    plan = RunPlan(
        phases=(PlannedPhase("idle", 20), PlannedPhase("soak", 120)),
        fan_curves={"fan.cpu.duty_pct": curve}, judged=ROOM,
    )  # fmt: skip
    made(bench, plan, tmp_path)
    duties = [
        float(text.split()[1]) for text in bench.done if text[:4] == "fan " and text != "fan back"
    ]
    assert duties[0] == 90  # until it is known how hot it is
    assert duties[1] == 30
    assert duties[-1] > 45
    assert bench.done[-1] == "fan back"
    for wrong in ("40", "60: 50, 40: 30", "40: 30, 60: 150", "cool: 30, 60: 50"):
        with pytest.raises(InputError, match="here"):
            parse_curve(wrong, "here")
