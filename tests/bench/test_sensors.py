import errno
import math
import os
import shutil
import threading
import time
from pathlib import Path

import pytest

from gelassen.bench import MachineBench
from gelassen.bench.interface import ChannelInfo
from gelassen.bench.sensors import Sensor, find_sensors
from gelassen.bench.sensors.identity import hwmon_devices, hwmon_finder
from gelassen.bench.sensors.powercap import find_powercap
from gelassen.bench.sensors.reader import Reader, _Thread
from gelassen.core import FileError
from trees import device, write


@pytest.fixture
def tree(tmp_path):
    device(tmp_path, 0, "coretemp", "platform/coretemp.0", {
        "temp1_input": 48000, "temp1_label": "Package id 0",
        "temp2_input": 45000, "temp2_label": "Core 0", "temp3_input": 47500, "temp3_label": "Core 1",
    })  # fmt: skip
    device(tmp_path, 1, "nct7802", "i2c-0/0-0028", {
        "temp4_input": 30000, "fan1_input": 1200, "fan2_input": -1, "pwm1": 128, "pwm1_enable": 1,
        "in0_input": 1050,
    })  # fmt: skip
    device(tmp_path, 2, "nvme", "pci0000:00/0000:00:1d.0/nvme/nvme0", {
        "temp1_input": 49850, "temp1_label": "Composite", "temp1_crit": 99850,
    })  # fmt: skip
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
        "constraint_0_name": "long_term",
        "constraint_0_power_limit_uw": 65000000,
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
        "board.nct7802_28_temp4.temp_c": 30.0, "fan.nct7802_28_fan1.speed_rpm": 1200.0,
        "board.nct7802_28_in0.voltage_v": 1.05, "drive.nvme_00_1d_0.temp_c": 49.85,
        "fan.nct7802_28_pwm1.manual_flag": 1.0, "cpu.package.power_limit_w": 65.0,
        "cpu.core0.clock_mhz": 2600.0, "cpu.core1.clock_mhz": 800.0,
        "cpu.package.throttle_count": 3.0, "cpu.core1.throttle_count": 1.0,
        "cpu.all.load_pct": 90.0, "board.zone_acpitz.temp_c": 40.0,
    }  # fmt: skip
    assert {name: values[name] for name in expected} == pytest.approx(expected)
    assert math.isnan(values["fan.nct7802_28_fan2.speed_rpm"])  # some chips say -1 for "none"
    assert values["fan.nct7802_28_pwm1.duty_pct"] == pytest.approx(50.2, abs=0.1)
    assert [what for what, _ in bench.missing()] == ["room air"]


def test_names_stay_when_the_kernel_numbers_anew_and_when_a_twin_comes(tree, tmp_path_factory):
    other = tmp_path_factory.mktemp("other")
    package = {"temp1_input": 50000, "temp1_label": "Package id 0"}
    device(other, 7, "coretemp", "platform/coretemp.0", package)
    device(other, 3, "nct7802", "i2c-5/5-0028", {"temp4_input": 31000})
    device(other, 1, "nvme", "pci0000:00/0000:00:1d.0/nvme/nvme1", {"temp1_input": 40000})
    names = {sensor.info.name for sensor in find_sensors(other / "sys", None)}
    assert len(names) == 3
    assert names <= {sensor.info.name for sensor in find_sensors(tree / "sys", None)}
    device(other, 4, "nct7802", "i2c-5/5-0029", {"temp4_input": 20000})
    more = {sensor.info.name for sensor in find_sensors(other / "sys", None)}
    assert more == names | {"board.nct7802_29_temp4.temp_c"}


@pytest.mark.parametrize(
    ("driver", "before", "after", "name"),
    [
        ("pump", "pci0000:00/0000:00:14.0/usb1/1-4/1-4:1.0/0003:1B1C:0C10.0001",
         "pci0000:00/0000:00:14.0/usb3/3-4/3-4:1.0/0003:1B1C:0C10.0007", "board.pump_usb_4_temp1"),
        ("drivetemp", "pci0000:00/0000:00:17.0/ata3/host2/target2:0:0/2:0:0:0",
         "pci0000:00/0000:00:17.0/ata3/host5/target5:0:0/5:0:0:0", "drive.drivetemp_ata3"),
        ("nct6779", "platform/nct6775.656", "platform/nct6775.656", "board.nct6779_656_temp1"),
        ("bat0", "LNXSYSTM:00/PNP0C0A:00/power_supply/BAT0", "LNXSYSTM:00/PNP0C0A:00/power_supply/BAT0",
         "board.bat0_temp1"),
        ("loose", "virtual", "virtual", "board.loose_temp1"),
    ],
)  # fmt: skip
def test_a_place_is_known_again_whatever_numbers_it_passes_through(
    tmp_path, driver, before, after, name
):
    device(tmp_path, 3, driver, before, {"temp1_input": 30000})
    (old,) = hwmon_devices(tmp_path / "sys")
    (sensor,) = find_sensors(tmp_path / "sys", None)
    assert sensor.info.name == f"{name}.temp_c"
    shutil.rmtree(tmp_path / "sys")
    device(tmp_path, 8, driver, after, {"temp1_input": 31000})
    assert hwmon_finder(tmp_path / "sys", old.key)() == next(hwmon_devices(tmp_path / "sys")).folder


