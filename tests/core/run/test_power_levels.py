"""A load whose power goes in steps: the usual way to a capacity, in one log."""

import json

import numpy as np
import pandas as pd
import pytest
from click.testing import CliRunner

from gelassen.answers import open_study
from gelassen.answers.capacities import CapacityAsked, find_capacities
from gelassen.answers.rows.power_steps import at_one_power
from gelassen.answers.rows.run_row import RunRow, run_row
from gelassen.bench.simulated import COOLERS, CURVES, Processor, SimulatedBench
from gelassen.cli import cli
from gelassen.conduct import RunPlan, plan_phases, record_run
from gelassen.core import Recording, find_throttling, summarise_run
from gelassen.core.foundation.errors import InputError
from gelassen.core.recording.load_span import span_from_level
from gelassen.intake import store
from gelassen.study import read_run

LEVELS_W = (45.0, 65.0, 95.0, 125.0)
K_PER_W = 0.12 + 0.06 + 0.25


def staircase(
    levels_w=LEVELS_W, *, minutes=20, idle_s=120, fins_k_per_w=0.25, limit_c=None, seed=1
):
    """Step a chip, its base and its fins through levels of power; a governor holds the limit if given."""
    rng = np.random.default_rng(seed)
    wanted = np.concatenate([np.full(idle_s, 8.0), np.repeat(levels_w, 60 * minutes)])
    room = 22 + 0.5 * np.sin(np.arange(wanted.size) / 3000)
    part, allowed = np.full(3, 22.0), np.inf
    rows = []
    for k, watts in enumerate(wanted):
        if limit_c is not None and (part[0] > limit_c - 1 or np.isfinite(allowed)):
            allowed = min(watts, allowed) + (limit_c - 0.3 - part[0])
            allowed = np.inf if allowed > watts + 5 else allowed
        drawn = min(watts, allowed)
        for _ in range(2):
            flows = np.append(-np.diff(part), part[2] - room[k]) / (0.12, 0.06, fins_k_per_w)
            part = part + 0.5 * (np.append(drawn, flows[:2]) - flows) / (15.0, 120.0, 500.0)
        rows.append((part[0], drawn))
    hot, power = np.array(rows).T
    return pd.DataFrame(
        {
            "cpu.package.temp_c": np.round(hot + rng.normal(0, 0.4, hot.size)),
            "room.air.temp_c": np.round(room, 1),
            "cpu.package.power_w": np.round(power + rng.normal(0, 0.3, hot.size), 1),
            "cpu.all.clock_mhz": np.where(wanted > 10, 4600 * (power / 150) ** 0.4, 1200.0)
            + rng.normal(0, 4, hot.size),
            "cpu.all.load_pct": np.where(wanted > 10, 100.0, 1.0),
        },
        index=pd.Index(np.arange(hot.size, dtype=float), name="t_s"),
    )


@pytest.mark.parametrize(
    ("levels_w", "minutes"),
    [(LEVELS_W, 20), (LEVELS_W[::-1], 20), ((65.0, 125.0), 20), ((35.0, 50.0, 65.0, 80.0, 95.0), 8),
     ((90.0, 95.0, 100.0), 20)],
)  # fmt: skip
def test_each_level_is_answered_by_itself(levels_w, minutes):
    frame = staircase(levels_w, minutes=minutes)
    summary = summarise_run(Recording(frame=frame), limit_c=95)
    assert summary.load_s[0] == pytest.approx(120, abs=3)
    assert [step.at_s for step in summary.steps] == pytest.approx(
        [120 + 60 * minutes * k for k in range(1, len(levels_w))], abs=2
    )
    assert [level.power_w for level in summary.levels] == pytest.approx(levels_w, rel=0.01)
    for level, stretch in zip(summary.levels, summary.stretches, strict=True):
        low, high = stretch.steady.low - 0.3, stretch.steady.high + 0.3
        assert low <= K_PER_W * level.power_w <= high
    # Means over the hold and the steady value are those of the same level.
    assert summary.power_w == pytest.approx(levels_w[-1], rel=0.01)
    assert summary.steady.value == pytest.approx(K_PER_W * levels_w[-1], abs=1.0)


