"""Figures show what a result holds: every run, every part, every core, and which study it is of."""

import json

import numpy as np
import pandas as pd
import pytest
from matplotlib.collections import QuadMesh

from command_line import gelassen, ok
from gelassen import open_study
from gelassen.core import InputError, summarise_run
from gelassen.core.comparing.machine_drift import machine_drift
from gelassen.core.comparing.repeatability import find_repeatability
from gelassen.core.comparing.tradeoff import tradeoff
from gelassen.core.recording import Recording
from gelassen.core.signal.grid import lagged
from gelassen.figures import cores, differences, judged, order, plot, run, unlike
from small_study import small_study

PARTS = {"cpu.package.temp_c": (50.0, 46.0), "gpu.hotspot.temp_c": (50.0, 55.0)}


def words_of(axis):
    return " ".join(text.get_text() for text in axis.texts)


@pytest.fixture(scope="module")
def study(tmp_path_factory):
    folder = small_study(tmp_path_factory.mktemp("figures") / "study")
    text = (folder / "study.toml").read_text()
    (folder / "study.toml").write_text("comfort_c = 60\n" + text)
    return open_study(folder)


def test_setups_stand_below_limit_and_comfort_and_the_footer_names_the_study(study):
    found = study.compare()
    axis = plot(found)
    assert "comfort 60 °C" in words_of(axis)
    below = axis.figure.texts[-1].get_text()
    assert below.startswith(f"{study.file.title}  ·  {len(found.runs)} runs")
    assert below.endswith("made-up sample data")
    assert (
        not axis.figure.texts[-1].get_window_extent().overlaps(axis.xaxis.label.get_window_extent())
    )


def test_runs_stand_in_their_order_with_a_drift_through_them(study):
    found = study.compare()
    days = np.arange(6.0)
    drift = machine_drift(days, 50 + 0.5 * days + [0.01, -0.01, 0.02, -0.02, 0.01, 0.0])
    axis = order(found, drift)
    drawn = sum(len(line.get_xdata()) for line in axis.lines if line.get_linestyle() == "None")
    assert drawn == (~found.runs["at_limit"].astype(bool)).sum()
    (line,) = [line for line in axis.lines if line.get_label() == "drift of the repeats"]
    unit = axis.get_xlabel().split()[1]
    per_day = {"days": 1, "hours": 24, "minutes": 1440}[unit]
    assert np.polyfit(*line.get_data(), 1)[0] * per_day == pytest.approx(0.5, abs=0.02)


def test_what_differed_is_drawn_with_what_it_did(study):
    found = study.compare().comparability
    axis = unlike(found)
    told = len(found.odd_runs) + int((~found.pairs["expected"].astype(bool)).sum())
    labels = [label.get_text() for label in axis.get_yticklabels()] if axis.axison else []
    assert len(labels) == min(told, 16)
    assert axis.axison or "Nothing differed" in words_of(axis)


def test_parts_of_the_scatter_that_runs_cannot_tell_say_so():
    runs = pd.DataFrame({"setup": list("aabb"), "value": [50.0, 50.4, 53.0, 53.2]})
    axis = plot(find_repeatability(runs))
    assert words_of(axis).count("these runs cannot tell") == 3
    assert axis.get_xlim()[1] > axis.containers[0][0].get_width()