def test_no_reading_is_dropped_for_having_the_name_of_another(tmp_path):
    chip = {
        "temp1_input": 60000,
        "temp1_label": "edge",
        "temp2_input": 61000,
        "temp2_label": "edge",
    }
    device(tmp_path, 0, "amdgpu", "pci0000:00/0000:03:00.0", chip)
    device(tmp_path, 1, "amdgpu", "pci0000:00/0000:08:00.0", chip)
    write(tmp_path, "sys/devices/pci0000:00/0000:00:1f.4/i2c-0/name", "adapter")
    device(tmp_path, 2, "lm75", "pci0000:00/0000:00:1f.4/i2c-0/0-0048", {"temp1_input": 20000})
    device(tmp_path, 3, "lm75", "pci0000:00/0000:00:1e.2/i2c-1/1-0048", {"temp1_input": 21000})
    names = sorted(s.info.name for s in find_sensors(tmp_path / "sys", None))
    assert names == [
        "board.lm75_48_temp1_adapter.temp_c",
        "board.lm75_48_temp1_i2c.temp_c",
        "gpu.edge_1_03_00_0.temp_c",
        "gpu.edge_1_08_00_0.temp_c",
        "gpu.edge_2_03_00_0.temp_c",
        "gpu.edge_2_08_00_0.temp_c",
    ]


def test_a_graphics_card_tells_temperatures_clock_power_and_load(tmp_path):
    device(tmp_path, 0, "amdgpu", "pci0000:00/0000:03:00.0", {
        "temp1_input": 60000, "temp1_label": "edge", "temp2_input": 71000, "temp2_label": "junction",
        "freq1_input": 2400000000, "freq1_label": "sclk", "power1_average": 150000000,
        "power1_label": "PPT", "power1_cap": 180000000, "fan1_input": 1300,
    })  # fmt: skip
    write(tmp_path, "sys/devices/pci0000:00/0000:03:00.0/gpu_busy_percent", 97)
    assert {s.info.name: s.read() for s in find_sensors(tmp_path / "sys", None)} == {
        "gpu.package.temp_c": 60, "gpu.hotspot.temp_c": 71, "gpu.package.clock_mhz": 2400,
        "gpu.package.power_w": 150, "gpu.package.power_limit_w": 180, "gpu.package.load_pct": 97,
        "fan.amdgpu_03_00_0_fan1.speed_rpm": 1300,
    }  # fmt: skip


def test_a_device_that_returns_under_another_number_is_found_again(tree, monkeypatch):
    def pread(descriptor, size, offset, real=os.pread):
        link = Path(f"/proc/self/fd/{descriptor}")
        if descriptor >= 0 and str(link.readlink()).endswith("(deleted)"):
            raise OSError(errno.ENODEV, "No such device")  # as the kernel does
        return real(descriptor, size, offset)

    monkeypatch.setattr(os, "pread", pread)
    bench = MachineBench(sysfs=tree)
    name = "board.nct7802_28_temp4.temp_c"
    assert bench.read()[name] == 30.0
    (tree / "sys/class/hwmon/hwmon1").unlink()
    shutil.rmtree(tree / "sys/devices/i2c-0/0-0028")
    device(tree, 1, "lm75", "i2c-0/0-0048", {"temp1_input": 99000, "temp4_input": 99000})
    assert math.isnan(bench.read()[name])  # not the value of the device that has its number now
    device(tree, 9, "nct7802", "i2c-3/3-0028", {"temp4_input": 33000})
    time.sleep(1.1)
    assert bench.read()[name] == 33.0
    assert bench.read()["cpu.package.temp_c"] == 48.0
    assert "No such" in bench.failure_reasons()[name]


def test_a_sensor_that_fails_gives_nan_is_counted_and_comes_back(tree):
    bench = MachineBench(sysfs=tree)
    file = tree / "sys/devices/pci0000:00/0000:00:1d.0/nvme/nvme0/hwmon/hwmon2/temp1_input"
    name = "drive.nvme_00_1d_0.temp_c"
    for spoilt in ("<unsupported>\n", "-128000\n", "255000\n", ""):
        file.write_text(spoilt)
        assert bench.read()[name] != bench.read()[name]  # NaN
    assert bench.failures()[name] == 8
    file.write_text("51000\n")
    assert bench.read()[name] == 51.0
    assert bench.read()["cpu.package.temp_c"] == 48.0


