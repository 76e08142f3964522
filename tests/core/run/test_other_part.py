"""A part that is not under test holds the chip back: a regulator, or a chip that shares the budget."""

import numpy as np
import pandas as pd
import pytest

from command_line import ok
from gelassen import summarise_run
from gelassen.core.recording.recording import Recording

ONSET_S = 900


def log(regulator_stops=True, graphics_w=0.0, *, takes=False, seconds=2400):
    """Return a load of 140 W from 300 s on that is cut to 128 W at `ONSET_S`."""
    rng = np.random.default_rng(4)
    t = np.arange(seconds, dtype=float)
    loaded, cut = t >= 300, t >= ONSET_S
    power = np.where(loaded, np.where(cut, 128 + 0.5 * np.sin(t / 40), 140.0), 18.0)
    rise, regulator = np.zeros((2, seconds))
    parts = np.array([3.0, 2.0, 2.0])
    for k in range(1, seconds):
        parts += (power[k] * 0.4 * np.array([0.3, 0.3, 0.4]) - parts) / np.array([6.0, 90.0, 420.0])
        rise[k] = parts.sum()
        regulator[k] = regulator[k - 1] + (power[k] * 0.62 - regulator[k - 1]) / 500
    if regulator_stops:
        regulator[cut] = regulator[ONSET_S]
    return pd.DataFrame(
        {
            "cpu.package.temp_c": 22 + rise + rng.normal(0, 0.2, seconds),
            "cpu.package.power_w": power + rng.normal(0, 0.5, seconds),
            "cpu.all.clock_mhz": np.where(
                loaded, np.where(cut, 4300 + 25 * np.sign(np.sin(t / 40)), 4500), 1200
            ),
            "room.air.temp_c": 22 + rng.normal(0, 0.03, seconds),
            "vrm.1.temp_c": 22 + regulator + rng.normal(0, 0.3, seconds),
            "gpu.package.power_w": graphics_w + (14.0 * cut if takes else 0.0) + 0 * t,
        },
        index=t,
    )


def summary(frame, **more):
    return summarise_run(Recording(frame=frame, reference="room.air.temp_c", limit_c=100.0, **more))


def test_a_regulator_at_its_limit_is_named_as_the_cause():
    frame = log()
    limit_c = float(frame["vrm.1.temp_c"].iloc[ONSET_S:].mean()) + 0.5
    found = summary(frame, limits_c={"vrm.1.temp_c": limit_c})
    by = found.throttling.other_part
    assert by.channel == "vrm.1.temp_c"
    assert by.from_s == pytest.approx(ONSET_S, abs=5)
    assert found.throttling.power_cause == f"regulator 1 at its limit of {limit_c:g} °C"
    (said,) = [one for one in found.cautions if one.sizes.get("channel") == "vrm.1.temp_c"]
    assert said.code == "held_by_other_part"


def test_a_regulator_that_is_read_less_often_is_named_and_its_cut_is_no_level_of_power():
    frame = log()
    frame["vrm.1.temp_c"] = frame["vrm.1.temp_c"].where(np.arange(len(frame)) % 5 == 0)
    found = summary(frame, limits_c={"vrm.1.temp_c": float(frame["vrm.1.temp_c"].max())})
    assert found.throttling.other_part.channel == "vrm.1.temp_c"
    assert len(found.stretches) > 1
    assert found.levels == ()


def test_a_regulator_without_a_stated_limit_is_named_if_it_stopped_warming_then():
    assert summary(log()).throttling.other_part.channel == "vrm.1.temp_c"
    assert summary(log(regulator_stops=False)).throttling.other_part is None


def test_a_chip_that_took_the_power_is_named():
    by = summary(log(False, 40.0, takes=True)).throttling.other_part
    assert by.channel == "gpu.package.power_w"
    assert by.took_w == pytest.approx(14, abs=1)


def test_power_at_a_stated_limit_needs_no_other_cause():
    frame = log(False, 40.0, takes=True)
    held = frame.index >= ONSET_S
    frame.loc[held, "cpu.package.power_w"] = 128.0
    frame.loc[held, "cpu.all.clock_mhz"] = 4300.0
    found = summary(frame, power_limit_w=128.0).throttling
    assert found.power_share > 0.5
    assert found.other_part is None


def test_a_comparison_says_which_part_held_a_setup_back_and_at_which_powers(tmp_path):
    free = log(regulator_stops=False)
    uncut = free["cpu.package.power_w"].iloc[300:ONSET_S].mean()
    free.loc[ONSET_S:, "cpu.package.power_w"] = uncut
    free.loc[ONSET_S:, "cpu.all.clock_mhz"] = 4500.0
    for setup, frame in (("tower", log()), ("down", free)):
        frame.rename_axis("t_s").to_csv(tmp_path / f"{setup}.csv")
        ok(
            "import", f"{setup}.csv", "--study", "s", "--setup", setup, "--new-setup", "--limit", 100, "-y",
            cwd=tmp_path,
        )  # fmt: skip
    said = " ".join(ok("compare", "s", "--no-figure", cwd=tmp_path).split())
    assert "In tower, regulator 1 was at its limit and held the chip back (1 of 1 run, 71 %" in said
    assert "They drew unlike powers, from 128 W (tower) to 140 W (down)" in said


def test_a_stretch_after_a_cut_is_not_left_open_where_the_first_showed_the_slowest_constant():
    last = summary(log(False)).stretches[-1].steady
    assert np.isfinite([last.low, last.high]).all()
    assert last.low < 128 * 0.4 < last.high
