"""The ways in which testers test beside long logs with repeats: each with a study whose answer is known."""

import json
import re

import numpy as np
import pandas as pd
import pytest

from command_line import gelassen, ok
from gelassen import open_study, read_log
from gelassen.answers.rows.equal_mean_power import at_equal_mean_power
from gelassen.conduct.operator.run_table import read_run_table
from gelassen.core import FileError, InputError
from gelassen.core.comparing.tradeoff import tradeoff
from gelassen.core.signal.grid import lagged
from gelassen.study.file.reader import read_study_file

pytestmark = pytest.mark.xdist_group("ways")

HEAD = 'format = 1\ntitle = "t"\nmade_up = true\n[machine]\nname = "box"\nlimit_c = 95\n'


def study_of(folder, text):
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "study.toml").write_text(text)
    return folder


def logged(folder, name, setup, channels, *, minutes=30, more=()):
    """Import a made-up log: channel to its rise in K, or to its value under load."""
    rng = np.random.default_rng(len(name) + sum(map(ord, name)))
    t = np.arange(0, 60.0 * minutes, 2.0)
    loaded = np.clip(t - 120, 0, None)
    frame = pd.DataFrame({"t_s": t, "room.air.temp_c": 22 + rng.normal(0, 0.05, t.size)})
    for channel, size in channels.items():
        if channel.endswith(".temp_c"):
            course = 27 + (size - 5) * (1 - np.exp(-loaded / 150))
        else:
            course = np.where(t < 120, 0.1 * size, size)
        frame[channel] = course + rng.normal(0, 0.003 * size, t.size)
    log = folder.parent / f"{name}.csv"
    frame.to_csv(log, index=False)
    ok("import", log, "--study", folder, "--setup", setup, "--new-setup", *more)


# Results without a log, and one run a setup


def test_typed_results_are_ranked_with_a_doubt_and_kept_from_nonsense(tmp_path):
    study = study_of(tmp_path / "s", HEAD)
    common = ("--room", "22.5+-0.3", "--power", "95", "--minutes", "20", "--new-setup")
    ok(
        "enter",
        study,
        "--setup",
        "tower",
        "--highest",
        "81",
        "--rest",
        "34",
        "--score",
        "1200",
        *common,
    )
    ok(
        "enter",
        study,
        "--setup",
        "low",
        "--highest",
        "94",
        "--rest",
        "38",
        "--score",
        "1100",
        *common,
    )
    found = open_study(study).compare(baseline="low")
    (row,) = found.differences.to_dict("records")
    assert row["verdict"] == "likely cooler"
    assert row["low"] < -13 < row["high"]
    assert {"read_by_hand", "spread_usual"} <= {caution.code for caution in found.cautions}
    assert "Read by hand" in ok("show", study / "runs/001-tower")
    by_score = open_study(study).compare(baseline="low", by="score")
    assert list(by_score.setups["setup"]) == ["tower", "low"]
    assert by_score.differences.iloc[0]["verdict"] == "likely more"
    assert "(+" in ok("compare", study, "--baseline", "low", "--by", "score", "--no-figure")
    assert open_study(study).compare(by="rest").unit == "K"
    stored = len(list((study / "runs").iterdir()))
    for wrong, words in (
        (("--highest", "180"), "82.2 °C. Write 180F"), (("--highest", "60", "--rest", "70"), "is above"),
        (("--highest", "hot"), "is no number"), ((), "nothing was read"), (("--power", "-1"), "cannot be"),
        (("--ending", "exploded"), "no way an attempt ends"),
    ):  # fmt: skip
        refused = gelassen("enter", study, "--setup", "tower", *wrong)
        assert refused.returncode == 2
        assert words in refused.stderr
    assert len(list((study / "runs").iterdir())) == stored


TYPED = """setup,program,score,highest,room,minutes
a,one,100,71,22,20
a,one,102,72,22,20
a,two,61,60,22,20
a,two,60,61,22,20
b,one,108,79,22,20
b,one,107,78,22,20
b,two,64,66,22,20
b,two,63,65,22,20
"""


