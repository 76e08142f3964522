"""Channels the tester describes: other names, offsets, instruments, programs; cards by their library."""

import math
import re
import subprocess
import sys
import time
from types import SimpleNamespace

import psutil
import pytest

from gelassen.bench import MachineBench
from gelassen.bench.adjusted import AdjustedBench
from gelassen.bench.described import ChannelSpec, described_sensors
from gelassen.bench.sensors.nvml import find_nvml
from gelassen.bench.sensors.other import find_other
from gelassen.bench.simulated.instrument import ScpiServer
from gelassen.conduct.study_bench import channel_specs, study_bench
from gelassen.core import FileError, InputError
from gelassen.core.recording.units import conversion
from gelassen.study.file.reader import read_study_file
from trees import device, write


@pytest.fixture
def tree(tmp_path):
    device(tmp_path, 1, "nct7802", "i2c-0/0-0028", {"temp4_input": 60500, "pwm1": 128})
    write(tmp_path, "sys/class/thermal/thermal_zone0/type", "acpitz")
    write(tmp_path, "sys/class/thermal/thermal_zone0/temp", 40000)
    return tmp_path


def bench_of(tree, specs):
    return AdjustedBench(MachineBench(sysfs=tree, extra=described_sensors(specs)), specs)


def test_a_channel_gets_the_testers_name_offset_and_setting(tree):
    study = tree / "study.toml"
    study.write_text(
        'format = 1\ntitle = "x"\n[machine]\nname = "box"\nlimit_c = 95\n'
        '[channels."vrm.1.temp_c"]\nfrom = "board.nct7802_28_temp4.temp_c"\noffset = -0.75\n'
        '[channels."fan.front.duty_pct"]\nfrom = "fan.nct7802_28_pwm1.duty_pct"\n'
    )
    bench = study_bench(read_study_file(study), sysfs=tree)
    values = bench.read()
    assert values["vrm.1.temp_c"] == 59.75
    assert "board.nct7802_28_temp4.temp_c" not in values
    (info,) = (info for info in bench.channels() if info.name == "vrm.1.temp_c")
    assert "named board.nct7802_28_temp4.temp_c by the machine; -0.75 added" in info.what
    fan = bench.actuators()["fan.front.duty_pct"]
    with pytest.raises(Exception, match=r"^fan.front.duty_pct: 200 % asked for"):
        fan.set(200.0)
    command = [sys.executable, "-c", "from gelassen.cli import main; main()", "channels"]
    shown = subprocess.run(
        [*command, "--study", str(tree), "--sysfs", str(tree)],
        capture_output=True, text=True, check=True,
    ).stdout  # fmt: skip
    assert re.search(r"vrm.1.temp_c +59.8 °C", shown)
    assert re.search(r"fan.front.duty_pct +50.2 % +0 to 100 %", shown)
    (tree / "sys/class/hwmon/hwmon1/temp4_input").write_text("<unsupported>\n")
    assert math.isnan(bench.read()["vrm.1.temp_c"])
    assert bench.failures() == {"vrm.1.temp_c": 1}


@pytest.mark.parametrize(
    ("table", "said"),
    [
        ('[channels."vrm.temp_c"]\noffset = 1', "is not a channel name"),
        ('[channels."vrm.1.temp_c"]\nofset = 1', 'unknown key "ofset".*Did you mean "offset"'),
        ('[channels."a.b.temp_c"]\nquery = "MEAS?"', "resource and query belong together"),
        (
            '[channels."a.b.temp_c"]\nfrom = "c.d.temp_c"\ncommand = "x"',
            "a channel has one of them",
        ),
        ('[load]\nname = "game"', "load.name"),
    ],
)
def test_mistakes_in_the_study_file_are_named(tmp_path, table, said):
    path = tmp_path / "study.toml"
    path.write_text(f'format = 1\ntitle = "x"\n[machine]\nname = "b"\nlimit_c = 95\n{table}\n')
    with pytest.raises(FileError, match=f"study.toml, line \\d+.*{said}"):
        read_study_file(path)


