"""A study carried out: the order, the hands, and taking up again."""

import json
import shutil

import pytest
from click.testing import CliRunner

from gelassen import open_study
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.cli import cli
from gelassen.conduct.planning.order import PlannedRun, order_runs, remaining
from gelassen.conduct.study_run import conduct_study, runs_made, still_to_do
from gelassen.core import InputError
from gelassen.study.file.reader import read_study_file

pytestmark = pytest.mark.xdist_group("processor")  # loads it for real: one after another

STUDY = """\
format = 1
title = "Coolers for the playout box"
made_up = true
baseline = "Brise 120, upright, 45"
[machine]
name = "Playout box"
limit_c = 95
[factors.cooler]
levels = ["Brise 120", "Kiesel 92"]
[factors.box]
levels = ["upright", "flat"]
[factors.power_limit_w]
levels = [45, 65, 95]
changed_by = "software"
channel = "cpu.package.power_limit_w"
[protocol]
idle = 5
soak = 30
hold = 20
cooldown = 0
repeats = 2
"""


@pytest.fixture
def folder(tmp_path):
    text = STUDY
    for cooler in ("Brise 120", "Kiesel 92"):
        for box in ("upright", "flat"):
            for power in (95, 45, 65):
                text += f'[setups."{cooler}, {box}, {power}"]\ncooler = "{cooler}"\nbox = "{box}"\n'
                text += f"power_limit_w = {power}\n"
    study = tmp_path / "coolers"
    study.mkdir()
    (study / "study.toml").write_text(text)
    return study


def bench_of(planned):
    return SimulatedBench(
        cooler=COOLERS[planned.levels["cooler"]], curve=CURVES["on-air"],
        power_limit_w=planned.levels["power_limit_w"], seed=planned.block,
    )  # fmt: skip


def test_hand_changes_are_few_and_software_goes_from_gentle_to_hard(folder):
    runs = order_runs(open_study(folder).file)
    assert len(runs) == 2 * 12 + 2
    assert [run.again for run in runs].count(True) == 2
    assert runs[12].again
    assert runs[12].setup == "Brise 120, upright, 45"
    mountings = [runs[k : k + 3] for k in (*range(0, 12, 3), *range(13, 25, 3))]
    for mounting in mountings:
        assert [run.levels["power_limit_w"] for run in mounting] == [45, 65, 95]
        assert mounting[0].changes
        assert not any(run.changes for run in mounting[1:])
    # Four mountings in a row, one thing changed at a time.
    assert all(len(mounting[0].changes) == 1 for mounting in mountings[1:4])
    assert order_runs(open_study(folder).file) == runs


def test_another_seed_gives_another_order_of_the_same_runs(folder):
    path = folder / "study.toml"
    text = path.read_text()
    orders = []
    for seed in range(1, 7):
        path.write_text(text.replace("repeats = 2", f"repeats = 2\nseed = {seed}"))
        orders.append([run.setup for run in order_runs(open_study(folder).file) if not run.again])
    assert all(sorted(order) == sorted(orders[0]) for order in orders)
    assert len({tuple(order) for order in orders}) > 2


def test_an_ended_session_continues_with_the_first_missing_run(folder):
    study = open_study(folder)
    planned = order_runs(study.file)
    asked = []

    def once(run):
        asked.append(run.setup)
        return len(asked) < 2  # the second time, the tester goes home

    made = list(conduct_study(study, bench_of, operator=once))
    assert [run.planned for run in made] == planned[:3]
    assert all(run.outcome.status == "finished" for run in made)
    held = json.loads((made[1].folder / "run.json").read_text())
    assert held["settings"] == {"cpu.package.power_limit_w": 65}
    assert held["levels"]["box"] == planned[1].levels["box"]
    assert still_to_do(open_study(folder)) == planned[3:]
    more = list(conduct_study(open_study(folder), bench_of, most=2))
    assert [run.planned for run in more] == planned[3:5]
    assert sum(runs_made(open_study(folder)).values()) == 5