@pytest.mark.parametrize(
    ("columns", "by", "first"),
    [
        (TYPED.split()[0], "rise", "Over all loads, a is the coolest: b is"),
        (TYPED.split()[0], "score", "Over all loads, b is first by score: a has 4.8 points less"),
        (TYPED.split()[0], "highest", "a is the coolest by highest reading under load: b is"),
        (
            "setup,program,score",
            "rise",
            "Over all loads, b is first by score: a has 4.8 points less",
        ),
        ("setup,score", "rise", "b and a share the first rank"),
    ],
)
def test_typed_programs_are_set_side_by_side_also_without_temperatures(
    tmp_path, columns, by, first
):
    rows = [line.split(",") for line in TYPED.split()]
    places = [rows[0].index(name) for name in columns.split(",")]
    table = tmp_path / "typed.csv"
    table.write_text("\n".join(",".join(row[k] for k in places) for row in rows))
    study = study_of(tmp_path / "s", HEAD)
    ok("enter", study, "--from", table)
    said = " ".join(ok("compare", study, "--by", by).split())
    assert first in said
    by_hand = "were read by hand" in said  # whichever temperature is compared
    assert by_hand == ("highest" in columns and by != "score")
    assert ("no temperature was logged: setups are compared by score" in said) == (
        "highest" not in columns
    )


def test_loads_that_rank_setups_differently_are_set_beside_each_other(tmp_path):
    table = tmp_path / "runs.csv"
    ends = {("a", "game"): 60, ("b", "game"): 66, ("a", "render"): 75, ("b", "render"): 73}
    lines = [f"{one},{load},{end},22" for (one, load), end in ends.items() for _ in range(2)]
    table.write_text("setup,load,end,room\n" + "\n".join(lines) + "\n")
    ok("enter", tmp_path / "s", "--from", table, "--limit", 95)
    told = open_study(tmp_path / "s").loads().differences.set_index("load")
    over = told.loc["over all loads"]
    sign = 1 if over["setup"] == "b" else -1
    assert sign * over["difference_k"] == pytest.approx(2.0, abs=0.3)
    assert "not run under all" not in ok("compare", tmp_path / "s", "--loads")


def test_programs_without_a_room_are_told_in_degrees_and_what_stands_alone_is_said(tmp_path):
    study = study_of(tmp_path / "s", HEAD)
    for program, highest in (("one", 71), ("two", 61)):
        ok("enter", study, "--setup", "a", "--new-setup", "--load", program, "--highest", highest)
    said = ok("compare", study, "--no-figure")
    assert "settles °C" in said
    assert "There is one setup, a: there is nothing to compare it with." in said
    ok("enter", study, "--setup", "b", "--new-setup", "--load", "one", "--highest", 75)
    said = " ".join(ok("compare", study, "--no-figure").split())
    assert "No two setups can be set side by side over all loads" in said


def test_setups_under_unlike_programs_or_on_unlike_days_are_named(tmp_path):
    lines = ["setup,program,highest,room,minutes,when"]
    for k, setup in enumerate("abc"):
        program = "render" if setup == "c" else "game"
        lines += [
            f"{setup},{program},{60 + 5 * k + n},22,20,2026-03-0{k + 1}T1{n}:00" for n in (0, 1)
        ]
    (tmp_path / "typed.csv").write_text("\n".join(lines))
    study = study_of(tmp_path / "s", HEAD)
    ok("enter", study, "--from", tmp_path / "typed.csv")
    said = " ".join(ok("compare", study, "--no-figure").split())
    assert (
        "But c and a ran different loads (render; game): the difference may be that alone." in said
    )
    assert "different days: a from 2026-03-01, b from 2026-03-02, c from 2026-03-03" in said


def test_a_table_of_typed_runs_is_stored_whole_or_not_at_all(tmp_path):
    study, table = study_of(tmp_path / "s", HEAD), tmp_path / "runs.csv"
    table.write_text("Setup;Max (°C);Idle;Room;Minutes\na;80;33,5;22;20\nb;178 F;31;22,1;20\n")
    ok("enter", study, "--from", table)
    readings = [
        json.loads(path.read_text())["by_hand"] for path in sorted(study.glob("runs/*/run.json"))
    ]
    assert [round(one["highest_c"], 1) for one in readings] == [80.0, 81.1]
    for text, words in (
        ("Setup,Max,Foo\na,80,1\n", 'column "Foo".*--column "Foo=MEANING"'),
        ("Setup,Max,Peak\na,80,81\n", '"Max" and "Peak" both mean the highest'),
        ("Setup,Max\na,80\nb,190\n", "line 3: .*87.8"),
        ("Max\n80\n", 'no column is called "setup"'), ("Setup,Max\n", "no rows"),
    ):  # fmt: skip
        table.write_text(text)
        refused = gelassen("enter", study, "--from", table)
        assert refused.returncode == 2
        assert re.search(words, refused.stderr), refused.stderr
    assert len(list((study / "runs").iterdir())) == 2