def test_power_follows_energy_over_the_wrap_of_its_counter(tree):
    now = [0.0]
    sensor = find_powercap(tree / "sys", clock=lambda: now[0])[0]
    assert math.isnan(sensor.read())  # nothing yet to compare with
    now[0] += 0.5
    file = tree / "sys/class/powercap/intel-rapl:0/energy_uj"
    readings = []
    for energy_uj in (4000000, 4900000, 400000, 1300000):
        file.write_text(f"{energy_uj}\n")
        readings.append(sensor.read())
        now[0] += 0.5
    assert readings == pytest.approx([7.998, 1.8, 1.0, 1.8])
    file.write_text("<unsupported>")
    with pytest.raises(ValueError, match="is not a number"):
        sensor.read()
    file.write_text("1400000")
    assert math.isnan(sensor.read())  # what was used while nobody could look is not guessed


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


def sensor(name, read, *, device, apart=False):
    return Sensor(ChannelInfo(name=name, what=""), read, device=device, apart=apart)


def test_a_device_that_hangs_delays_no_other_and_comes_back():
    answers = threading.Event()
    answers.set()

    def slow():
        answers.wait(60)
        return 2.0

    # Patience that no busy machine uses up, so that only the hanging device exceeds it.
    reader = Reader(
        [
            sensor("cpu.package.temp_c", lambda: 1.0, device="a"),
            sensor("board.slow.temp_c", slow, device="b"),
            sensor("board.last.temp_c", lambda: 3.0, device="c"),
        ],
        patience_s=2.0,
    )
    assert list(reader.read().values()) == [1.0, 2.0, 3.0]
    answers.clear()
    for missed in range(1, 21):
        values = reader.read()  # a reader that waits for the device would return its 2.0
        assert math.isnan(values["board.slow.temp_c"])
        assert (values["cpu.package.temp_c"], values["board.last.temp_c"]) == (1.0, 3.0)
        assert reader.failures["board.slow.temp_c"] == missed
    assert reader.reasons["board.slow.temp_c"] == "no answer in time"
    answers.set()
    deadline = time.monotonic() + 30
    while len(reader._together) < 3 and time.monotonic() < deadline:
        reader.read()
        time.sleep(0.01)  # as between samples
    assert len(reader._together) == 3
    assert reader.read()["board.slow.temp_c"] == 2.0
    reader.close()


def test_a_device_that_hangs_is_left_even_where_every_wait_takes_long(monkeypatch):
    release = threading.Event()
    reader = Reader(
        [
            sensor("board.slow.temp_c", lambda: release.wait(20) or 2.0, device="a"),
            sensor("cpu.package.temp_c", lambda: 1.0, device="b"),
        ]
    )

    def slow_wait(self, timeout_s, real=_Thread.wait):
        time.sleep(0.03)  # as where the processor is needed elsewhere
        return real(self, timeout_s)

    monkeypatch.setattr(_Thread, "wait", slow_wait)
    began = time.monotonic()
    values = reader.read()
    assert time.monotonic() - began < 3
    assert values["cpu.package.temp_c"] == 1.0
    assert math.isnan(values["board.slow.temp_c"])
    release.set()
    reader.close()


def test_whatever_a_reader_raises_the_others_are_read():
    def fails():
        raise RuntimeError("a mistake of ours")

    reader = Reader(
        [sensor("a.b.temp_c", fails, device="x"), sensor("a.c.temp_c", lambda: 1.0, device="x")]
    )
    values = reader.read()
    assert math.isnan(values["a.b.temp_c"])
    assert values["a.c.temp_c"] == 1.0
    assert reader.failures == {"a.b.temp_c": 1}


def test_a_faulty_probe_is_no_reading_and_limits_and_alarms_are_told(tree):
    folder = tree / "sys/devices/i2c-0/0-0028/hwmon/hwmon1"
    (folder / "temp4_fault").write_text("1\n")
    (folder / "temp4_max_alarm").write_text("0\n")
    (folder / "temp4_crit_alarm").write_text("1\n")
    bench = MachineBench(sysfs=tree)
    values = bench.read()
    assert math.isnan(values["board.nct7802_28_temp4.temp_c"])
    assert "faulty" in bench.failure_reasons()["board.nct7802_28_temp4.temp_c"]
    assert values["board.nct7802_28_temp4.alarm_flag"] == 1.0
    limits = {info.name: info.limits for info in bench.channels()}
    assert limits["drive.nvme_00_1d_0.temp_c"] == {"crit": 99.85}


def test_a_device_that_never_answers_holds_up_neither_start_nor_run(tree):
    os.mkfifo(tree / "fifo")
    file = tree / "sys/devices/i2c-0/0-0028/hwmon/hwmon1/temp4_input"
    file.unlink()
    (tree / "fifo").rename(file)  # opening it waits for somebody to write
    began = time.monotonic()
    bench = MachineBench(sysfs=tree)
    assert time.monotonic() - began < 5
    (info,) = (i for i in bench.channels() if i.name == "board.nct7802_28_temp4.temp_c")
    assert (info.readable, info.problem) == (True, "no answer in time")
    for _ in range(3):
        began = time.monotonic()
        assert bench.read()["cpu.package.temp_c"] == 48.0
        assert time.monotonic() - began < 5
    file.open("w").close()  # let the threads go