def test_a_level_beyond_the_limit_is_held_and_the_others_are_not():
    frame = staircase((65.0, 95.0, 125.0), fins_k_per_w=0.45, limit_c=95.0)
    summary = summarise_run(Recording(frame=frame), limit_c=95)
    assert [level.at_limit for level in summary.levels] == [False, False, True]
    assert summary.levels[-1].power_w == pytest.approx(73 / 0.63, rel=0.02)
    lost = summary.held_back
    assert 3 < lost.power_pct < 12  # against what the same level drew, not against lower ones


def test_a_small_clock_cut_at_the_limit_is_found():
    frame = staircase((120.0,), fins_k_per_w=0.45, limit_c=95.0)
    held = find_throttling(
        frame.index, temperature_c=frame["cpu.package.temp_c"], limit_c=95,
        clock_mhz=frame["cpu.all.clock_mhz"], power_w=frame["cpu.package.power_w"],
        load_pct=frame["cpu.all.load_pct"],
    )  # fmt: skip
    clock = frame["cpu.all.clock_mhz"].to_numpy()
    assert 1 - np.median(clock[-300:]) / np.median(clock[150:400]) < 0.03
    assert held.thermal[-300:].mean() > 0.9
    assert not held.thermal[:400].any()


def test_lower_steps_belong_to_the_load_and_rest_does_not():
    times = np.arange(4000.0)
    power = np.where(times < 600, 9.0, np.where(times < 1800, 40.0, 120.0))
    power[3600:] = 9.0
    span = span_from_level(times, power)
    assert (span.start_s, span.end_s) == (600.0, 3599.0)
    power[(times > 300) & (times < 420)] = 30.0  # something short while it was to rest
    assert span_from_level(times, power).start_s == 600.0


def test_capacity_from_one_imported_log_of_levels(tmp_path):
    frame = staircase().reset_index()
    frame.columns = ["Time (s)", "CPU Package (C)", "Room (C)", "Package Power (W)",
                     "CPU Clock (MHz)", "CPU Load (%)"]  # fmt: skip
    frame.to_csv(tmp_path / "log.csv", index=False)
    run = CliRunner()
    study = str(tmp_path / "study")
    done = run.invoke(
        cli, ["import", str(tmp_path / "log.csv"), "--study", study, "--setup", "tower",
              "--new-setup", "--limit", "95", "--yes"],
    )  # fmt: skip
    assert "idle: 0 to 120 s" in done.output
    answer = json.loads(
        run.invoke(cli, ["capacity", study, "--format", "json", "--no-figure"]).output
    )
    (setup,) = answer["setups"]
    assert setup["low_w"] <= 70 / K_PER_W <= setup["high_w"]
    # The capacity lies a quarter beyond the highest level, and less may be held there.
    assert setup["capacity_w"] - setup["low_w"] < 0.15 * setup["capacity_w"]
    assert setup["high_w"] - setup["capacity_w"] < 0.1 * setup["capacity_w"]
    assert "usual_remounting_of_capacity" in {one["code"] for one in answer["cautions"]}


def test_levels_of_one_run_share_a_mounting():
    rows = []
    for seed, setup in ((2, "tower"), (3, "other tower")):
        fins = 0.25 * (1.01 if seed == 3 else 1.0)  # 0.3 K at 125 W: less than remounting moves
        frame = staircase(minutes=10, fins_k_per_w=fins, seed=seed)
        recording = Recording(frame=frame, setup=setup, name=setup, limit_c=95.0)
        rows.append(run_row(recording, summarise_run(recording)))
    asked = {"groups": {}, "limit_c": 95.0, "room_c": 25.0, "at_power_w": None, "confidence": 0.95}
    found = find_capacities(rows, [], CapacityAsked(title="", made_up=True, **asked))
    assert not found.differences["distinguishable"].any()
    width = (found.setups["high_w"] - found.setups["low_w"]) / found.setups["capacity_w"]
    assert (width > 2 * 1.96 * 0.5 / 57).all()