SHEET = """\
Cooler;Paste;Tmax (°F);Ambient (°F);Clock (GHz);Fan RPM;dB(A);Run time (s);GPU max (°C);Price;Remarks
Brise 120;A;167;72;4,4;1450;38,2;1200;66;45;-
Brise 120;B;163;72;4,4;1450;38,2;1200;66;45;remounted
Kiesel 92;A;185;72;4,2;2300;44;1200;66;25;-
Kiesel 92;B;181;72;4,2;2300;44;1200;66;25;-
"""


def test_a_sheet_as_testers_keep_it_becomes_setups_with_their_factors(tmp_path):
    study, sheet = tmp_path / "s", tmp_path / "sheet.csv"
    sheet.write_text(SHEET)
    asked = ("enter", study, "--from", sheet, "--limit", 95)
    assert 'column "GPU max (°C)"' in gelassen(*asked).stderr  # no result of the processor
    assert not study.exists()
    for _ in range(2):  # the second time, its setups are known by their levels
        told = gelassen(*asked, "--column", "GPU max (°C)=ignore")
        assert '"Tmax (°F)": the highest temperature under load' in told.stderr
        assert '"GPU max (°C)": left out' in told.stderr
    run = json.loads((study / "runs/002-brise-120-b/run.json").read_text())
    assert run["levels"] == {"cooler": "Brise 120", "paste": "B"}
    wanted = {
        "highest_c": (163 - 32) / 1.8, "room_c": 40 / 1.8, "clock_mhz": 4400, "fan_rpm": 1450,
        "noise_dba": 38.2, "minutes": 20, "note": "remounted",
    }  # fmt: skip
    assert {name: run["by_hand"][name] for name in wanted} == pytest.approx(wanted)
    assert len(open_study(study).file.setups) == 4
    said = ok("compare", study, "--effects", "--no-figure")
    assert "cooler: Kiesel 92 is 10.1 K warmer than Brise 120" in said
    prices = open_study(study).file.factors["cooler"].details
    assert prices == {"Brise 120": {"price": 45.0}, "Kiesel 92": {"price": 25.0}}


def test_a_table_of_setups_alone_may_state_prices_and_noise_in_words(tmp_path):
    study, sheet = tmp_path / "s", tmp_path / "sheet.csv"
    sheet.write_text(
        "setup,highest,price,noise\nduo,85,79,hums\nflat,86,41,loud\nflat,87,41,loud\n"
    )
    ok("enter", study, "--from", sheet, "--limit", 95)
    found = open_study(study).tradeoff("price").table.set_index("setup")
    assert found["x"].to_dict() == {"duo": 79.0, "flat": 41.0}
    assert (
        "Say their order in the study file"
        in gelassen("compare", study, "--tradeoff", "noise").stderr
    )
    with (study / "study.toml").open("a") as file:
        file.write('\n[scales]\nnoise = ["hums", "loud"]\n')
    assert "Nothing is better in both noise and" in ok("compare", study, "--tradeoff", "noise")
    assert "logs of the runs: each run leaves" in ok("compare", study)


def test_new_setups_leave_what_the_tester_wrote_as_it_is(tmp_path):
    written = HEAD.replace("[machine]", 'question = """\nWhich?\n[not a table]\n"""\n[machine]')
    study, sheet = study_of(tmp_path / "s", written), tmp_path / "sheet.csv"
    sheet.write_text("Cooler,Max\nBrise 120,74\n120 mm,80\n")
    ok("enter", study, "--from", sheet)
    assert (study / "study.toml").read_text().startswith(written.rstrip())
    assert set(open_study(study).file.setups) == {"Brise 120", "120 mm"}


@pytest.mark.parametrize(
    ("header", "meaning"),
    [
        ("Avg FPS", "score"), ("Temp min", "rest_c"), ("Time (min)", "minutes"),
        ("Package W", "power_w"), ("Peak core temp °C", "highest_c"), ("Max W", None),
        ("GPU power (W)", None), ("Temp", None), ("ΔT over ambient", None),
    ],
)  # fmt: skip
def test_what_a_header_does_not_say_is_not_guessed(tmp_path, header, meaning):
    table = tmp_path / "runs.csv"
    table.write_text(f"Setup,{header},Clock told\na,50,1\n")
    if meaning is None:
        with pytest.raises(FileError, match="what is in the column"):
            read_run_table(table, columns={"Clock told": "clock"})
    else:
        (entry,) = read_run_table(table, columns={"Clock told": "clock"}).entries
        assert entry.readings == {meaning: 50.0, "clock_mhz": 1.0}


