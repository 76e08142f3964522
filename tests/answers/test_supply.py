"""Tasks of a small board: current, watts and temperature, and what is left of the supply."""

import numpy as np
import pandas as pd
import pytest

from command_line import ok
from gelassen import open_study, read_log

STUDY = """format = 1
title = "a board"
made_up = true
reference = "room.air.temp_c"
[machine]
name = "Small board"
limit_c = 85
supply_w = 15
supply_v = 5.0
[factors.load]
levels = ["video", "build"]
[setups.video]
load = "video"
[setups.build]
load = "build"
"""


def test_tasks_stand_beside_the_current_and_the_margin_of_the_supply(tmp_path):
    (tmp_path / "study.toml").write_text(STUDY, encoding="utf-8")
    seconds = np.arange(1200.0)
    rng = np.random.default_rng(3)
    for task, watts in (("video", 6.0), ("build", 12.5)):
        loaded = (seconds > 100) & (seconds < 1100)
        drawn = np.where(loaded, watts, 2.0)
        rise = 8.4 + np.where(
            loaded, 4.2 * (watts - 2.0) * (1 - np.exp(-(seconds - 100) / 120.0)), 0.0
        )
        log = {
            "time": seconds, "CPU temp (°C)": 24 + rise + rng.normal(0, 0.1, seconds.size),
            "room (°C)": 24 + rng.normal(0, 0.05, seconds.size), "CPU load (%)": np.where(loaded, 99, 2),
            "supply power (W)": drawn + rng.normal(0, 0.02, seconds.size),
        }  # fmt: skip
        pd.DataFrame(log).to_csv(tmp_path / f"{task}.csv", index=False)
        ok("import", tmp_path / f"{task}.csv", "--study", tmp_path, "--setup", task, "-y")
    found = open_study(tmp_path).loads()
    build = found.setups.set_index("load").loc["build"]
    assert build["supply_w"] == pytest.approx(12.5, abs=0.05)
    assert build["supply_a"] == pytest.approx(2.5, abs=0.01)
    assert build["supply_margin_w"] == pytest.approx(2.4, abs=0.1)
    assert [one.sizes["load"] for one in found.cautions if one.code == "little_supply_margin"] == [
        "build"
    ]
    text = ok("compare", tmp_path, "--loads", "--no-figure")
    assert "supply W" in text
    assert "of a supply rated for 15 W" in text


@pytest.mark.parametrize(("headers", "parts"), [
    (("SoC temp (°C)", "vin_V", "iin_A"), ("cpu.package", "wall.supply", "wall.supply")),
    (("die_temp", "voltage", "current"), ("cpu.package", "wall.supply", "wall.supply")),
    (("CPU (°C)", "SoC (°C)", "VIN4 (V)"), ("cpu.package", "log.soc", "log.vin4")),
    (("CPU (°C)", "Vcore (V)", "Current (A)"), ("cpu.package", "cpu.package", "log.current")),
])  # fmt: skip
def test_what_feeds_a_small_board_is_its_supply(tmp_path, headers, parts):
    seconds = np.arange(300.0)
    readings = {header: 5.0 + 40 * (1 - np.exp(-seconds / 90)) for header in headers}
    pd.DataFrame({"time (s)": seconds, **readings}).to_csv(tmp_path / "board.csv", index=False)
    found = read_log(tmp_path / "board.csv").frame
    assert [name.rpartition(".")[0] for name in found][:3] == list(parts)
    assert ("wall.supply.power_w" in found) == (parts.count("wall.supply") == 2)