@pytest.fixture(scope="module")
def stepped_study(tmp_path_factory):
    """Two setups, two logs of levels each; the passive one cannot hold the last level."""
    folder = tmp_path_factory.mktemp("stepped")
    run = CliRunner()
    for setup, fins in (("tower", 0.25), ("fins", 0.55)):
        for seed in (1, 2):
            frame = staircase(
                (65.0, 95.0, 125.0), minutes=12, fins_k_per_w=fins, limit_c=95.0, seed=seed
            )
            frame.reset_index().to_csv(folder / f"{setup}-{seed}.csv", index=False)
        logs = [str(folder / f"{setup}-{seed}.csv") for seed in (1, 2)]
        done = run.invoke(
            cli, ["import", *logs, "--each", "--study", str(folder / "study"), "--setup", setup,
                  "--new-setup", "--limit", "95", "--yes"],
        )  # fmt: skip
        assert done.exit_code == 0, done.output
    return open_study(folder / "study")


def test_setups_are_compared_at_the_highest_level_that_all_hold(stepped_study):
    found = stepped_study.compare(baseline="tower")
    assert found.setups["power_w"].to_numpy() == pytest.approx(95.0, rel=0.01)
    (row,) = found.differences.to_dict("records")
    assert row["difference"] == pytest.approx(0.3 * 95, abs=1.0)
    assert row["distinguishable"]
    assert any("compared at 95 W" in text for text in found.cautions)
    assert found.comparability.odd_runs.empty


def test_each_level_has_its_answer_and_a_held_level_is_the_next_one_up(stepped_study):
    answer = CliRunner().invoke(
        cli,
        [
            "compare",
            str(stepped_study.folder),
            "--loads",
            "--baseline",
            "tower",
            "--format",
            "json",
            "--no-figure",
        ],
    )
    found = json.loads(answer.output[answer.output.index("{") :])
    held = {(row["load"], row["setup"]): row["at_limit"] for row in found["setups"]}
    loads = ("65 W", "95 W", "125 W")
    assert held == {
        (load, s): (load, s) == ("125 W", "fins") for load in loads for s in ("tower", "fins")
    }
    # What a level read is its own, not that of the whole run.
    tower = {row["load"]: row for row in found["setups"] if row["setup"] == "tower"}
    for load in loads:
        assert tower[load]["highest_k"] == pytest.approx(tower[load]["rise_k"], abs=1.5)
        assert tower[load]["mean_k"] < tower[load]["highest_k"]
    apart = {row["load"]: row for row in found["differences"]}
    assert apart["65 W"]["difference_k"] == pytest.approx(0.3 * 65, abs=1.0)
    # The levels of a run share its mounting: their mean is no surer than each.
    widths = {load: row["difference_k"] - row["low_k"] for load, row in apart.items()}
    assert widths["over all loads"] == pytest.approx(np.mean([widths[x] for x in loads]), rel=1e-6)
    course = stepped_study.along("power_w", where={"setup": "tower"})
    assert course.levels["x"].to_numpy() == pytest.approx([65, 95, 125], rel=0.01)
    with pytest.raises(InputError, match="they differ in something else"):
        stepped_study.along("power_w")


def test_separate_runs_at_several_powers_are_levels_and_an_odd_run_is_not():
    def row(run, setup, power_w, value=40.0):
        return RunRow(
            run=run, setup=setup, power_w=power_w, value=value, low=value - 1, high=value + 1
        )

    rows = [row(f"{s}{w}", s, w) for s in "ab" for w in (45.0, 65.0, 95.5)]
    kept, left, said = at_one_power(rows, [])
    assert [r.run for r in kept] == ["a95.5", "b95.5"]
    assert len(left) == 4
    assert "compared at 96 W" in said[0]
    odd = [row(f"{s}{k}", s, 95.0 - 20 * (s == "a" and k == 0)) for s in "ab" for k in range(3)]
    assert at_one_power(odd, []) == (odd, [], ())