@pytest.mark.parametrize(("apart_k", "doubt", "verdict"), [
    (11.0, "", "likely cooler"), (11.0, "remounting_k = 0.5", "cooler"),
    (11.0, "remounting_k = 6.0", "cannot tell"), (0.0, "remounting_k = 0.05\nmatters_k = 2.0", "the same"),
])  # fmt: skip
def test_one_run_a_setup_is_judged_by_what_is_known_of_remounting(
    tmp_path, apart_k, doubt, verdict
):
    study = study_of(tmp_path / "s", HEAD + f"[doubt]\n{doubt}\n")
    for name, rise_k in (("a", 50.0), ("b", 50.0 + apart_k)):
        logged(study, name, name, {"cpu.package.temp_c": rise_k, "cpu.package.power_w": 95.0})
    found = open_study(study).compare(baseline="b")
    assert found.differences.iloc[0]["verdict"] == verdict
    words = ok("compare", study, "--baseline", "b", "--no-figure")
    assert ("as on usual rigs" in words) == (verdict == "likely cooler")
    assert ("the same for your purpose" in words) == (verdict == "the same")


# Programs as workloads

WORKLOADS = (
    HEAD
    + """
[protocol]
idle = "1 min"
repeats = 1
baseline_again = false
[factors.cooler]
levels = ["Brise 120", "Kiesel 92"]
[setups.tower]
cooler = "Brise 120"
[setups.low]
cooler = "Kiesel 92"
[[workloads]]
name = "desktop"
load = "integer"
duty_pct = 10
length = "6 min"
rest = "1 min"
[[workloads]]
name = "render"
load = "matrix"
length = "12 min"
rest = "1 min"
"""
)


def test_every_setup_runs_through_the_list_and_programs_stand_side_by_side(tmp_path):
    study = study_of(tmp_path / "s", WORKLOADS)
    plan = ok("run", study, "--dry-run")
    assert plan.index("tower: desktop") < plan.index("tower: render")
    ok("run", study, "--yes", "--simulate", "1000000", "--runs", "3")
    assert "1 run to make" in ok("run", study, "--dry-run")  # what was cut off goes on where it was
    ok("run", study, "--yes", "--simulate", "1000000")
    found = open_study(study).loads(baseline="low")
    assert set(found.setups["load"]) == {"desktop", "render"}
    columns = found.setups.set_index(["load", "setup"])
    assert (columns["highest_k"] >= columns["mean_k"]).all()
    assert columns.loc[("render", "tower"), "mean_k"] > columns.loc[("desktop", "tower"), "mean_k"]
    words = ok("compare", study, "--no-figure")  # a list is never compared as one load
    assert "tower is hottest under render" in words
    assert "desktop  low" in words


@pytest.mark.parametrize(("text", "words"), [
    ('name = "x"\nload = "matrix"\ncommand = "true"', "one of load, command and by_hand"),
    ('name = "x"', "one of load, command and by_hand"),
    ('name = "x"\nby_hand = true\nscore = "a"', "only a command prints a score"),
    ('name = "render"\nload = "matrix"', 'two workloads are called "render"'),
])  # fmt: skip
def test_an_impossible_workload_is_refused_by_name(tmp_path, text, words):
    study = study_of(tmp_path / "s", WORKLOADS + f"[[workloads]]\n{text}\n")
    with pytest.raises(FileError, match=words):
        read_study_file(study / "study.toml")


K_PER_W = {"old": 0.41, "new": 0.38}