def test_crashes_are_results_and_stopped_or_discarded_runs_are_made_again(folder):
    study = open_study(folder)
    planned = order_runs(study.file)
    made = list(conduct_study(study, bench_of, most=4))
    for run, outcome in zip(made[:2], ("stopped", "guard"), strict=True):
        path = run.folder / "run.json"
        path.write_text(json.dumps({**json.loads(path.read_text()), "outcome": outcome}))
    assert open_study(folder).discard("3", "its fans were unplugged") == made[2].folder.name
    left = still_to_do(open_study(folder))
    assert left[0].setup == planned[0].setup
    assert left[1].setup == planned[2].setup
    # The hands are told what differs from what is on the bench now, not from what the plan had there.
    there = planned[3].levels["box"]
    assert tuple(map(str, left[0].changes)) == (f"box: {planned[0].levels['box']} (was {there})",)
    assert not left[1].changes  # the same mounting
    assert tuple(map(str, left[2].changes)) == (f"box: {there} (was {planned[0].levels['box']})",)
    assert "its fans were unplugged" in (folder / "study.toml").read_text()
    assert made[2].folder.exists()
    with pytest.raises(InputError, match="no such run"):
        open_study(folder).discard("77", "x")


def test_what_is_done_is_counted_by_setup():
    runs = [PlannedRun(setup=name, levels={}, block=1) for name in ("a", "b", "a")]
    assert remaining(runs, {"a": 1}) == runs[1:]
    assert remaining(runs, {"a": 5, "b": 1}) == []


def test_the_command_shows_the_plan_and_asks_for_hands(folder):
    shown = CliRunner().invoke(cli, ["run", str(folder), "--dry-run"])
    assert shown.exit_code == 0
    assert (
        "26 runs to make, 24 min on the bench; 9 changes by hand, about 2 h 15 min more"
        in shown.output
    )
    assert "cooler: " in shown.output
    assert not (folder / "runs").exists()
    refused = CliRunner().invoke(cli, ["run", str(folder)])
    assert "nobody is there to confirm them" in str(refused.exception)
    unsaid = CliRunner().invoke(cli, ["run", str(folder), "--discard", "1"])
    assert "say why" in str(unsaid.exception)


def test_a_real_run_of_a_plan_on_this_machine(folder):
    text = STUDY.replace(
        "idle = 5\nsoak = 30\nhold = 20", "idle = 0.5\nsoak = 1\nhold = 1\ninterval = 0.25"
    )
    (folder / "study.toml").write_text(
        text.replace('baseline = "Brise 120, upright, 45"\n', "") + '[setups.now]\nbox = "flat"\n'
    )
    # A machine without sensors, busy with other tests: what the checks find is waived by name.
    waived = [
        f"--waive={name}"
        for name in ("reference", "compared", "power-limit", "background", "idle", "movement")
    ]
    done = CliRunner().invoke(cli, ["run", str(folder), "--yes", "--runs", "1", *waived])
    assert done.exit_code == 0, done.output
    assert "finished: " in done.output
    assert runs_made(open_study(folder)) == {"now": 1}
    shutil.rmtree(folder / "runs")


def test_a_run_that_was_killed_counts_as_the_result_it_is(folder):
    study = open_study(folder)
    made = next(iter(conduct_study(study, bench_of, most=1)))
    path = made.folder / "run.json"
    path.write_text(json.dumps({**json.loads(path.read_text()), "outcome": "recording"}))
    assert still_to_do(open_study(folder)) == order_runs(study.file)[1:]


def test_repeats_stay_on_one_mounting_where_nothing_is_remounted(folder):
    path = folder / "study.toml"
    path.write_text(
        path.read_text().replace(
            "repeats = 2", "repeats = 2\nremount = false\nbaseline_again = false"
        )
    )
    runs = order_runs(open_study(folder).file)
    assert len(runs) == 24
    assert sum(bool(run.changes) for run in runs) == 4
    assert [run.levels["power_limit_w"] for run in runs[:6]] == [45, 45, 65, 65, 95, 95]
    empty = folder / "empty.toml"
    empty.write_text(STUDY.replace('baseline = "Brise 120, upright, 45"\n', ""))
    with pytest.raises(InputError, match="has no setups"):
        order_runs(read_study_file(empty))
