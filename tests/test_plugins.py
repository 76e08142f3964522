"""What other packages add through entry points, and packages that are broken."""

import textwrap

import pytest

from gelassen import read_log
from gelassen._plugins import plugins
from gelassen.bench.loads.kernels import make_kernel
from gelassen.bench.loads.spec import LoadSpec
from gelassen.bench.machine import MachineBench
from gelassen.core import InputError
from trees import device

MODULE = """
    import pandas as pd
    from gelassen.bench.sensors.sensor import sensor_of
    from gelassen.core import Recording


    def sensors(roots, taken):
        assert "cpu.package.temp_c" in taken
        return [sensor_of("room.probe.temp_c", "a probe", "made up", lambda: 21.5, device="probe")]


    def failing(*_):
        raise OSError("unplugged")


    class Kernel:
        def round(self):
            return True


    class Reader:
        def sniff(self, path):
            return path.suffix == ".made"

        def read(self, path, columns, options):
            times = pd.Index([0.0, 1.0], name="t_s")
            frame = pd.DataFrame({"cpu.package.temp_c": [40.0, 41.0]}, index=times)
            return Recording(frame=frame, name=path.stem)


    reader = Reader()
"""
ENTRIES = """
    [gelassen.sensors]
    probe = made_up_plugin:sensors
    failing = made_up_plugin:failing
    [gelassen.settings]
    controller = made_up_plugin:failing
    [gelassen.loads]
    made-up = made_up_plugin:Kernel
    broken = made_up_plugin:Missing
    [gelassen.readers]
    made = made_up_plugin:reader
    broken = no_such_module:reader
"""


@pytest.fixture
def installed(tmp_path, monkeypatch):
    (tmp_path / "made_up_plugin.py").write_text(textwrap.dedent(MODULE))
    info = tmp_path / "made_up_plugin-1.dist-info"
    info.mkdir()
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: made-up-plugin\nVersion: 1\n")
    (info / "entry_points.txt").write_text(textwrap.dedent(ENTRIES))
    monkeypatch.syspath_prepend(tmp_path)
    plugins.cache_clear()
    yield
    plugins.cache_clear()


def test_a_sensor_of_another_package_is_read_and_broken_ones_are_named(installed, tmp_path):
    files = {"temp1_input": "45000", "temp1_label": "Package id 0"}
    device(tmp_path, 0, "coretemp", "platform/coretemp.0", files)
    bench = MachineBench(sysfs=tmp_path / "sys")
    assert bench.read()["room.probe.temp_c"] == 21.5
    missing = dict(bench.missing())
    assert "unplugged" in missing["sensors of failing"]
    assert "unplugged" in missing["settings of controller"]


def test_a_load_of_another_package_works_and_a_broken_one_says_why(installed):
    assert LoadSpec(name="made-up").name == "made-up"
    assert make_kernel("made-up").round()
    with pytest.raises(InputError, match="cannot be loaded: AttributeError"):
        LoadSpec(name="broken")


def test_a_format_of_another_package_is_read_and_a_broken_reader_is_named(installed, tmp_path):
    path = tmp_path / "log.made"
    path.write_text("anything")
    log = read_log(path)
    assert list(log.frame["cpu.package.temp_c"]) == [40.0, 41.0]
    assert [caution.code for caution in log.cautions] == ["reader_broken"]
    assert "no_such_module" in log.cautions[0]