@pytest.mark.parametrize(
    ("name", "spec", "said"),
    [
        (
            "vrm.1.temp_c",
            {"origin": "board.nct7802_28_temp5.temp_c"},
            'Did you mean ".*temp4.temp_c"',
        ),
        ("vrm.1.power_w", {"origin": "board.nct7802_28_temp4.temp_c"}, "cannot become W"),
        ("board.zone_acpitz.temp_c", {"origin": "board.nct7802_28_temp4.temp_c"}, "already"),
        ("room.air.temp_c", {"command": ("true",), "unit": "bar"}, '"bar" cannot become °C'),
        ("room.air.temp_c", {"command": ("true",), "pattern": "("}, "the pattern"),
    ],
)
def test_descriptions_that_cannot_be_meant_are_refused(tree, name, spec, said):
    with pytest.raises(InputError, match=said):
        bench_of(tree, {name: ChannelSpec(**spec)})


def test_units_become_those_of_the_channel():
    assert conversion("°F", "room.air.temp_c")(72.5) == pytest.approx(22.5)
    assert conversion("mV", "wall.supply.voltage_v")(230) == pytest.approx(0.23)
    assert conversion("gal/min", "loop.flow.flow_lpm")(1) == pytest.approx(3.785, abs=1e-3)
    assert conversion("K", "room.air.temp_c")(300) == pytest.approx(26.85)


def waited(bench, name, seconds=30.0):
    """Read until a slow channel has a value."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        value = bench.read()[name]
        if not math.isnan(value):
            return value
        time.sleep(0.05)
    return math.nan


def test_an_instrument_is_asked_over_a_real_socket_and_found_again(tree):
    volts = ["12.000"]
    answers = {"MEAS:VOLT?": lambda: volts[0], "MEAS:CURR?": lambda: "8.5E-1"}
    with ScpiServer(answers) as server:
        specs = {
            "wall.supply.voltage_v": ChannelSpec(resource=server.resource, query="MEAS:VOLT?"),
            "wall.supply.current_a": ChannelSpec(resource=server.resource, query="MEAS:CURR?"),
            "wall.supply.temp_c": ChannelSpec(
                resource=server.resource, query="MEAS:FOO?", timeout_s=0.2
            ),
        }
        bench = bench_of(tree, specs)
        assert waited(bench, "wall.supply.power_w") == pytest.approx(10.2)
        volts[0] = "9.91E37"
        reason, end = "", time.monotonic() + 6
        while "over range" not in reason and time.monotonic() < end:
            time.sleep(0.1)
            value = bench.read()["wall.supply.voltage_v"]
            reason = bench.failure_reasons().get("wall.supply.voltage_v", "")
        assert math.isnan(value)
        assert "over range" in reason
    assert bench.failures()["wall.supply.temp_c"] > 0
    assert bench.read()["board.zone_acpitz.temp_c"] == 40.0


SIMULATED = """
spec: "1.1"
devices:
  thermometer:
    eom:
      ASRL INSTR: {q: "\\n", r: "\\n"}
    dialogues:
      - {q: "READ? 2", r: "T2= 71.6 F, ok"}
resources:
  ASRL1::INSTR: {device: thermometer}
