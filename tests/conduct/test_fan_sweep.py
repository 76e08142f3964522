"""Sweeps of fan duties at rest: what drives what, where fans stop and start; all is put back."""

import pytest

from command_line import gelassen, gelassen_apart, ok
from gelassen.bench.machine import MachineBench
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct.fan_sweep import sweep_fans
from gelassen.core.foundation.errors import BenchError, InputError
from trees import device, settable_tree, write

DUTY, FAN = "fan.cpu.duty_pct", "fan.cpu.speed_rpm"


def test_the_sweep_finds_speed_stall_and_start_and_the_fan_follows_its_curve_again():
    bench = SimulatedBench(cooler=COOLERS["Brise 120"], curve=CURVES["on-air"], seed=4)
    bench.sleep(300)
    before = bench.read()[FAN]
    [fan] = sweep_fans(bench)[DUTY].fans
    assert (fan.duty, fan.fan, fan.stalls_pct, fan.starts_pct) == (DUTY, FAN, 10.0, 20.0)
    for duty, rpm in zip(*fan.turning, strict=True):
        assert rpm == pytest.approx(18.0 * duty, rel=0.03, abs=12)
    bench.sleep(300)
    assert bench.read()[FAN] == pytest.approx(before, abs=60)


class Board(MachineBench):
    """A board below a tree: one fan follows its duty, another follows nothing."""

    def __init__(self, root, *, floor=0.0, ends_at=None):
        super().__init__(sysfs=root)
        self._folder = root / "sys/class/hwmon/hwmon1"
        self._now_s, self._turns, self._floor, self._ends_at = 0.0, True, floor, ends_at

    def now(self):
        return self._now_s

    def sleep(self, seconds):
        self._now_s += seconds
        if self._ends_at is not None and self._now_s > self._ends_at:
            raise KeyboardInterrupt
        duty = max(float((self._folder / "pwm1").read_text()) / 2.55, self._floor)
        self._turns = duty >= (14 if self._turns else 22)
        (self._folder / "fan1_input").write_text(f"{20 * duty * self._turns:.0f}\n")


def a_board(tmp_path, **options):
    root = settable_tree(tmp_path)
    folder = root / "sys/class/hwmon/hwmon1"
    (folder / "fan2_input").write_text("1200\n")
    device(root, 2, "k10temp", "pci0/0-3", {"temp1_input": 40000, "temp1_label": "Tctl"})
    return Board(root, **options), folder


def untouched(folder):
    return (folder / "pwm1").read_text().strip() == "77" and (
        folder / "pwm1_enable"
    ).read_text().strip() == "2"


def test_a_duty_is_told_with_the_fan_it_drives_and_with_the_range_that_does_nothing(tmp_path):
    bench, folder = a_board(tmp_path, floor=40.0)
    [swept] = sweep_fans(bench).values()
    [fan] = swept.fans
    assert "fan1" in fan.fan
    assert "pwm1" in fan.duty
    assert (fan.stalls_pct, fan.starts_pct, fan.dead_pct) == (None, None, ((0.0, 40.0),))
    assert "never stops" in str(fan)
    assert untouched(folder)


@pytest.mark.parametrize("after_s", [0.5, 7, 30, 61, 95])
def test_an_interrupted_sweep_puts_the_duty_back(tmp_path, after_s):
    bench, folder = a_board(tmp_path, ends_at=after_s)
    with pytest.raises(KeyboardInterrupt):
        sweep_fans(bench)
    assert untouched(folder)


def test_the_guard_ends_a_sweep(tmp_path):
    bench, folder = a_board(tmp_path)
    (folder.parent / "hwmon2/temp1_input").write_text("106000\n")
    with pytest.raises(BenchError, match=r"ended: .* reached 106\.0 °C"):
        sweep_fans(bench)
    assert untouched(folder)


def test_a_duty_that_drives_nothing_is_said_after_its_two_ends(tmp_path):
    root = settable_tree(tmp_path)
    write(root, "sys/class/hwmon/hwmon1/fan1_input", 900)
    bench = Board(root)
    bench._folder = tmp_path / "elsewhere"
    bench._folder.mkdir()
    (bench._folder / "pwm1").write_text("0")
    [swept] = sweep_fans(bench).values()
    assert not swept.fans
    assert not swept.refused
    with pytest.raises(InputError, match="is no duty that can be set here"):
        sweep_fans(bench, ["fan.pump.duty_pct"])


STUDY = """\
format = 1
title = "curves"
made_up = true
reference = "room.air.temp_c"

[machine]
name = "Playout box"
limit_c = 95

[factors.curve]
channel = "fan.cpu.duty_pct"
changed_by = "software"
levels = ["quiet"]
curves.quiet = "40: 30, 60: 45, 80: 70"

[setups.quiet]
curve = "quiet"
"""


def test_a_stored_sweep_refuses_a_curve_that_lets_the_fan_stand(tmp_path):
    (tmp_path / "study.toml").write_text(STUDY)
    asked = ["channels", "--sweep", "--simulate", "--store", "--study", tmp_path]
    noted = gelassen_apart(*asked, "--noise", input="41.5\nloud\n" + "\n" * 20)
    assert noted.returncode == 0, noted.stderr
    text = (tmp_path / "study.toml").read_text()
    assert "stalls_pct = 10" in text
    assert "41.5" in text
    assert '"loud"' in text
    ok(*asked)
    assert (tmp_path / "study.toml").read_text().count("[[fans]]") == 1
    real = STUDY.replace("made_up = true\n", "")
    (tmp_path / "study.toml").write_text(real)
    refused = gelassen(*asked)
    assert refused.returncode == 2
    assert "is not marked so" in refused.stderr
    assert (tmp_path / "study.toml").read_text() == real
    assert gelassen("channels", "--simulate", "--together", "room.air.temp_c").returncode == 2
    (tmp_path / "study.toml").write_text(text.replace('"40: 30,', '"40: 10,', 1))
    said = gelassen("compare", tmp_path)
    assert said.returncode == 2
    assert "stands still at 10 %" in said.stderr
    assert "begin at 15 %" in said.stderr