def games(tmp_path, share_of_power, runs):
    """Import a game that two setups played, each time differently; return the study and mean powers."""
    study = study_of(tmp_path / "s", HEAD)
    rng, powers = np.random.default_rng(7), {"old": [], "new": []}
    for number in range(2 * runs):
        setup = ("old", "new")[number % 2]
        share = (0.9, 1.1)[number // 3 % 2] * (share_of_power if setup == "new" else 1.0)
        scenes = share * np.repeat(rng.uniform(50, 110, 25), 60)
        power = np.concatenate([np.full(120, 12.0), scenes])
        powers[setup].append(scenes.mean())
        rise = K_PER_W[setup] * (0.7 * lagged(power, 1.0, 120.0) + 0.3 * lagged(power, 1.0, 8.0))
        frame = pd.DataFrame(
            {"t_s": np.arange(power.size), "room.air.temp_c": 22.0, "cpu.package.power_w": power,
             "cpu.package.temp_c": (22 + rise + 0.3 * rng.standard_normal(power.size)).round(1)}
        )  # fmt: skip
        frame.to_csv(tmp_path / f"game{number}.csv", index=False)
        ok(
            "import",
            tmp_path / f"game{number}.csv",
            "--study",
            study,
            "--setup",
            setup,
            "--new-setup",
        )
    return open_study(study), powers


def test_a_game_that_is_played_differently_each_time_is_compared_at_one_mean_power(tmp_path):
    study, powers = games(tmp_path, 1.0, 3)
    every = powers["old"] + powers["new"]
    assert max(every) > 1.2 * min(every)
    found = study.compare()
    assert set(found.setups["runs"]) == {3}
    (row,) = found.differences.to_dict("records")
    truth = (K_PER_W[row["setup"]] - K_PER_W[row["versus"]]) * np.median(every)
    assert row["low"] < truth < row["high"]
    assert row["distinguishable"]
    assert "at_equal_mean_power" in [one.code for one in found.cautions]
    rows = study.rows()[0]
    for moved, raw in zip(at_equal_mean_power(rows), rows, strict=True):
        # An error that grew with the move would weigh runs unlike, and claim too much.
        assert moved.standard_error / moved.value == pytest.approx(raw.standard_error / raw.value)


@pytest.mark.parametrize(("share_of_power", "runs"), [(0.6, 3), (1.0, 1)])
def test_a_power_that_may_belong_to_the_setup_is_left_in_its_mean(tmp_path, share_of_power, runs):
    study, powers = games(tmp_path, share_of_power, runs)
    found = study.compare()
    assert set(found.setups["runs"]) == {runs}  # mean powers that differ are no levels
    for row in found.setups.to_dict("records"):
        name = row["setup"]
        assert row["rise_k"] == pytest.approx(K_PER_W[name] * np.mean(powers[name]), abs=0.7)
        assert row["power_w"] == pytest.approx(np.mean(powers[name]), rel=0.03)


# Several parts, ladders, worth


def test_a_part_that_gets_worse_while_another_gets_better_is_named(tmp_path):
    text = (
        'judge = ["cpu.package.temp_c", "gpu.hotspot.temp_c", "vrm.1.temp_c"]\nbaseline = "b"\n'
        + HEAD
    )
    study = study_of(
        tmp_path / "s", text + '[channels."gpu.hotspot.temp_c"]\nlimit_c = 74\n[setups.b]\n'
    )
    for k in range(3):
        for setup, cpu, gpu in (("a", 45.0, 51.8 + 0.1 * k), ("b", 51.0, 48.0)):
            channels = {"cpu.package.temp_c": cpu + 0.2 * k, "gpu.hotspot.temp_c": gpu}
            logged(study, f"{setup}{k}", setup, {**channels, "cpu.package.power_w": 95.0})
    found = open_study(study).judged()
    (conflict,) = found.conflicts.to_dict("records")
    assert (conflict["setup"], conflict["cooler"]) == ("a", "cpu.package.temp_c")
    assert found.left_out == {"vrm.1.temp_c": "vrm.1.temp_c was not logged"}
    words = ok("compare", study, "--no-figure")
    assert "cooler than b at the processor" in words
    assert json.loads(ok("compare", study, "--judged", "--format", "json"))["conflicts"]


def test_each_judged_part_is_told_load_by_load(tmp_path):
    study = study_of(
        tmp_path / "s", 'judge = ["cpu.package.temp_c", "gpu.hotspot.temp_c"]\n' + HEAD
    )
    for k in range(2):
        for setup, less in (("stock", 0.0), ("mesh", 5.0)):
            for load, cpu, gpu in (("render", 50.0, 12.0), ("game", 30.0, 60.0)):
                channels = {
                    "cpu.package.temp_c": cpu + 0.1 * k,
                    "gpu.hotspot.temp_c": gpu - less + 0.1 * k,
                }
                logged(study, f"{setup}{load}{k}", setup, channels, more=("--load", load))
    for asked in ((), ("--judged",)):
        told = ok("compare", study, "--no-figure", *asked)
        first, second = told.split("graphics hot spot: load by load")
        assert "game: cannot tell stock from mesh" in first
        assert "game: mesh is 5.0 K cooler than stock" in second
    found = open_study(study)
    assert list(found.loads().other_parts) == ["gpu.hotspot.temp_c"]
    with pytest.raises(InputError, match="several programs"):
        found.judged()
    for form in ("html", "markdown"):
        page = found.report(form=form).read_text(encoding="utf-8")
        assert "graphics hot spot" in page
        assert "mesh is 5.0 K cooler than stock" in page


def test_frames_a_second_stand_in_for_a_score(tmp_path):
    study = study_of(tmp_path / "s", HEAD)
    for k in range(2):
        for setup, frames in (("old pads", 80.0), ("new pads", 92.0)):
            logged(
                study,
                f"{setup}{k}",
                setup,
                {"cpu.package.temp_c": 40.0, "load.work.rate_per_s": frames},
            )
    found = open_study(study).compare(by="score")
    assert list(found.setups["setup"]) == ["new pads", "old pads"]
    assert "no_score_to_compare" in {caution.code for caution in found.cautions}
    assert found.unit == "/s"


def test_cards_are_judged_by_their_own_power_and_the_hotter_one_is_named(tmp_path):
    study = study_of(tmp_path / "s", HEAD)
    for k in range(3):
        for setup, second in (("packed", 49.0), ("spaced", 41.0)):
            cards = {
                "gpu.package0.temp_c": 38.0 + 0.2 * k, "gpu.package1.temp_c": second + 0.2 * k,
                "gpu.package0.power_w": 310.0, "gpu.package1.power_w": 250.0,
                "cpu.package.temp_c": 12.0 + 0.2 * k, "cpu.package.power_w": 60.0,
            }  # fmt: skip
            logged(study, f"{setup}{k}", setup, cards)
    run = sorted((study / "runs").iterdir())[0]
    assert "gpu.package1.temp_c was warmer" in ok("show", run, "--no-figure")
    by_itself = ok("show", run, "--no-figure", "--channel", "gpu.package1.temp_c")
    assert "Held: 250" in by_itself
    assert "was warmer" not in by_itself
    compared = ok("compare", study, "--no-figure")
    assert 'write judge = ["cpu.package.temp_c", "gpu.package1.temp_c"] in the study' in compared
    parts = '["hottest core", "gpu.package0.temp_c", "gpu.package1.temp_c"]'
    toml = study / "study.toml"
    toml.write_text(f"judge = {parts}\n{toml.read_text()}")
    found = open_study(study).judged()
    (row,) = found.only_elsewhere.to_dict("records")
    assert (row["setup"], row["part"]) == ("spaced", "gpu.package1.temp_c")
    words = " ".join(ok("compare", study, "--no-figure").split())
    assert "spaced is cooler than packed at graphics card 1" in words
    assert "was warmer than what is judged" not in words


def test_two_processors_are_judged_by_the_hotter_one_and_its_own_power(tmp_path):
    study = study_of(tmp_path / "s", HEAD)
    channels = {
        "cpu.socket1.temp_c": 50.0, "cpu.socket1.power_w": 205.0, "board.1.temp_c": 70.0,
        "cpu.socket2.temp_c": 56.0, "cpu.socket2.power_w": 190.0,
    }  # fmt: skip
    logged(study, "a", "a", channels)
    (run,) = open_study(study).rows()[0]
    assert run.kind == "hottest processor"
    assert run.value == pytest.approx(56.0, abs=1)
    assert run.power_w == pytest.approx(190.0, rel=0.01)
    log = read_log(tmp_path / "a.csv")
    assert [phase.name for phase in log.phases] == ["idle", "soak", "hold"]


def test_a_table_of_attempts_is_a_ladder_by_a_factor_or_by_the_power_that_was_read(tmp_path):
    table = tmp_path / "attempts.csv"
    table.write_text(
        "setup,ending,minutes,power,stage\na,held,30,120,1\na,unstable,5,140,2\nb,held back,9,120,1\n"
    )
    study = study_of(tmp_path / "s", HEAD + "[factors.stage]\nlevels = [1, 2]\n")
    ok("enter", study, "--from", table)
    for along, held, fails in (("power", 120, 140), ("stage", 1, 2)):
        words = ok("compare", study, "--ladder", along)
        assert f"a: held {held} for 30 min; unstable at {fails}." in words
        assert f"b: nothing held; held back at {held}." in words
    (tmp_path / "alone.csv").write_text(
        "setup,ending,power\na,held,120\na,unstable,150\nb,held,150\n"
    )
    bare = study_of(tmp_path / "bare", HEAD)
    ok("enter", bare, "--from", tmp_path / "alone.csv")
    said = gelassen("compare", bare).stderr
    assert "no temperature to compare). These are attempts: --ladder power shows" in said
    refused = gelassen("compare", study, "--ladder", "powr")
    assert 'Did you mean "power"?' in refused.stderr


def test_attempts_of_one_setup_at_unlike_powers_are_no_repeats(tmp_path):
    table = tmp_path / "attempts.csv"
    table.write_text(
        "setup,power_limit_w,outcome,highest,minutes\nlow,100,held,80,20\nlow,120,held back,95,9\n"
    )
    ok("enter", tmp_path / "s", "--from", table, "--limit", 95)
    for power, ending, highest in ((100, "held", 80), (120, "held back", 95)):
        at = ("--at", f"power_limit_w={power}", "--ending", ending, "--highest", highest)
        ok("enter", tmp_path / "t", "--setup", "low", "--new-setup", "--limit", 95, *at)
    for name in "st":  # with the factor in the study, and only in its runs
        found = open_study(tmp_path / name).compare().setups.set_index("setup")
        assert list(found.index) == ["low, 100", "low, 120"]
        assert found.loc["low, 120", ["rise_k", "at_limit"]].tolist() == [95.0, True]
        asked = gelassen("compare", tmp_path / name)
        assert "--ladder power_limit_w shows" in asked.stderr
        assert "scatter by" not in asked.stdout
        said = ok("compare", tmp_path / name, "--ladder", "power_limit_w")
        assert re.search("low: held 100.*; held back at 120", said)
        assert "settles °C" in said
    with (tmp_path / "t/study.toml").open("r+") as file:
        text = file.read()
        file.seek(0)
        file.write('baseline = "low"\n' + text)
    assert "none of them is the baseline" in ok("compare", tmp_path / "t", "--no-figure")


def test_a_reading_that_would_pass_the_limit_did_not_sit_there(tmp_path):
    for setup, highest in (("cool", 70), ("hot", 94)):
        read = ("--setup", setup, "--highest", highest, "--minutes", 4, "--room", 22)
        ok("enter", tmp_path / "s", "--new-setup", "--limit", 95, *read)
    assert "hot would reach the limit of 95 °C" in ok("compare", tmp_path / "s", "--no-figure")


ATTEMPTS = """\
Cooler,Voltage (mV),Clock (MHz),Result,Max temp,Power,Room
Brise 120,1250,5000,stable,84,142,22
Brise 120,1150,5000,stable,75,121,22
Brise 120,1100,5000,crash,71,112,22
Brise 120,1200,5200,stable,83,140,22
Brise 120,1150,5200,errors,79,130,22
Kiesel 92,1250,5000,throttled,95,139,22
Kiesel 92,1150,5000,stable,86,121,22
Kiesel 92,1100,5000,no boot,,,22
"""


def test_voltages_fail_downwards_and_at_each_clock_by_itself(tmp_path):
    table = tmp_path / "attempts.csv"
    table.write_text(ATTEMPTS)
    voltage = ("--limit", 95, "--from", table, "--column", "Voltage (mV)=factor")
    ok("enter", tmp_path / "s", *voltage)
    said = ok("compare", tmp_path / "s", "--ladder", "voltage")
    assert "Kiesel 92: held down to 1150; would not start at 1100; held back at 1250." in said
    assert "The clock differed, too (5000 to 5200 MHz): enter it as a factor." in said
    ok("enter", tmp_path / "t", *voltage, "--column", "Clock (MHz)=factor")
    said = ok("compare", tmp_path / "t", "--ladder", "voltage")
    assert "Brise 120, 5000: held down to 1150; unstable at 1100." in said
    assert "Brise 120, 5200: held down to 1200; unstable at 1150." in said
    assert "Brise 120, 1150: held 5000; unstable at 5200." in ok(
        "compare", tmp_path / "t", "--ladder", "clock"
    )


def test_a_limit_below_the_room_is_refused_and_named_where_it_was_stored(tmp_path):
    said = ("--setup", "a", "--highest", "60", "--room", "22", "--new-setup", "--limit")
    assert "below the room" in gelassen("enter", tmp_path / "s", *said, "15").stderr
    for _ in range(2):
        ok("enter", tmp_path / "s", *said, "95")
    text = (tmp_path / "s/study.toml").read_text()
    (tmp_path / "s/study.toml").write_text(text.replace("95.0", "15.0"))
    for path in (tmp_path / "s").glob("runs/*/run.json"):
        path.write_text(path.read_text().replace('"limit_c": 95.0', '"limit_c": 15.0'))
    assert "which is below the room" in ok("compare", tmp_path / "s", "--no-figure")


def test_a_ladder_names_what_held_and_what_did_not(tmp_path):
    factor = "[factors.power]\nlevels = [100, 120, 140]\n"
    study = study_of(tmp_path / "s", HEAD + factor + "[setups.tower]\npower = 100\n")
    for power, ending, more in (
        (100, "held", ("--highest", "70", "--minutes", "20")),
        (120, "held", ("--highest", "80", "--minutes", "30")),
        (140, "held back", ("--highest", "95")), (160, "would not start", ()),
    ):  # fmt: skip
        ok("enter", study, "--setup", "tower", "--at", f"power={power}", "--ending", ending, *more)
    (row,) = open_study(study).ladder("power").setups.to_dict("records")
    assert (row["held_to"], row["minutes"], row["fails_at"], row["ending"]) == (
        120,
        30,
        140,
        "held back",
    )
    words = ok("compare", study, "--ladder", "power")
    assert "held 120 for 30 min; held back at 140" in words
    assert "held (coolest)" in words


def test_what_costs_more_for_nothing_or_does_less_is_not_unbeaten():
    found = tradeoff(
        ["cheap", "dear", "dearest", "lazy"], [30, 60, 90, 20], [50.0, 49.8, 44.0, 30.0],
        groups=["b", "b", "a", "c"], work=[100, 100, 100, 60], baseline="cheap",
    ).table.set_index("setup")  # fmt: skip
    assert list(found.index[found["unbeaten"]]) == ["cheap", "dearest"]
    assert found.loc["dear", "no_gain_over"] == "cheap"
    assert found.loc["lazy", "less_work"]
    assert found.loc["dearest", "x_per_gain"] == pytest.approx(10.0)
    assert np.isnan(found.loc["dear", "x_per_gain"])


def test_a_machine_without_a_temperature_is_compared_by_its_work(tmp_path):
    study = study_of(tmp_path / "s", WORKLOADS)
    ok("run", study, "--yes", "--simulate", "1000000")
    for run in (study / "runs").iterdir():
        frame = pd.read_parquet(run / "samples.parquet")
        frame.drop(columns=[name for name in frame if ".temp_c" in name]).to_parquet(
            run / "samples.parquet"
        )
    assert not [name for name in read_log(run).frame if name.endswith(".temp_c")]
    found = open_study(study).compare(by="clock")
    assert found.unit == "MHz"
    assert len(found.setups) == 2


def test_noise_in_words_is_a_scale_that_the_study_defines(tmp_path):
    text = HEAD + (
        '[scales]\nnoise = ["silent", "hums at 60 %", "loud"]\n'
        '[factors.cooler]\nlevels = ["a", "b", "c"]\n'
        '[factors.cooler.details]\na = { noise = "loud" }\nb = { noise = "silent" }\n'
        'c = { noise = "loud" }\n'
        '[setups.a]\ncooler = "a"\n[setups.b]\ncooler = "b"\n[setups.c]\ncooler = "c"\n'
    )
    study = study_of(tmp_path / "s", text)
    for setup, end in (("a", "62"), ("b", "75"), ("c", "75")):
        for _ in range(2):
            ok("enter", study, "--setup", setup, "--end", end, "--room", "22", "--minutes", "40")
    found = open_study(study).tradeoff("noise").table.set_index("setup")
    assert found["unbeaten"].to_dict() == {"a": True, "b": True, "c": False}
    said = ok("compare", study, "--tradeoff", "noise", "--no-figure")
    assert re.search(r"b +silent", said)
    assert "gained" not in said
    study_of(tmp_path / "s", text.replace('"loud" }\nb', '"lod" }\nb'))
    refused = gelassen("compare", study)
    assert refused.returncode == 2
    assert 'noise = "lod" is not on its scale' in refused.stderr
    assert 'Did you mean "loud"' in refused.stderr