"""


def test_a_serial_thermometer_in_the_simulator_backend(tree, tmp_path):
    file = tmp_path / "bench.yaml"
    file.write_text(SIMULATED)
    spec = ChannelSpec(
        resource="ASRL1::INSTR", query="READ? 2", backend=f"{file}@sim", unit="°F",
        pattern=r"= ([\d.]+) F",
    )  # fmt: skip
    assert waited(bench_of(tree, {"room.air.temp_c": spec}), "room.air.temp_c") == pytest.approx(
        22.0
    )


def test_a_missing_package_is_said_with_what_to_install(tree, monkeypatch):
    monkeypatch.setitem(sys.modules, "pyvisa", None)
    bench = bench_of(tree, {"room.air.temp_c": ChannelSpec(resource="ASRL1::INSTR", query="READ?")})
    (info,) = (info for info in bench.channels() if info.name == "room.air.temp_c")
    assert 'pip install "gelassen[instruments]"' in info.problem


def test_any_program_becomes_a_channel_and_never_holds_up_the_rest(tree):
    slow = [sys.executable, "-c", "import time; time.sleep(30)"]
    specs = channel_specs({})
    specs["room.noise.level_dba"] = ChannelSpec(command=("printf", "warming up\\n31,5 dB\\n"))
    specs["room.slow.temp_c"] = ChannelSpec(command=tuple(slow), timeout_s=0.3)
    specs["room.none.temp_c"] = ChannelSpec(command=("false",))
    bench = bench_of(tree, specs)
    assert waited(bench, "room.noise.level_dba") == 31.5
    began = time.monotonic()
    for _ in range(5):
        assert bench.read()["board.zone_acpitz.temp_c"] == 40.0
    assert time.monotonic() - began < 10  # the slow program would take 30 s
    deadline, reasons = time.monotonic() + 30, {}
    while len(reasons) < 2 and time.monotonic() < deadline:
        time.sleep(0.1)
        bench.read()
        known = bench.failure_reasons()
        reasons = {
            k: known[k] for k in known if "status 1" in known[k] or "within 0.3 s" in known[k]
        }
    assert set(reasons) == {"room.none.temp_c", "room.slow.temp_c"}
    assert not [
        p for p in psutil.Process().children(recursive=True) if "time.sleep(30)" in p.cmdline()
    ]


class StandInNvml(SimpleNamespace):
    """As much of the library as one card with a memory sensor needs, and one that offers little."""

    def __init__(self, count):
        super().__init__(count=count)

    def nvmlInit(self): ...  # noqa: N802  the library's own names

    def nvmlDeviceGetCount(self):  # noqa: N802
        return self.count

    def nvmlDeviceGetHandleByIndex(self, k):  # noqa: N802
        return k

    def nvmlDeviceGetPciInfo(self, k):  # noqa: N802
        return SimpleNamespace(busId=f"00000000:0{k + 1}:00.0".encode())

    def nvmlDeviceGetTemperature(self, k, kind):  # noqa: N802
        return 61 + k

    def nvmlDeviceGetThermalSettings(self, k, index):  # noqa: N802
        one = SimpleNamespace(target=2, currentTemp=78)
        return SimpleNamespace(count=1, sensor=[one])

    def nvmlDeviceGetPowerUsage(self, k):  # noqa: N802
        if k:
            raise RuntimeError("Not Supported")
        return 142500

    def nvmlDeviceGetCurrentClocksThrottleReasons(self, k):  # noqa: N802
        return 0x20 if k == 0 else 0x04

    def nvmlDeviceGetClockInfo(self, k, kind):  # noqa: N802
        return 1905 if kind == 0 else 7000


def test_graphics_cards_by_their_management_library(monkeypatch):
    monkeypatch.setitem(sys.modules, "pynvml", StandInNvml(1))
    values = {sensor.info.name: sensor.read() for sensor in find_nvml()}
    assert values == {
        "gpu.package.temp_c": 61, "gpu.memory.temp_c": 78, "gpu.package.clock_mhz": 1905,
        "gpu.memory.clock_mhz": 7000, "gpu.package.power_w": 142.5,
        "gpu.package.held_by_heat_flag": 1, "gpu.package.held_by_power_flag": 0,
        "gpu.package.held_by_hardware_flag": 0,
    }  # fmt: skip
    monkeypatch.setitem(sys.modules, "pynvml", StandInNvml(2))
    names = {sensor.info.name for sensor in find_nvml()}
    assert {"gpu.package_01_00_0.temp_c", "gpu.package_02_00_0.temp_c"} <= names
    assert "gpu.package_02_00_0.power_w" not in names
    monkeypatch.setitem(sys.modules, "pynvml", None)
    assert find_nvml() == []


def test_other_systems_offer_what_psutil_knows_and_the_rest_is_said(monkeypatch):
    monkeypatch.setattr(sys, "platform", "darwin")
    names = {sensor.info.name for sensor in find_other()}
    assert {"cpu.all.load_pct", "cpu.core0.load_pct"} <= names
    bench = MachineBench()
    assert 0 <= bench.read()["cpu.all.load_pct"] <= 100
    assert "processor temperature" in dict(bench.missing())