def test_a_log_with_rests_between_its_loads_becomes_one_run_a_load(tmp_path):
    parts = [
        staircase((w,), minutes=8, idle_s=420, seed=k) for k, w in enumerate((65.0, 95.0, 125.0))
    ]
    frame = pd.concat(parts, ignore_index=True).rename_axis("t_s").reset_index()
    frame.to_csv(tmp_path / "day.csv", index=False)
    run, study = CliRunner(), str(tmp_path / "study")
    into = [
        "import",
        str(tmp_path / "day.csv"),
        "--study",
        study,
        "--new-setup",
        "--limit",
        "95",
        "--yes",
    ]
    done = run.invoke(cli, [*into, "--every-load", "--setup", "a", "--setup", "b"])
    assert "2 setups for 3 runs" in str(done.exception)
    done = run.invoke(cli, [*into, "--every-load", "--setup", "a", "--setup", "b", "--setup", "a"])
    assert (
        "load 2 of 3: 95 W, from 900 s of the log on: 8 min under load, 7 min before it"
        in done.output
    )
    recordings = [open_study(study).run(str(number)) for number in (1, 2, 3)]
    assert [r.setup for r in recordings] == ["a", "b", "a"]
    for recording, whole in zip(recordings, parts, strict=True):
        start, end = recording.load_span_s()
        assert (end - start) == pytest.approx(8 * 60, abs=2)
        name = "cpu.package.temp_c"
        taken = recording.frame[name].loc[start:end]
        assert taken.to_numpy()[5:-5] == pytest.approx(whole[name].to_numpy()[-480:][5:-5])
    originals = sorted((tmp_path / "study" / "runs").glob("*/original.csv"))
    assert len(originals) == 3
    assert all(path.read_bytes() == (tmp_path / "day.csv").read_bytes() for path in originals)
    told = run.invoke(cli, [*into, "--every-load", "--load-start", "9", "--setup", "a"])
    assert "leave --load-start" in str(told.exception)


def test_an_import_that_fails_half_way_leaves_nothing_and_can_be_made_again(tmp_path, monkeypatch):
    parts = [staircase((w,), minutes=5, idle_s=320) for w in (65.0, 95.0)]
    frame = pd.concat(parts, ignore_index=True).rename_axis("t_s").reset_index()
    frame.to_csv(tmp_path / "day.csv", index=False)
    into = ["import", str(tmp_path / "day.csv"), "--every-load", "--study", str(tmp_path / "study"),
            "--setup", "a", "--new-setup", "--limit", "95", "--yes"]  # fmt: skip
    real, calls = store.store_recording, []

    def full(*given, **named):
        calls.append(1)
        if len(calls) == 2:
            raise OSError(28, "No space left on device")
        return real(*given, **named)

    monkeypatch.setattr(store, "store_recording", full)
    failed = CliRunner().invoke(cli, into)
    assert "No space left" in str(failed.exception)
    assert not list((tmp_path / "study" / "runs").iterdir())
    again = CliRunner().invoke(cli, into)
    assert again.output.count("stored as") == 2


def test_power_that_a_governor_takes_and_gives_back_at_the_limit_is_no_level(tmp_path):
    """A governor that overshoots takes too much at first: neither load nor conditions changed."""
    bench = SimulatedBench(
        cooler=COOLERS["Kiesel 92"],
        curve=CURVES["on-air"],
        processor=Processor(limit_c=68.0),
        seed=1,
    )
    plan = RunPlan(phases=plan_phases(60, 1200, 300, 60), interval_s=2.0)
    folder, _ = record_run(bench, plan, tmp_path, label="held", limit_c=68.0)
    found = summarise_run(read_run(folder))
    assert found.throttling.at_limit
    assert found.levels == ()
    assert found.steps == ()
