import subprocess
import sys

import pytest

from gelassen import open_study
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct import RunPlan, plan_phases, record_run
from gelassen.core import FileError, InputError
from gelassen.study.file.new_study import ensure_setup
from gelassen.study.file.toml_place import line_of

pytestmark = pytest.mark.xdist_group("study")  # their study is made once


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """Two coolers, two runs each, one more that was too short."""
    study = tmp_path_factory.mktemp("study") / "cooling"
    for cooler, setup in (("Brise 120", "tower"), ("Kiesel 92", "low")):
        ensure_setup(study, setup, limit_c=95.0, new_setup=True, made_up=True)
        for seed in (1, 2):
            bench = SimulatedBench(
                cooler=COOLERS[cooler], curve=CURVES["off-air"], power_limit_w=95, seed=seed
            )
            plan = RunPlan(phases=plan_phases(60, 900, 300, 0))
            record_run(bench, plan, study / "runs", label=setup, setup=setup, power_limit_w=95)
    plan = RunPlan(phases=plan_phases(10, 60, 0, 0))
    record_run(bench, plan, study / "runs", label="low", setup="low")
    return study


def test_a_study_compares_its_runs_and_leaves_out_what_says_nothing(folder):
    comparison = open_study(folder).compare(baseline="low")
    assert list(comparison.setups["setup"]) == ["tower", "low"]
    row = comparison.setups.iloc[0]
    assert row["distinguishable"]
    tower, low = (
        SimulatedBench(
            cooler=COOLERS[name], curve=CURVES["off-air"], power_limit_w=95, remount_spread=0
        ).truth()
        for name in ("Brise 120", "Kiesel 92")
    )
    assert row["difference_k"] == pytest.approx(tower.rise_k - low.rise_k, abs=1.2)
    assert comparison.left_out == (("005-low", "too short to tell where it settles"),)
    assert comparison.made_up
    assert comparison.unit == "K"
    assert comparison.to_dict()["runs"][0]["power_w"] == pytest.approx(95, abs=1)


def test_without_a_baseline_every_pair_is_compared_once(folder):
    comparison = open_study(folder / "study.toml").compare()
    assert len(comparison.differences) == 1
    assert "difference_k" not in comparison.setups.columns
    with pytest.raises(InputError, match='"lo" is not a setup of this study.*mean "low"'):
        open_study(folder).compare(baseline="lo")


def test_runs_are_found_by_name_or_number(folder):
    study = open_study(folder)
    assert study.run("003-low").setup == study.run("003").setup == study.run("3").setup == "low"
    assert study.run("1").limit_c == 95
    with pytest.raises(InputError, match='no run "9".*'):
        study.run("9")


def test_an_empty_study_says_so(tmp_path):
    ensure_setup(tmp_path / "new", "tower", limit_c=90)
    assert open_study(tmp_path / "new").file.machine.limit_c == 90
    with pytest.raises(InputError, match="it has no runs yet"):
        open_study(tmp_path / "new").compare()


def test_a_study_grows_only_when_told_to(tmp_path):
    with pytest.raises(InputError, match="--limit 95"):
        ensure_setup(tmp_path / "new", "tower")
    ensure_setup(tmp_path / "new", 'tower "B"', limit_c=90)
    before = (tmp_path / "new/study.toml").read_text()
    with pytest.raises(InputError, match="--new-setup"):
        ensure_setup(tmp_path / "new", "low")
    assert (tmp_path / "new/study.toml").read_text() == before
    ensure_setup(tmp_path / "new", "low", new_setup=True)
    ensure_setup(tmp_path / "new", "low")
    assert list(open_study(tmp_path / "new").file.setups) == ['tower "B"', "low"]
    (tmp_path / "other").mkdir()
    (tmp_path / "other/letter.txt").write_text("dear")
    with pytest.raises(FileError, match="is not a study and is not empty; nothing was written"):
        ensure_setup(tmp_path / "other", "tower", limit_c=90)


def test_recording_into_a_study_from_the_command_line(tmp_path):
    def record(*options):
        command = [sys.executable, "-c", "from gelassen.cli import main; main()", "record"]
        lengths = ["--idle", "0", "--soak", "0.6s", "--hold", "0", "--cooldown", "0"]
        command += [
            *lengths,
            "--interval",
            "0.2s",
            "--workers",
            "1",
            *options,
        ]  # the last one counts
        return subprocess.run(command, capture_output=True, text=True, timeout=60)

    study = str(tmp_path / "mine")
    missing = record("--study", study, "--setup", "tower")
    assert (missing.returncode, (tmp_path / "mine").exists()) == (2, False)
    done = record("--study", study, "--setup", "tower", "--limit", "95")
    assert done.returncode == 0, done.stderr
    assert "001-tower: tower" in done.stdout
    run = open_study(study).run("1")
    assert run.setup == "tower"
    assert len(run.frame) == 3
    file = tmp_path / "mine/study.toml"
    text = file.read_text()
    file.write_text(text + '\n[guard.stop_c]\n"cpu.pump.temp_c" = 60\n')
    guarded = record("--study", study, "--setup", "tower")
    assert guarded.returncode == 2
    assert 'cannot watch "cpu.pump.temp_c"' in guarded.stderr
    file.write_text(text + '\n[protocol]\ninterval = "100 s"\n')
    assert (
        "the interval is 100 s"
        in record("--study", study, "--setup", "tower", "--interval", "100s").stderr
    )
    file.write_text(text)
    wrong = record("--study", study, "--setup", "towr")
    assert wrong.returncode == 2
    assert 'mean "tower"?' in wrong.stderr
    silent = record("--study", study, "--setup", "tower", "--stop", "cpu.pump.temp_c=60")
    assert silent.returncode == 2
    assert len(list((tmp_path / "mine/runs").iterdir())) == 1


@pytest.mark.parametrize(
    ("loc", "line"),
    [(["a"], 2), (["s", "b"], 5), (["s", "deep", "c"], 8), (["s", "q d"], 6), (["none"], 1)],
)
def test_keys_are_found_in_their_lines(loc, line):
    text = '# note\na = 1\n\n[s]\nb = 2\n"q d" = 3\n[s.deep]  # sub\nc = 4\n'
    assert line_of(text, loc) == line
