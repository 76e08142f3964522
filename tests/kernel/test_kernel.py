"""On a real kernel with real sensor drivers, in an emulator. Started by run.sh; skipped elsewhere."""

import math
import os
import random
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

labregs = pytest.importorskip("labregs", reason="only inside the emulated kernel")

from gelassen.bench import MachineBench  # noqa: E402
from gelassen.bench.actuators import find_actuators, left_behind, put_back_note  # noqa: E402
from gelassen.conduct import RunPlan, plan_phases, record_run  # noqa: E402
from gelassen.core import BenchError  # noqa: E402
from gelassen.study import read_run  # noqa: E402

SYS = Path("/sys")
LIMIT = SYS / "class/powercap/intel-rapl:0/constraint_0_power_limit_uw"
PWM = "fan.nct7802_28_pwm1.duty_pct"


def driver(action, name, address):
    (SYS / "bus/i2c/drivers" / name / action).write_text(address)


def hwmon(name):
    for folder in (SYS / "class/hwmon").iterdir():
        if (folder / "name").exists() and (folder / "name").read_text().strip() == name:
            return folder
    raise AssertionError(f"no {name}")


def settled(bench, name, value, seconds=4.0):
    """Read until a driver's cache shows the value."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        found = bench.read()[name]
        if found == pytest.approx(value, abs=0.2):
            return True
        time.sleep(0.2)
    return False


@pytest.fixture(scope="module")
def bench():
    bench = MachineBench()
    bench.read()
    return bench


def test_every_chip_is_found_and_reads_what_was_put_into_it(bench):
    names = {info.name for info in bench.channels() if info.readable and not info.problem}
    assert {
        "board.zone_acpitz.temp_c", "board.lm75_48_temp1.temp_c", "board.adm1031_2c_temp1.temp_c",
        "board.nct7802_28_temp4.temp_c", "fan.amc6821_19_fan1.speed_rpm", PWM,
        "drive.nvme_00_1d_0.temp_c", "board.power_meter_00_power1.power_w", "cpu.package.temp_c",
        "cpu.core1.temp_c", "cpu.package.power_w", "cpu.package.power_limit_w", "memory.dram.power_w",
        "cpu.core0.clock_mhz", "cpu.core1.throttle_count", "cpu.core1.throttled_ms",
        "cpu.all.load_pct", "cpu.core1.load_pct",
    } <= names  # fmt: skip
    labregs.lm75(-12.5)
    assert bench.read()["board.lm75_48_temp1.temp_c"] == -12.5
    labregs.temp(63.5)
    assert bench.read()["board.zone_acpitz.temp_c"] == pytest.approx(63.5, abs=0.1)
    labregs.hw("core_c", "51,63")
    assert settled(bench, "cpu.core1.temp_c", 63)
    labregs.i2c(0x19, 0x0A, 71)
    assert settled(bench, "board.amc6821_19_temp1.temp_c", 71)
    labregs.power(142.25)
    assert settled(bench, "board.power_meter_00_power1.power_w", 142.25)
    assert bench.read()["board.power_meter_00_power1.alarm_flag"] == 0  # under its cap of 300 W


def test_failing_readings_are_missing_and_counted_and_come_back(bench):
    before = dict(bench.failures())
    labregs.temp(None)
    labregs.power(None)
    time.sleep(1.1)
    values = bench.read()
    assert math.isnan(values["board.zone_acpitz.temp_c"])
    assert math.isnan(values["board.power_meter_00_power1.power_w"])
    assert values["board.nct7802_28_temp4.temp_c"] > 0
    reasons = bench.failure_reasons()
    assert "No data" in reasons["board.power_meter_00_power1.power_w"]
    assert bench.failures()["board.zone_acpitz.temp_c"] > before.get("board.zone_acpitz.temp_c", 0)
    labregs.temp(41.0)
    labregs.power(88.0)
    assert settled(bench, "board.zone_acpitz.temp_c", 41.0)
    assert settled(bench, "board.power_meter_00_power1.power_w", 88.0)
    labregs.hw("fail", 1)
    assert math.isnan(bench.read()["cpu.package.power_w"])
    labregs.hw("fail", 0)


def test_a_number_given_to_another_chip_is_not_taken_for_the_old_one(bench):
    names = ("board.lm75_48_temp1.temp_c", "board.amc6821_19_temp1.temp_c")
    labregs.lm75(32.0)
    labregs.i2c(0x19, 0x0A, 56)
    assert settled(bench, names[1], 56)
    old = {name: hwmon(name).name for name in ("lm75", "amc6821")}
    driver("unbind", "lm75", "0-0048")
    driver("unbind", "amc6821", "0-0019")
    gone = bench.read()
    assert all(math.isnan(gone[name]) for name in names)
    driver("bind", "amc6821", "0-0019")
    driver("bind", "lm75", "0-0048")
    assert {name: hwmon(name).name for name in ("lm75", "amc6821")} != old
    assert settled(bench, names[0], 32.0)
    assert settled(bench, names[1], 56)
    again = {info.name for info in MachineBench().channels()}
    assert again == {info.name for info in bench.channels()}


def test_single_files_vanish_with_a_processor_and_return(bench):
    labregs.hw("core_c", "45,58")
    online = SYS / "devices/system/cpu/cpu1/online"
    assert settled(bench, "cpu.core1.temp_c", 58)
    online.write_text("0")
    values = bench.read()
    for name in ("cpu.core1.temp_c", "cpu.core1.clock_mhz", "cpu.core1.throttle_count"):
        assert math.isnan(values[name]), name
    assert values["cpu.core0.temp_c"] > 0
    online.write_text("1")
    assert settled(bench, "cpu.core1.temp_c", 58)
    assert settled(bench, "cpu.core1.throttle_count", bench.read()["cpu.core0.throttle_count"])


def test_a_silent_sensor_holds_up_no_other(tmp_path):
    fifo = tmp_path / "fifo"
    os.mkfifo(fifo)  # whoever opens it waits for a writer, as for a device that is silent
    file = hwmon("lm75") / "temp1_input"
    subprocess.run(["mount", "--bind", str(fifo), str(file)], check=True)
    try:
        bench = MachineBench()
        for _ in range(3):
            began = time.monotonic()
            values = bench.read()
            assert time.monotonic() - began < 1.0
            assert math.isnan(values["board.lm75_48_temp1.temp_c"])
            assert values["board.nct7802_28_temp4.temp_c"] > 0
        assert bench.failure_reasons()["board.lm75_48_temp1.temp_c"] == "no answer in time"
    finally:
        fifo.open("w").close()
        subprocess.run(["umount", "-l", str(file)], check=True)
    labregs.lm75(23.5)
    assert settled(bench, "board.lm75_48_temp1.temp_c", 23.5)


def test_throttle_counters_count_and_energy_goes_on_over_its_wrap(bench):
    before = bench.read()["cpu.core0.throttle_count"]
    labregs.hw("throttle", 1)
    time.sleep(0.3)
    labregs.hw("throttle", 0)
    assert bench.read()["cpu.core0.throttle_count"] == before + 1
    labregs.hw("energy", f"{0xFFFFFFFF - 16384},0,0,0")
    bench.read()
    time.sleep(0.5)
    labregs.hw("energy", "16384,0,0,0")  # 2 J later, beyond the wrap
    power = bench.read()["cpu.package.power_w"]
    assert 1.0 < power < 4.1


def test_duty_and_mode_are_set_read_back_and_put_back():
    labregs.i2c(0x28, 0x21, 0x01)
    for name in (PWM, "fan.amc6821_19_pwm1.duty_pct", "fan.adm1031_2c_pwm1.duty_pct"):
        fan = find_actuators(SYS)[name]
        mode = fan._place() / "pwm1_enable"
        if mode.exists():
            mode.write_text("2")
            time.sleep(1.2)
        before = fan.read()
        fan.set(60.0)
        assert fan.read() == pytest.approx(60, abs=7)
        if mode.exists():
            assert mode.read_text().strip() == "1"
            mode.write_text("2")  # the board takes it back
            time.sleep(1.2)
            assert "taken control" in fan.check()
        fan.restore()
        time.sleep(1.2)
        assert fan.read() == before
        assert not mode.exists() or mode.read_text().strip() == "2"
        for wrong in (-1.0, 101.0, math.nan):
            with pytest.raises(BenchError, match="0 to 100 % are possible"):
                fan.set(wrong)


def test_a_power_limit_is_set_and_put_back_and_a_locked_one_is_said():
    old = LIMIT.read_text()
    limit = find_actuators(SYS)["cpu.package.power_limit_w"]
    limit.set(15.1)
    assert LIMIT.read_text() == "15000000\n"
    limit.restore()
    assert LIMIT.read_text() == old
    for wrong in (0.0, -5.0, 9000.0, math.nan):
        with pytest.raises(BenchError, match="1 to 4095 W are possible"):
            limit.set(wrong)
    register = int(labregs.hw("pl"), 0)
    labregs.hw("pl", register | 1 << 63)
    try:
        with pytest.raises(BenchError, match="25 W asked for, .* W set: the firmware has locked"):
            limit.set(25.0)
    finally:
        labregs.hw("pl", register)
    assert LIMIT.read_text() == old
    assert not list(left_behind())


def test_the_clock_ceiling_and_active_processors_are_put_back():
    actuators = find_actuators(SYS)
    ceiling = SYS / "devices/system/cpu/cpufreq/policy1/scaling_max_freq"
    clock = actuators["cpu.all.clock_limit_mhz"]
    clock.set(2000.0)
    assert ceiling.read_text() == "2000000\n"
    with pytest.raises(BenchError, match="2600, 2000, 1400, 800 MHz"):
        clock.set(2300.0)
    assert ceiling.read_text() == "2600000\n"
    active = actuators["cpu.all.active_count"]
    active.set(1.0)
    assert os.sched_getaffinity(0) == {0}
    active.restore()
    assert os.sched_getaffinity(0) == {0, 1}


SETS_AND_WAITS = """
import sys, time
from pathlib import Path
from gelassen.bench.actuators import find_actuators
found = find_actuators(Path("/sys"))
found["cpu.package.power_limit_w"].set(12.0)
found["fan.nct7802_28_pwm1.duty_pct"].set(80.0)
print("set", flush=True)
time.sleep(60)
"""


def killed_after_setting(also_guardian=False):
    child = subprocess.Popen(
        [sys.executable, "-c", SETS_AND_WAITS], stdout=subprocess.PIPE, text=True
    )
    assert child.stdout.readline() == "set\n"
    if also_guardian:
        subprocess.run(["pkill", "-KILL", "-f", "actuators.guardian"], check=True)
    child.send_signal(signal.SIGKILL)
    child.communicate()


def test_settings_are_put_back_after_sigkill():
    pwm = hwmon("nct7802") / "pwm1"
    old = LIMIT.read_text(), pwm.read_text()
    killed_after_setting()
    end = time.monotonic() + 20
    while (LIMIT.read_text(), pwm.read_text()) != old and time.monotonic() < end:
        time.sleep(0.1)
    assert (LIMIT.read_text(), pwm.read_text()) == old


def test_settings_left_by_a_crash_are_reported_and_can_be_put_back():
    old = LIMIT.read_text()
    killed_after_setting(also_guardian=True)
    assert LIMIT.read_text() == "12000000\n"
    with pytest.raises(BenchError, match="--put-back"):
        find_actuators(SYS)["cpu.package.power_limit_w"].set(20.0)
    ((note, entries),) = left_behind()
    assert {entry.setting for entry in entries} == {"cpu.package.power_limit_w", PWM}
    assert put_back_note(note) == []
    assert LIMIT.read_text() == old
    assert not list(left_behind())


def test_kills_at_random_moments_leave_real_drivers_as_they_were():
    pwm = hwmon("nct7802") / "pwm1"
    old = LIMIT.read_text(), pwm.read_text()
    moments = random.Random(1)
    for _ in range(8):
        child = subprocess.Popen([sys.executable, "-c", SETS_AND_WAITS], stdout=subprocess.PIPE)
        time.sleep(moments.uniform(0.5, 6.0))
        child.send_signal(signal.SIGKILL)
        child.communicate()
        end = time.monotonic() + 20
        while (LIMIT.read_text(), pwm.read_text()) != old and time.monotonic() < end:
            time.sleep(0.1)
        assert (LIMIT.read_text(), pwm.read_text()) == old


def test_a_driver_that_is_unbound_after_a_setting_leaves_a_note_that_is_used_later():
    fan = find_actuators(SYS)[PWM]
    old = (hwmon("nct7802") / "pwm1").read_text()
    fan.set(80.0)
    driver("unbind", "nct7802", "0-0028")
    with pytest.raises(BenchError, match="the device of pwm1 is gone"):
        fan.restore()
    driver("bind", "nct7802", "0-0028")
    fan.restore()
    assert (hwmon("nct7802") / "pwm1").read_text() == old
    assert not list(left_behind())


def test_a_limit_that_is_locked_before_it_is_put_back_is_said_and_kept_in_the_note(tmp_path):
    old = LIMIT.read_text()
    limit = find_actuators(SYS)["cpu.package.power_limit_w"]
    limit.set(12.0)
    locked = tmp_path / "locked"
    locked.write_text(LIMIT.read_text())
    for command in (["--bind", locked, LIMIT], ["-o", "remount,bind,ro", LIMIT]):
        subprocess.run(["mount", *command], check=True)
    try:
        with pytest.raises(BenchError, match="cannot be put back to .*Read-only"):
            limit.restore()
    finally:
        subprocess.run(["umount", LIMIT], check=True)
    limit.restore()
    assert LIMIT.read_text() == old


def test_a_recording_outlives_devices_that_come_and_go(tmp_path):
    bench = MachineBench()
    labregs.lm75(20.0)

    def meanwhile():
        for k in range(40):
            labregs.lm75(20.0 + k)
            if k == 8:
                driver("unbind", "nct7802", "0-0028")
                (SYS / "devices/system/cpu/cpu1/online").write_text("0")
            if k == 20:
                driver("bind", "nct7802", "0-0028")
                (SYS / "devices/system/cpu/cpu1/online").write_text("1")
            time.sleep(0.5)

    mover = threading.Thread(target=meanwhile)
    plan = RunPlan(
        phases=plan_phases(12, 8, 0, 0), interval_s=0.5, workers=1,
        settings={"cpu.package.power_limit_w": 20.0},
    )  # fmt: skip
    bench.load = lambda *_, **__: type(
        "Rest", (), {"start": lambda _: None, "stop": lambda _: None, "problem": lambda _: ""}
    )()

    def first(_):  # once samples are taken
        if not mover.is_alive() and mover.ident is None:
            mover.start()

    folder, outcome = record_run(bench, plan, tmp_path, label="come and go", progress=first)
    mover.join()
    run = read_run(folder)
    assert outcome.status == "finished"
    assert len(run.frame) >= 38
    moving = run.frame["board.lm75_48_temp1.temp_c"]
    assert moving.notna().all()
    assert moving.iloc[-1] > moving.iloc[0] + 20
    chip = run.frame["board.nct7802_28_temp4.temp_c"]
    assert chip.isna().any()
    assert chip.notna().iloc[0]
    assert chip.notna().iloc[-1]
    said = [event.text for event in run.events]
    assert any("no reading from" in text and "nct7802" in text for text in said)
    assert any("reads again" in text for text in said)
    assert any("nct7802_28_temp4.temp_c failed" in text for text in run.cautions)
    assert run.frame["cpu.package.power_limit_w"].iloc[-1] == 20.0
    assert LIMIT.read_text() != "20000000\n"