@pytest.mark.parametrize("seconds", [60, 20_000])
def test_each_core_is_a_row_and_its_highest_moment_is_not_lost(seconds):
    frame = pd.DataFrame({f"cpu.core{k}.temp_c": np.full(seconds, 50.0 + k) for k in range(4)})
    frame.index = pd.Index(np.arange(float(seconds)), name="t_s")
    frame.iloc[seconds // 2, 2] = 99.0
    axis = cores(Recording(frame=frame, name="long", made_up=True))
    (mesh,) = [one for one in axis.collections if isinstance(one, QuadMesh)]
    shown = np.asarray(mesh.get_array()).reshape(4, -1)
    assert shown.shape[1] <= 1200
    assert shown[2].max() == 99.0
    assert [label.get_text() for label in axis.get_yticklabels()] == [f"core {k}" for k in range(4)]
    with pytest.raises(InputError, match="no temperature of a single core"):
        cores(Recording(frame=frame[[]], name="none"))


def test_each_judged_part_has_a_panel_with_the_same_setups(tmp_path):
    folder = tmp_path / "parts"
    folder.mkdir()
    (folder / "study.toml").write_text(
        f'format = 1\ntitle = "$t$"\nmade_up = true\njudge = {list(PARTS)}\n'
        '[machine]\nname = "box"\nlimit_c = 95\n'
    )
    rng, t = np.random.default_rng(1), np.arange(0, 1500.0, 2.0)
    for k in range(4):
        frame = pd.DataFrame({"t_s": t, "room.air.temp_c": 22 + rng.normal(0, 0.05, t.size)})
        for part, rises in PARTS.items():
            course = (1 - np.exp(-np.clip(t - 120, 0, None) / 120)) * rises[k % 2]
            frame[part] = 24 + course + rng.normal(0, 0.1, t.size)
        frame["cpu.package.power_w"] = np.where(t < 120, 10, 95) + rng.normal(0, 0.3, t.size)
        frame.to_csv(tmp_path / f"log{k}.csv", index=False)
        setup = ("front", "side")[k % 2]
        ok("import", tmp_path / f"log{k}.csv", "--study", folder, "--setup", setup, "--new-setup")
    figure = judged(open_study(folder).judged())
    assert [axis.get_title() for axis in figure.axes] == ["processor", "graphics hot spot"]
    assert [label.get_text() for label in figure.axes[0].get_yticklabels()] == ["side", "front"]
    assert "1 pair cooler by one and warmer by another" in figure.get_suptitle()
    page = open_study(folder).report(tmp_path / "page.html").read_text(encoding="utf-8")
    answer, _, rest = page.partition('<h2 id="h-setups">')
    assert "cooler than front at the processor" in answer
    assert '<h2 id="h-parts">Judged parts</h2>' in rest
    assert '<h2 id="h-capacity">' not in rest  # one power tells none
    picture = tmp_path / "judged.png"
    ok("compare", folder, "--judged", "--figure", picture)
    assert picture.stat().st_size > 10_000
    runs = sorted((folder / "runs").iterdir())
    assert "no temperature of a single core" in gelassen("show", runs[0], "--cores").stderr
    for kind in ("order", "differences", "unlike"):
        ok("compare", folder, "--draw", kind, "--figure", tmp_path / f"{kind}.svg")
        assert "<svg" in (tmp_path / f"{kind}.svg").read_text(encoding="utf-8")


def test_thirty_setups_with_hostile_names_can_still_be_read(tmp_path):
    folder, names = (
        tmp_path / "many",
        [f"Cooler {k:02d} $x_{k}$ <b> {'long' * 15}" for k in range(30)],
    )
    folder.mkdir()
    (folder / "study.toml").write_text(
        'format = 1\ntitle = "$and$"\nmade_up = true\n[machine]\nname = "b"\nlimit_c = 95\n'
        f"[factors.cooler]\nlevels = {json.dumps(names)}\n"
        + "".join(f"[setups.{json.dumps(n)}]\ncooler = {json.dumps(n)}\n" for n in names)
    )
    rows = [[name, 60 + k, 22, 95, 30] for k, name in enumerate(names) for _ in range(2)]
    table = pd.DataFrame(rows, columns=["setup", "highest", "room", "power", "minutes"])
    table.to_csv(tmp_path / "runs.csv", index=False)
    ok("enter", folder, "--from", tmp_path / "runs.csv")
    many = open_study(folder)
    for axis in (differences(many.compare()), plot(many.effects())):
        assert len(axis.get_yticklabels()) == 29
        assert all(len(label.get_text()) < 100 for label in axis.get_yticklabels())
    axis = differences(many.compare())
    assert "difference to Cooler 00" in axis.get_xlabel()
    told = [text.get_text() for text in axis.texts]
    assert all("cooler" not in text for text in told)
    assert sum("warmer" in text for text in told) > 15
    assert "$and$" in axis.figure.texts[-1].get_text()
    assert not axis.figure.texts[-1].get_parse_math()


def test_a_varying_load_of_a_graphics_card_has_its_own_lanes_and_its_mean_as_a_line():
    t = np.arange(1500.0)
    rng = np.random.default_rng(4)
    scenes = np.repeat(rng.uniform(90, 220, 23), 60)[: t.size - 120]
    power = np.concatenate([np.full(120, 15.0), scenes])
    frame = pd.DataFrame(
        {"gpu.package.temp_c": 22 + 0.2 * lagged(power, 1.0, 60.0), "room.air.temp_c": 22.0,
         "gpu.package.power_w": power, "gpu.package.clock_mhz": 2500.0, "gpu.memory.clock_mhz": 9000.0,
         "cpu.package.power_w": 30.0},
        index=pd.Index(t, name="t_s"),
    )  # fmt: skip
    recording = Recording(frame=frame)
    summary = summarise_run(recording)
    figure = run(recording, summary)
    shown, clock, watts = figure.axes
    (mean,) = (line for line in shown.lines if line.get_label() == "mean over the load")
    assert mean.get_ydata() == pytest.approx(22 + summary.steady.value, abs=0.1)
    assert mean.get_ydata() == pytest.approx(22 + 0.2 * scenes.mean(), abs=1.0)
    assert clock.get_ylabel() == "clock\nin MHz"  # not the mean with that of the memory
    assert [line.get_label() for line in watts.lines] == ["graphics", "processor"]


def test_names_of_points_at_one_place_do_not_lie_on_each_other():
    names = [f"cooler {k} with a long name" for k in range(12)]
    found = tradeoff(names, [65.0] * 11 + [90.0], [50 + 0.01 * k for k in range(11)] + [60.0])
    axis = plot(found)
    axis.figure.canvas.draw()
    beside = [text for text in axis.texts if text.get_text() in names]
    assert len(beside) == 12
    points = axis.transData.transform([text.xy for text in beside])[:, 1] * 72 / axis.figure.dpi
    heights = np.sort([y + text.xyann[1] for y, text in zip(points, beside, strict=True)])
    assert np.diff(heights).min() > beside[0].get_fontsize() + 2
