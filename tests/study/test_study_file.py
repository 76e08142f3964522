import pytest

from gelassen import open_study
from gelassen.core import FileError
from gelassen.study.file.durations import seconds
from gelassen.study.file.levels import expected_quantities

GOOD = """\
format = 1
title = "A cooler for the playout box"
baseline = "brise"

[machine]
name = "Playout box"
limit_c = 95

[factors.curve]
levels = ["on-air", "off-air"]

[protocol]
soak = "20 min"

[setups.brise]
curve = "on-air"
"""


def message(tmp_path, text):
    (tmp_path / "study.toml").write_text(text)
    with pytest.raises(FileError) as error:
        open_study(tmp_path)
    return str(error.value)


def test_a_good_file_is_taken(tmp_path):
    (tmp_path / "study.toml").write_text(GOOD)
    study = open_study(tmp_path)
    assert study.file.protocol.soak == 1200
    assert study.file.machine.limit_c == 95
    assert study.run_folders() == []


def test_what_a_factor_is_meant_to_change_is_known_by_its_name(tmp_path):
    for factor, quantity in (("curve", "fan_rpm"), ("room", "reference_c"), ("cores", "power_w")):
        (tmp_path / "study.toml").write_text(
            GOOD.replace("factors.curve", f"factors.{factor}").replace("\ncurve", f"\n{factor}")
        )
        expected = expected_quantities(open_study(tmp_path).file)
        assert quantity in expected
        assert (factor == "room") == ("reference_c" in expected)
    head = 'format = 1\ntitle = "A"\n[machine]\nname = "box"\nlimit_c = 95\n'
    for setup, fans in (("Quiet curve", True), ("upright", False)):
        (tmp_path / "study.toml").write_text(f'{head}[setups."{setup}"]\n')
        assert ("fan_rpm" in expected_quantities(open_study(tmp_path).file)) == fans


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("limit_c = 95", "limit = 95", ['line 7, machine.limit: unknown key "limit"', '"limit_c"?']),
        ("limit_c = 95", 'limit_c = "hot"', ["line 7, machine.limit_c", "valid number", "'hot'"]),
        ("limit_c = 95", "limit_c = 9500", ["less than 250", "9500"]),
        ('soak = "20 min"', 'soak = "20 parsecs"', ["line 13", '"20 parsecs" is not a duration']),
        ('curve = "on-air"', 'curve = "onair"', ["line 16", "setups.brise.curve", '"on-air"?']),
        ('baseline = "brise"', 'baseline = "brize"', ["line 3, baseline", 'mean "brise"?']),
        ('title = "A', "title = A", ["line 2"]),
        ("[machine]", 'judge = ["vrm.c"]\n[machine]', ["judge.0: ", "or else", "'hottest core'"]),
        ("format = 1", "format = 7", ["line 1, format"]),
        ("[machine]", "[machin]", ['"machin"', '"machine"?']),
        ("[setups.brise]\ncurve", "[setups.brise]\ncurv", ['"curv" is not a factor here (curve)']),
    ],
)  # fmt: skip
def test_mistakes_are_named_with_line_key_and_what_is_allowed(tmp_path, old, new, words):
    assert old in GOOD
    said = message(tmp_path, GOOD.replace(old, new))
    for word in words:
        assert word in said


def test_a_folder_without_a_study_says_how_to_make_one(tmp_path):
    with pytest.raises(FileError, match="is not a study.*gelassen demo"):
        open_study(tmp_path)
    with pytest.raises(FileError, match="no such folder"):
        open_study(tmp_path / "none")


@pytest.mark.parametrize(
    ("text", "value"), [("90 s", 90), ("1.5 h", 5400), (30, 30), ("2min", 120)]
)
def test_durations(text, value):
    assert seconds(text) == value
