import math

import pytest

from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct import RunPlan, make_demo, plan_phases, record, record_run
from gelassen.core import BenchError, FileError, InputError
from gelassen.study import read_run


def bench_of(**options):
    parts = {"cooler": COOLERS["Brise 120"], "curve": CURVES["on-air"], "power_limit_w": 95.0}
    return SimulatedBench(**{**parts, **options})


class Wrapped:
    """A bench that passes everything on, to be spoiled by a test."""

    def __init__(self, bench):
        self.bench = bench

    def __getattr__(self, name):
        return getattr(self.bench, name)


def test_phases_load_and_grid_are_as_planned(tmp_path):
    plan = RunPlan(phases=plan_phases(60, 300, 120, 60), interval_s=2.0)
    run = record(bench_of(), plan, tmp_path)
    assert run.outcome == "finished"
    assert [(p.name, p.start_s, p.end_s) for p in run.phases] == [
        ("idle", 0, 60), ("soak", 60, 360), ("hold", 360, 480), ("cooldown", 480, 540),
    ]  # fmt: skip
    assert list(run.frame.index[:4]) == [0.0, 2.0, 4.0, 6.0]
    load = run.frame["cpu.all.load_pct"]
    assert load.loc[:59].max() < 10
    assert load.loc[60:479].min() > 90
    assert load.loc[480:].max() < 10


def test_the_guard_stops_keeps_the_data_and_puts_settings_back(tmp_path):
    bench = bench_of()
    plan = RunPlan(
        phases=plan_phases(30, 600, 60, 0),
        stop_c={"cpu.package.temp_c": 60.0},
        settings={"cpu.package.power_limit_w": 125.0},
    )
    folder, outcome = record_run(bench, plan, tmp_path, label="hot")
    run = read_run(folder)
    assert outcome.status == run.outcome == "guard"
    assert "cpu.package.temp_c reached 60.0 °C" in outcome.text
    cooldown = run.phases[-1]
    assert cooldown.name == "cooldown"
    hot = run.frame["cpu.package.temp_c"].loc[: cooldown.start_s]
    assert hot.iloc[-1] >= 60  # the reading that decided is kept
    assert (hot < 60).iloc[:-1].all()  # and no sample was lost on it
    assert run.frame["cpu.package.temp_c"].iloc[-1] <= 45  # the heat was let out, and recorded
    assert bench.actuators()["cpu.package.power_limit_w"].read() == 95
    bench.sleep(5)
    assert bench.read()["cpu.all.load_pct"] < 10


class GoesSilent(Wrapped):
    def read(self):
        values = dict(self.bench.read())
        if self.bench.now() > 40:
            values["cpu.package.temp_c"] = math.nan
        return values

    def failures(self):
        return {"cpu.package.temp_c": 5}


def test_a_limit_that_cannot_be_watched_is_a_limit_passed(tmp_path):
    plan = RunPlan(phases=plan_phases(20, 600, 0, 0), stop_c={"cpu.package.temp_c": 99.0})
    folder, outcome = record_run(GoesSilent(bench_of()), plan, tmp_path, label="silent")
    assert outcome.status == "guard"
    assert "gave no reading" in outcome.text
    run = read_run(folder)
    soak = next(phase for phase in run.phases if phase.name == "soak")
    assert soak.end_s <= 42.5  # two samples without a reading, and no more
    assert any("failed 5 times" in text for text in run.cautions)


def test_one_silent_sensor_ends_no_run_that_nobody_asked_to_watch_it(tmp_path):
    watched = {"cpu.package.temp_c": 99.0, "cpu.core0.temp_c": 99.0}
    plan = RunPlan(phases=plan_phases(20, 60, 0, 0), stop_c=watched, stop_each=False)
    _, outcome = record_run(GoesSilent(bench_of()), plan, tmp_path, label="one")
    assert outcome.status == "finished"
    plan = RunPlan(phases=plan.phases, stop_c={"cpu.package.temp_c": 99.0}, stop_each=False)
    _, outcome = record_run(GoesSilent(bench_of()), plan, tmp_path, label="all")
    assert outcome.status == "guard"


class Interrupted(Wrapped):
    def read(self):
        if self.bench.now() > 100:
            raise KeyboardInterrupt
        return self.bench.read()


def test_a_run_stopped_by_the_user_is_kept(tmp_path):
    bench = Interrupted(bench_of())
    folder, outcome = record_run(
        bench, RunPlan(phases=plan_phases(20, 600, 0, 0)), tmp_path, label="x"
    )
    assert outcome.status == "stopped"
    run = read_run(folder)
    assert len(run.frame) == 101
    assert run.phases[-1].name == "soak"
    assert (folder / "samples.parquet").exists()


class Slow(Wrapped):
    def read(self):
        self.bench.sleep(2.5 if 50 < self.bench.now() < 60 else 0)
        return self.bench.read()


def test_late_samples_are_counted_not_hidden(tmp_path):
    folder, outcome = record_run(
        Slow(bench_of()), RunPlan(phases=plan_phases(0, 120, 0, 0)), tmp_path, label="slow"
    )
    run = read_run(folder)
    assert outcome.missed_samples >= 4
    assert any("not taken, as the machine was too busy" in text for text in run.cautions)
    assert run.frame.index.is_monotonic_increasing


class Broken(Wrapped):
    def load(self, name, *, workers=None):
        load = self.bench.load(name)

        class Exits(Wrapped):
            def problem(self):
                return "1 of 2 workers of the load have ended" if bench.now() > 60 else ""

        bench = self.bench
        return Exits(load)


def test_a_load_that_exits_ends_the_run_with_what_it_has(tmp_path):
    folder, outcome = record_run(
        Broken(bench_of()), RunPlan(phases=plan_phases(10, 300, 0, 0)), tmp_path, label="x"
    )
    assert outcome.status == "failed"
    assert "workers" in outcome.text
    assert len(read_run(folder).frame) > 50


@pytest.mark.parametrize(
    ("plan", "error"),
    [
        ({"load": "game"}, InputError),
        ({"stop_c": {"cpu.pakage.temp_c": 90.0}}, InputError),
        ({"settings": {"cpu.package.power_limit_w": 9000.0}}, BenchError),
    ],
)
def test_a_plan_that_cannot_be_carried_out_leaves_nothing_behind(tmp_path, plan, error):
    bench = bench_of()
    with pytest.raises(error):
        record_run(bench, RunPlan(phases=plan_phases(1, 1, 0, 0), **plan), tmp_path, label="x")
    assert list(tmp_path.iterdir()) == []
    assert bench.actuators()["cpu.package.power_limit_w"].read() == 95
    with pytest.raises(InputError, match="needs a load"):
        plan_phases(10, 0, 0, 10)


def test_the_demo_refuses_a_folder_that_is_not_empty(tmp_path):
    (tmp_path / "mine.txt").write_text("keep")
    with pytest.raises(FileError, match="not empty; nothing was written.*Choose another"):
        make_demo(tmp_path)
    assert [p.name for p in tmp_path.iterdir()] == ["mine.txt"]
