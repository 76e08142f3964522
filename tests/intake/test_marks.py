"""Logs in which several programs ran: named by a column of words, or by the tester."""

import re

import numpy as np
import pandas as pd
import pytest

import gelassen as library
from command_line import gelassen, ok
from gelassen.intake.log import understand_log
from gelassen.intake.marks import find_marks
from gelassen.intake.split_loads import split_loads

RENDER, GAME = (60, 660), (660, 1260)  # s: the second follows the first without a rest


def table(words, *, kelvin_per_w=0.4):
    t = np.arange(1440.0)
    power = np.select(
        [(t >= start) & (t < end) for start, end in (RENDER, GAME)], [90.0, 94.0], 15.0
    )
    rng = np.random.default_rng(3)
    rise = np.zeros(t.size)
    for k in range(1, t.size):
        rise[k] = rise[k - 1] + (kelvin_per_w * power[k] - rise[k - 1]) / 90
    return pd.DataFrame(
        {
            "time (s)": t, "CPU Package (°C)": np.round(22 + rise + rng.normal(0, 0.2, t.size), 1),
            "CPU Power (W)": np.round(power + rng.normal(0, 0.5, t.size), 1),
            "Ambient (°C)": 22.0 + np.round(rng.normal(0, 0.03, t.size), 2), "Task": words(t),
        }
    )  # fmt: skip


def in_every_row(t):
    inside = [(t >= start) & (t < end) for start, end in (RENDER, GAME)]
    return np.select(inside, ["render", "game"], "")


def where_it_begins(t):
    return np.select([t == RENDER[0], t == GAME[0], t == GAME[1]], ["render", "game", "done"], "")


@pytest.mark.parametrize("words", [in_every_row, where_it_begins])
def test_marks_cut_loads_without_a_rest_and_name_them(words):
    read = understand_log(table(words)).recording
    assert read.load == "render"
    running = understand_log(table(words).rename(columns={"Task": "Running"})).recording
    assert running.load == "render"
    first, second = split_loads(read)
    assert (first.load, second.load) == ("render", "game")
    assert first.load_span_s() == pytest.approx(RENDER, abs=3)
    assert second.load_span_s()[1] - second.load_span_s()[0] == pytest.approx(600, abs=3)


def test_words_that_change_all_the_time_are_no_marks():
    read = understand_log(table(lambda t: [f"frame {k:.0f}" for k in t])).recording
    assert read.events == ()
    assert read.load is None


def test_a_long_name_is_cut_and_stays_apart_from_another():
    cells = ["a" + "x" * 200] * 3 + ["b" + "x" * 200] * 3
    first, second = (event.text for event in find_marks(np.arange(6.0), cells))
    assert first != second
    assert len(first) == len(second) == 60


def test_programs_of_a_log_are_set_side_by_side_under_their_names(tmp_path):
    for setup, kelvin_per_w in (("tower", 0.4), ("low", 0.5)):
        table(in_every_row, kelvin_per_w=kelvin_per_w).to_csv(
            tmp_path / f"{setup}.csv", index=False
        )
        ok(
            "import", f"{setup}.csv", "--study", "study", "--setup", setup, "--new-setup", "--limit", 95,
            "--every-load", "-y", cwd=tmp_path,
        )  # fmt: skip
    said = ok("compare", "study", "--no-figure", cwd=tmp_path)
    assert "tower is likely the coolest: low is" in " ".join(said.split())
    found = library.open_study(tmp_path / "study").loads()
    assert list(found.comparisons) == ["render", "game"]


def test_the_tester_names_the_loads_and_a_wrong_number_of_names_is_refused(tmp_path):
    table(in_every_row).drop(columns="Task").to_csv(tmp_path / "day.csv", index=False)
    into = ["import", "day.csv", "--study", "study", "--setup", "a", "--limit", 95, "-y"]
    refused = gelassen(*into, "--new-setup", "--load", "x", "--load", "y", cwd=tmp_path)
    assert "2 loads for 1 run" in refused.stderr
    ok(*into, "--new-setup", "--load", "bake", cwd=tmp_path)
    assert list(library.open_study(tmp_path / "study").table()["load"]) == ["bake"]


def test_a_game_has_a_mean_and_a_highest_and_no_steady_state(tmp_path):
    frame = table(in_every_row).drop(columns="Task")
    power = np.where(np.arange(1440) % 50 < 25, 110.0, 40.0)
    loaded = (frame["time (s)"] >= 60) & (frame["time (s)"] < 1260)
    frame["CPU Power (W)"] = np.where(loaded, power, 15.0)
    rise = np.zeros(1440)
    for k in range(1, 1440):
        rise[k] = rise[k - 1] + (0.4 * frame["CPU Power (W)"][k] - rise[k - 1]) / 40
    frame["CPU Package (°C)"] = np.round(
        22 + rise + np.random.default_rng(1).normal(0, 0.2, 1440), 1
    )
    frame.to_csv(tmp_path / "game.csv", index=False)
    ok(
        "import", "game.csv", "--study", "study", "--setup", "a", "--new-setup", "--limit", 95, "-y",
        cwd=tmp_path,
    )  # fmt: skip
    said = ok("show", "study/runs/001-a-game", "--no-figure", cwd=tmp_path)
    mean, top = re.search(r"its mean is ([\d.]+) K.* it stayed below ([\d.]+) K", said).groups()
    assert float(mean) == pytest.approx(30, abs=0.5)
    assert float(top) == pytest.approx(np.percentile(rise[60:1260], 99), abs=0.6)
    assert not re.search("settles at|hold began|keeps its intensity", said)
    assert "1 of 1 runs the load came and went" in ok(
        "compare", "study", "--no-figure", cwd=tmp_path
    )
