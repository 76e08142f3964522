import io
import json
import shutil
import subprocess
import sys

import numpy as np
import pandas as pd
import pytest

from command_line import gelassen, gelassen_apart, ok
from gelassen import open_study, summarise_run
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.bench.simulated.parts import FanCurve, Processor
from gelassen.conduct import RunPlan, plan_phases, record_run
from gelassen.conduct.demo import _conduct, _runs

pytestmark = pytest.mark.xdist_group("demo")  # it is made once


def test_the_demo_answers_in_words_numbers_and_figures(demo):
    folder, out = demo
    assert "made-up sample data" in out
    assert "is the coolest" in out or "share the first rank" in out
    assert "sat at the limit of 95 °C" in out
    assert "Try next" in out
    assert len(list((folder / "runs").iterdir())) == 36
    for figure in (folder / "figures").iterdir():
        assert figure.read_bytes().startswith(b"\x89PNG")
    assert len(list((folder / "figures").iterdir())) == 2
    again = gelassen("demo", folder)
    assert again.returncode == 2
    assert "not empty" in again.stderr
    assert "Choose another folder" in again.stderr


def test_the_demo_finds_the_truth_of_its_simulation(demo):
    folder, _ = demo
    answer = json.loads(ok("compare", folder, "--no-figure", "--format", "json"))
    setups = {row["setup"]: row for row in answer["setups"]}
    inside = []
    rooms: dict[str, list[float]] = {}
    study = open_study(folder)
    for run in (study.run(path.name) for path in study.run_folders()):
        start, end = run.load_span_s()
        room = run.frame.loc[start:end, "room.air.temp_c"].mean()
        rooms.setdefault(run.setup, []).append(float(room))
    for name, row in setups.items():
        cooler, curve, power = name.split(", ")
        truth = SimulatedBench(
            cooler=COOLERS[cooler],
            curve=CURVES[curve],
            power_limit_w=float(power.split()[0]),
            remount_spread=0.0,
        ).truth(room_c=float(np.mean(rooms[name])))  # fans on curves: the rise depends on the room
        assert row["at_limit"] == truth.at_limit
        if not truth.at_limit:
            assert row["rise_k"] == pytest.approx(truth.rise_k, abs=1.0)
            inside.append(row["low_k"] <= truth.rise_k <= row["high_k"])
        else:
            assert row["high_k"] is None  # infinite: it would be warmer if it could
            assert row["power_w"] == pytest.approx(truth.power_w, rel=0.06)
    assert np.mean(inside) >= 0.8


def test_setups_under_curves_that_react_are_compared_at_equal_fan_speed(demo):
    folder, _ = demo
    rows = json.loads(ok("compare", folder, "--equal", "fan_rpm", "--format", "json"))
    assert len(rows) == 6  # no fan speed is common to all at 125 W, nor at 65 W
    for row in rows:
        name, power = row["setup"].split(", ")
        cooler, chip = COOLERS[name], Processor(limit_c=200.0)
        duty = 100.0 * row["at"] / cooler.top_rpm
        curve = FanCurve(name="flat", temperatures_c=(0.0, 100.0), duties_pct=(duty, duty))
        truth = SimulatedBench(
            cooler=cooler,
            curve=curve,
            power_limit_w=float(power),
            remount_spread=0.0,
            processor=chip,
        ).truth(room_c=22.5)
        assert row["low_k"] - 0.2 <= truth.rise_k <= row["high_k"] + 0.2
        assert row["passes_limit"] == (name == "Kiesel 92" and power == "125")
        if row["difference_low_k"] is not None:
            assert row["distinguishable"] == (row["difference_low_k"] > 0)
    # Mounted once, a cooler may be off by what a mounting moves it by.
    once = open_study(folder).at_equal(
        "fan_rpm", leave_out={f"{k:03d}": "later" for k in range(13, 37)}
    )
    known = once.dropna(subset="low_k")
    assert (known["high_k"] - known["low_k"] > 1.5).all()
    at_125 = ok("compare", folder, "--equal", "fan_rpm", "--where", "power_limit_w=125")
    assert "Kiesel 92, 65" not in at_125
    assert "It would pass its temperature limit" in at_125
    assert "010-kiesel-92-on-air-125-w: at its temperature limit" in at_125
    nowhere = gelassen("compare", folder, "--equal", "fan_rpm", "--at", "5000")
    assert nowhere.returncode == 2
    assert "no setup was run at fan_rpm 5000 (Tarn 240: 623.1 to 1371" in nowhere.stderr


