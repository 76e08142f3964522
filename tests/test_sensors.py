import os
from pathlib import Path

import pytest

from gelassen.bench import MachineBench
from gelassen.bench.sensors import find_sensors
from gelassen.bench.sensors.powercap import find_powercap
from gelassen.core import FileError


def write(root, path, text):
    file = root / path
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_text(f"{text}\n")
    return file


def device(root, number, driver, address, files):
    """Make a hwmon device as the kernel lays it out: a class link into the tree of devices."""
    home = root / "sys/devices" / address
    for name, text in {"name": driver, **files}.items():
        write(home, f"hwmon/hwmon{number}/{name}", text)
    folder = home / f"hwmon/hwmon{number}"
    (folder / "device").symlink_to("../..")
    link = root / "sys/class/hwmon" / f"hwmon{number}"
    link.parent.mkdir(parents=True, exist_ok=True)
    link.symlink_to(os.path.relpath(folder, link.parent))


@pytest.fixture
def tree(tmp_path):
    device(tmp_path, 0, "coretemp", "coretemp.0", {
        "temp1_input": 48000, "temp1_label": "Package id 0",
        "temp2_input": 45000, "temp2_label": "Core 0", "temp3_input": 47500, "temp3_label": "Core 1",
    })  # fmt: skip
    device(tmp_path, 1, "nct7802", "0-0028", {
        "temp4_input": 30000, "fan1_input": 1200, "pwm1": 128, "pwm1_enable": 1, "in0_input": 1050,
    })  # fmt: skip
    device(tmp_path, 2, "nvme", "nvme0", {"temp1_input": 49850, "temp1_label": "Composite"})
    cpu = "sys/devices/system/cpu"
    for k, khz in enumerate((2600000, 800000)):
        write(tmp_path, f"{cpu}/cpu{k}/cpufreq/scaling_cur_freq", khz)
        write(tmp_path, f"{cpu}/cpu{k}/thermal_throttle/core_throttle_count", k)
    write(tmp_path, f"{cpu}/cpu0/thermal_throttle/package_throttle_count", 3)
    zone = "sys/class/powercap/intel-rapl:0"
    for name, text in {
        "name": "package-0",
        "energy_uj": 1000,
        "max_energy_range_uj": 5000000,
    }.items():
        write(tmp_path, f"{zone}/{name}", text)
    write(tmp_path, "proc/stat", "cpu  100 0 100 800 0 0 0 0 0 0")
    write(tmp_path, "sys/class/thermal/thermal_zone0/type", "acpitz")
    write(tmp_path, "sys/class/thermal/thermal_zone0/temp", 40000)
    return tmp_path


def test_every_kind_of_sensor_is_found_named_and_converted(tree):
    bench = MachineBench(sysfs=tree)
    write(tree, "proc/stat", "cpu  190 0 100 810 0 0 0 0 0 0")
    values = bench.read()
    expected = {
        "cpu.package.temp_c": 48.0, "cpu.core0.temp_c": 45.0, "cpu.core1.temp_c": 47.5,
        "board.nct7802_temp4.temp_c": 30.0, "fan.nct7802_fan1.speed_rpm": 1200.0,
        "board.nct7802_in0.voltage_v": 1.05, "drive.nvme0.temp_c": 49.85,
        "cpu.core0.clock_mhz": 2600.0, "cpu.core1.clock_mhz": 800.0,
        "cpu.package.throttle_count": 3.0, "cpu.core1.throttle_count": 1.0,
        "cpu.all.load_pct": 90.0, "board.zone_acpitz.temp_c": 40.0,
    }  # fmt: skip
    assert {name: values[name] for name in expected} == pytest.approx(expected)
    assert values["fan.nct7802_pwm1.duty_pct"] == pytest.approx(50.2, abs=0.1)
    assert [what for what, _ in bench.missing()] == ["room air"]


def test_names_stay_when_the_kernel_numbers_anew(tree, tmp_path_factory):
    other = tmp_path_factory.mktemp("other")
    device(
        other, 7, "coretemp", "coretemp.0", {"temp1_input": 50000, "temp1_label": "Package id 0"}
    )
    device(other, 3, "nct7802", "0-0028", {"temp4_input": 31000})
    names = {sensor.info.name for sensor in find_sensors(other / "sys", None)}
    assert names <= {sensor.info.name for sensor in find_sensors(tree / "sys", None)}
    device(other, 4, "lm75", "0-0048", {"temp1_input": 20000})
    device(other, 5, "lm75", "0-0049", {"temp1_input": 21000})
    twins = {
        s.info.name: s.read() for s in find_sensors(other / "sys", None) if "lm75" in s.info.name
    }
    assert twins == {"board.lm75_0_0048_temp1.temp_c": 20.0, "board.lm75_0_0049_temp1.temp_c": 21.0}


def test_a_sensor_that_fails_gives_nan_is_counted_and_comes_back(tree):
    bench = MachineBench(sysfs=tree)
    file = tree / "sys/devices/nvme0/hwmon/hwmon2/temp1_input"
    name = "drive.nvme0.temp_c"
    for spoilt in ("<unsupported>\n", "-128000\n", "255000\n", ""):
        file.write_text(spoilt)
        assert bench.read()[name] != bench.read()[name]  # NaN
    assert bench.failures() == {name: 8}
    file.write_text("51000\n")
    assert bench.read()[name] == 51.0
    assert bench.read()["cpu.package.temp_c"] == 48.0


def test_power_follows_energy_over_the_wrap_of_its_counter(tree):
    now = [0.0]
    (sensor,) = find_powercap(tree / "sys", clock=lambda: now[0])
    file = tree / "sys/class/powercap/intel-rapl:0/energy_uj"
    readings = []
    for energy_uj in (4000000, 4900000, 400000, 1300000):
        file.write_text(f"{energy_uj}\n")
        readings.append(sensor.read())
        now[0] += 0.5
    assert readings[0] != readings[0]
    assert readings[1:] == pytest.approx([1.8, 1.0, 1.8])


def test_what_is_missing_is_said_with_what_to_do(tmp_path):
    (tmp_path / "sys/class").mkdir(parents=True)
    missing = dict(MachineBench(sysfs=tmp_path).missing())
    assert "modprobe" in missing["processor temperature"]
    assert {"fan speed", "power", "room air"} <= set(missing)
    with pytest.raises(FileError, match="no such folder"):
        MachineBench(sysfs=tmp_path / "none")
    with pytest.raises(FileError, match="does not look like /sys"):
        MachineBench(sysfs=tmp_path / "sys/class")


def test_the_machine_at_hand_can_be_read():
    bench = MachineBench()
    values = bench.read()
    assert set(values) == {info.name for info in bench.channels() if info.readable}
    assert Path("/proc/stat").exists() == ("cpu.all.load_pct" in values)
