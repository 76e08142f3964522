"""Fans that software keeps on a curve, whatever fails meanwhile."""

import numpy as np

from gelassen.bench.machine import MachineBench
from gelassen.conduct.curve_keeper import CurveKeeper
from gelassen.conduct.settings import Settings
from gelassen.core import BenchError
from gelassen.core.fans.curve import FanCurve
from trees import device, settable_tree, write

STOP_BELOW_C = 45.0


class Fan:
    """A fan that refuses now and then."""

    name, what, low, high = "fan.cpu.duty_pct", "duty", 0.0, 100.0

    def __init__(self):
        self.duty, self.refuses = 100.0, False

    def read(self):
        return self.duty

    def set(self, value):
        if self.refuses:
            raise BenchError("fan.cpu.duty_pct: no answer")
        self.duty = float(value)


def test_no_fault_leaves_a_fan_stopped_or_behind_its_curve_for_more_than_two_samples():
    rng = np.random.default_rng(3)
    for _ in range(1000):
        curve = FanCurve(
            temperatures_c=(50.0, 80.0), duties_pct=(30.0, 90.0), stop_below_c=STOP_BELOW_C,
            start_pct=40.0, least_pct=20.0, hysteresis_k=float(rng.choice([0.0, 3.0])),
            follows=("cpu.package.temp_c",),
        )  # fmt: skip
        fan = Fan()
        keeper = CurveKeeper(fan, curve)
        temp, answered = rng.uniform(30, 90), 0
        for second in range(25):
            if rng.random() < 0.2:
                temp, answered = rng.uniform(30, 95), 0
            fan.refuses = bool(rng.random() < 0.2)
            missing = rng.random() < 0.2
            said = keeper.follow(float(second), {"cpu.package.temp_c": np.nan if missing else temp})
            answered = 0 if fan.refuses else answered + 1
            assert bool(said) <= fan.refuses  # it says so, and only then
            if answered >= 2 and temp > STOP_BELOW_C:
                assert fan.duty >= curve.duty_at(temp) - 2.5
                assert fan.duty > 0
            if answered >= 2 and missing:
                assert fan.duty == 100.0


def test_a_temperature_that_is_named_counts_alone():
    fan = Fan()
    curve = FanCurve(
        temperatures_c=(40.0, 80.0), duties_pct=(20.0, 100.0), follows=("vrm.1.temp_c",)
    )
    keeper = CurveKeeper(fan, curve)
    keeper.follow(0.0, {"vrm.1.temp_c": 60.0, "cpu.package.temp_c": 95.0})
    assert fan.duty == 60.0
    every = CurveKeeper(fan, FanCurve(temperatures_c=(40.0, 80.0), duties_pct=(20.0, 100.0)))
    every.follow(0.0, {"vrm.1.temp_c": 95.0, "cpu.package.temp_c": 50.0, "gpu.core.temp_c": 70.0})
    assert fan.duty == 80.0


def test_on_a_tree_of_the_kernel_the_loop_follows_in_two_samples_and_mode_and_duty_return(tmp_path):
    root = settable_tree(tmp_path)
    chip = device(
        root, 2, "coretemp", "platform/coretemp.0",
        {"temp1_input": 40000, "temp1_label": "Package id 0"},
    )  # fmt: skip
    fan = root / "sys/class/hwmon/hwmon1"
    bench = MachineBench(sysfs=root / "sys")
    duty = "fan.nct7802_28_pwm1.duty_pct"
    temp = next(i.name for i in bench.channels() if i.name.endswith("package.temp_c"))
    curve = FanCurve(
        temperatures_c=(40.0, 80.0), duties_pct=(20.0, 100.0), stop_below_c=30.0, follows=(temp,)
    )
    settings = Settings(bench, {}, {duty: curve})
    settings.make()
    rng = np.random.default_rng(4)
    second, due = 0.0, 100.0
    for _ in range(60):
        kind = rng.choice(["hot", "empty", "garbled"], p=[0.6, 0.2, 0.2])
        celsius = float(rng.integers(35, 90))
        text = {"hot": int(1000 * celsius), "empty": "", "garbled": "?"}[str(kind)]
        write(chip, "temp1_input", text)
        due = curve.duty_at(celsius) if kind == "hot" else 100.0
        for _ in range(2):
            assert settings.follow(second, bench.read()) == []
            second += 1.0
        assert abs(int((fan / "pwm1").read_text()) / 2.55 - due) <= 2.5
    assert settings.put_back() == []
    assert (fan / "pwm1").read_text().strip() == "77"
    assert (fan / "pwm1_enable").read_text().strip() == "2"