def test_a_study_shows_itself(demo, tmp_path):
    study = open_study(demo[0])
    line = "Study A cooler for the playout box: 12 setups, 36 runs, made-up sample data"
    assert repr(study) == f"<{line}>"
    assert study._repr_html_() == f"<pre>{line}</pre>"
    page = study.report(tmp_path / "page.html").read_text(encoding="utf-8")
    assert '<h2 id="h-fans">Fan curves</h2>' in page
    assert "Tarn 240: from 623 to 1371 rpm, more fan speed pays throughout." in page
    text = study.report(tmp_path / "page.md").read_text(encoding="utf-8")
    assert text.startswith("# A cooler for the playout box")
    figures = study.figures()
    assert set(figures) == {
        "setups", "differences", "order", "unlike", "effects", "repeatability", "capacity", "fan curves",
    }  # fmt: skip
    assert len({axes.figure for axes in figures.values()}) == 8
    below = "A cooler for the playout box  ·  36 runs  ·  2026-"
    assert all(axes.figure.texts[-1].get_text().startswith(below) for axes in figures.values())


def test_how_much_is_said_and_where_the_answer_goes(demo, tmp_path):
    folder, _ = demo
    plain = gelassen("compare", folder)
    assert "figure: " in plain.stderr
    quiet = gelassen("-q", "compare", folder, "-o", tmp_path / "answer.txt")
    assert quiet.stdout == quiet.stderr == ""
    assert (tmp_path / "answer.txt").read_text(encoding="utf-8") == plain.stdout
    told = gelassen_apart("compare", folder, "-v", "--no-figure", "--format", "csv")
    assert "36 kept analyses, 0 new" in told.stderr
    assert told.stdout.startswith("setup,")
    run = next((folder / "runs").iterdir())
    shown = gelassen("show", run, "--no-figure", "-o", tmp_path / "run.txt")
    assert run.name in (tmp_path / "run.txt").read_text(encoding="utf-8")
    assert shown.stdout == ""
    wrong = gelassen("compare", folder, "--baseline", "nix", "-o", tmp_path / "none.txt")
    assert wrong.returncode == 2
    assert not (tmp_path / "none.txt").exists()
    nowhere = gelassen("compare", folder, "-o", tmp_path / "no/such/file.txt")
    assert nowhere.returncode == 2
    assert "cannot be written" in nowhere.stderr


def test_same_seed_same_numbers(demo, tmp_path):
    folder, _ = demo
    runs = list(_runs(1))
    for number in (1, 20):
        again = runs[number - 1]
        _conduct(tmp_path, again)
        first, second = (
            pd.read_parquet(next(place.glob(f"{number:03d}-*")) / "samples.parquet")
            for place in (folder / "runs", tmp_path)
        )
        pd.testing.assert_frame_equal(first, second)


@pytest.fixture(scope="module")
def small(demo, tmp_path_factory):
    """The sample study with a third of its runs."""
    folder, _ = demo
    part = tmp_path_factory.mktemp("small") / "study"
    shutil.copytree(folder, part, ignore=shutil.ignore_patterns("*-65-w", "*tarn*", "figures"))
    return part


def test_compare_gives_the_same_numbers_in_every_form(small):
    base = ("compare", small, "--no-figure", "--baseline", "Brise 120, on-air, 125 W")
    answer = json.loads(ok(*base, "--format", "json"))
    table = pd.read_csv(io.StringIO(ok(*base, "--format", "csv")))
    assert list(table["setup"]) == [row["setup"] for row in answer["setups"]]
    assert table["rise_k"].to_numpy() == pytest.approx([row["rise_k"] for row in answer["setups"]])
    text, markdown = ok(*base), ok(*base, "--format", "markdown")
    for row in answer["setups"]:
        assert f"{row['rise_k']:.1f}" in text
        assert f"| {row['setup']} | {row['rise_k']:.1f}" in markdown
    rises = [row["rise_k"] for row in answer["setups"] if not row["at_limit"]]
    assert rises == sorted(rises)
    assert "baseline" in text
    assert "At 125 W, " in text
    limited = next(row for row in answer["setups"] if row["at_limit"])
    assert limited["difference_high_k"] is None
    assert limited["difference_low_k"] > 5


def test_a_run_that_cannot_be_used_is_left_out_and_said(small, tmp_path):
    study = tmp_path / "study"
    shutil.copytree(small, study)
    runs = sorted((study / "runs").iterdir())
    (runs[0] / "samples.parquet").write_bytes(b"spoilt")
    (runs[1] / "run.json").unlink()
    (study / "runs" / "099-empty").mkdir()
    out = ok("compare", study, "--no-figure")
    assert f"left out\n  - {runs[0].name}: " in out
    assert "\n  - 099-empty: no run in this folder" in out


def test_show_tells_one_run(demo):
    folder, _ = demo
    run = next((folder / "runs").glob("*kiesel-92-on-air-125-w"))
    out = ok("show", run)
    assert "sat at its temperature limit" in out
    assert (folder / "figures" / f"{run.name}.png").exists()
    summary = json.loads(ok("show", run, "--format", "json", "--no-figure"))
    assert summary["throttling"]["at_limit"] is True
    assert summary["reference"] == "room.air.temp_c"
    assert "channel,hold_mean" in ok("show", run, "--format", "csv", "--no-figure")
    printed = str(summarise_run(open_study(folder).run(run.name)))
    assert "reached its limit, " in printed
    assert "settles at" not in printed


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (
            ["compare", "{demo}", "--baseline", "Brise 120, onair, 65 W"],
            'mean "Brise 120, on-air, 65 W"?',
        ),
        (["compare", "{demo}/runs"], "is not a study"),
        (["compare", "{demo}/none"], "there is no such folder"),
        (["show", "{demo}/none"], "there is no such file"),
        (["show", "{demo}"], "is a study, not a run. Show one of its runs, such as"),
        (["import", "{demo}", "{demo}/none"], "is a study, not a log. To take logs into it"),
        (
            ["import", "{demo}/study.toml", "{demo}/none"],
            " --study '",
        ),  # its folder's name has a space
        (["show", "{demo}/figures"], "holds no run"),
        (["show", "{run}", "--channel", "cpu.core99.temp_c"], "was not logged"),
        (["show", "{run}", "--channel", "fan.cpu.speed_rpm"], "is not a temperature"),
        (["channels", "--sysfs", "{demo}"], "does not look like /sys"),
        (["channels", "--store"], "add --study FOLDER, and --together or --sweep"),
        (["channels", "--together", "room.air.temp_c"], "is not a channel here"),
        (["record", "--load-command", "foo 'bar"], "is not a command (No closing quotation)"),
        (["record", "--set", "x"], "write it like cpu.package.power_limit_w=65"),
        (["record", "--set", "cpu.pakage.power_limit_w=65", "--into", "{demo}/x"], "cannot be set"),
        (["record", "--soak", "3 parsecs"], "is not a duration"),
        (["record", "--setup", "x"], "--setup belongs to a study"),
        (["record", "--study", "{demo}", "--setup", "Brise"], "is not a setup of this study"),
        (["record", "--stop", "cpu.package.temp_c"], "write it like"),
        (["import", "{demo}/study.toml", "--study", "{demo}/new", "--setup", "x"], "study.toml"),
        (["fly"], "No such command"),
    ],
)
def test_wrong_input_gets_a_message_and_status_2(demo, arguments, words):
    folder, _ = demo
    run = next((folder / "runs").iterdir())
    done = gelassen(*(a.format(demo=folder, run=run) for a in arguments))
    assert done.returncode == 2
    assert words in done.stderr
    assert "Traceback" not in done.stderr
    assert not (folder / "new").exists()


def test_logs_of_others_are_imported_and_compared(tmp_path):
    rng = np.random.default_rng(0)
    mapping = tmp_path / "columns.toml"
    mapping.write_text(
        '[columns]\n"time" = "t_s"\n"T" = "cpu.package.temp_c"\n"room" = "room.air.temp_c"\n'
    )
    t = np.arange(1500)
    files = {"upright": [], "flat": []}
    for name, rise in (("upright", 45.0), ("flat", 49.0)):
        for k in range(3):
            heated = np.where(t < 60, 0, 1 - np.exp(-np.maximum(t - 60, 0) / 150))
            warm = 25 + k + 5 + (rise - 5 + rng.normal(0, 0.3)) * heated
            path = tmp_path / f"{name} {k}.csv"
            noisy = np.round(warm + 0.3 * rng.standard_normal(t.size), 1)
            pd.DataFrame({"time": t, "T": noisy, "room": 25.0 + k}).to_csv(path, index=False)
            files[name].append(path)
    study = tmp_path / "orientation"
    options = ("--study", study, "--columns", mapping)
    dry = ok(
        "import", *files["upright"], *options, "--setup", "upright", "--limit", 95, "--dry-run"
    )
    assert "T       cpu.package.temp_c" in dry
    assert not study.exists()
    no_limit = gelassen("import", *files["upright"], *options, "--setup", "upright")
    assert "--limit 95" in no_limit.stderr
    ok("import", *files["upright"], *options, "--setup", "upright", "--limit", 95)
    typo = gelassen("import", *files["flat"], *options, "--setup", "uprigt")
    assert typo.returncode == 2
    assert 'mean "upright"?' in typo.stderr
    ok("import", *files["flat"], *options, "--setup", "flat", "--new-setup")
    original = next((study / "runs").glob("*flat*")) / "original.csv"
    assert original.read_bytes() == files["flat"][0].read_bytes()
    out = ok("compare", study, "--baseline", "flat")
    assert "upright is the coolest" in out
    assert "cooler than flat" in out
    assert (study / "figures/comparison.png").exists()


def test_one_run_only_is_answered_with_a_caution(tmp_path):
    (tmp_path / "study.toml").write_text(
        'format = 1\ntitle = "one"\n[machine]\nname = "box"\nlimit_c = 95\n[setups.only]\n'
    )
    bench = SimulatedBench(cooler=COOLERS["Brise 120"], curve=CURVES["on-air"], power_limit_w=65)
    record_run(
        bench,
        RunPlan(phases=plan_phases(60, 900, 300, 0)),
        tmp_path / "runs",
        label="only",
        setup="only",
    )
    out = ok("compare", tmp_path, "--no-figure")
    assert "There is one setup" in out
    assert "no setup was repeated" in out
    assert "no setup was repeated" in out


def test_a_temperature_that_never_reads_is_said(tmp_path):
    path = tmp_path / "silent.csv"
    frame = pd.DataFrame(
        {"t_s": range(600), "cpu.package.temp_c": np.nan, "cpu.all.load_pct": 99.0}
    )
    frame.to_csv(path, index=False)
    out = ok("show", path, "--no-figure", "--limit", "95")
    assert "cpu.package.temp_c has no reading under load" in out
    assert "No temperature can be judged" in out


def test_first_steps_help_and_start_up():
    assert "gelassen demo" in ok()
    assert "record" in ok("--help")
    heavy = ("numpy", "pandas", "scipy", "pydantic", "pyarrow", "rich", "tomlkit")
    code = (
        "import sys, click\nfrom gelassen.cli import cli\n"
        "cli.get_help(click.Context(cli))  # every command with its help\n"
        f"print([m for m in sys.modules if m in {heavy}])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert done.stdout.strip() == "[]"


def test_channels_lists_the_machine_in_every_form(tmp_path):
    assert "load.work.rate_per_s" in ok("channels")
    content = json.loads(ok("channels", "--format", "json"))
    assert {"channel", "readable", "problem", "value"} <= set(content["channels"][0])
    assert any(entry["what"] == "room air" for entry in content["missing"])
    assert ok("channels", "--format", "csv").startswith("channel,now,step")
    assert ok("channels", "--format", "markdown").startswith("| channel |")


def test_a_study_is_judged_over_coolant_once_its_file_says_so(demo, tmp_path):
    folder, _ = demo
    place = tmp_path / "coolant"
    place.mkdir()
    text = (folder / "study.toml").read_text(encoding="utf-8")
    assert 'reference = "room.air.temp_c"' in text
    baseline = 'baseline = "Kiesel 92, off-air, 125 W"\n'
    text = text.replace('"room.air.temp_c"', '"loop.coolant.temp_c"').replace(baseline, "")
    (place / "study.toml").write_text(text, encoding="utf-8")
    runs = sorted((folder / "runs").iterdir())[:12]
    for run in runs:
        shutil.copytree(run, place / "runs" / run.name)
    loops = [run for run in runs if "tarn" in run.name]
    assert 0 < len(loops) < len(runs)
    answer = json.loads(ok("compare", place, "--no-figure", "--format", "json"))
    assert sum(row["runs"] for row in answer["setups"]) == len(loops)
    for row in answer["setups"]:
        # The block holds 0.19 K/W to its coolant, whatever the fans do.
        assert row["rise_k"] / row["power_w"] == pytest.approx(0.191, abs=0.008)
    words = ok("compare", place, "--no-figure")
    assert "rise: over loop.coolant.temp_c, not over the room" in words
    assert "its rise is over room.air.temp_c, not over loop.coolant.temp_c" in words
    refused = gelassen("compare", place, "--no-figure", "--room", "25")
    assert refused.returncode == 2
    assert "a room of 25 °C cannot be added" in refused.stderr
    shown = ok("show", place / "runs" / loops[0].name)
    assert "K over loop.coolant.temp_c" in shown
    assert (place / "figures" / f"{loops[0].name}.png").exists()


@pytest.mark.parametrize(("where", "status", "said"), [
    (">&-", 0, ""), ("> /dev/full", 2, "the output cannot be written"),
])  # fmt: skip
def test_an_output_that_is_closed_or_full_is_no_crash(where, status, said):
    command = f'"{sys.executable}" -m gelassen {where}'
    done = subprocess.run(["sh", "-c", command], capture_output=True, text=True, check=False)
    assert done.returncode == status
    assert "Traceback" not in done.stderr
    assert said in done.stderr
