"""The pieces of reading a foreign log, each by itself: stamps, clocks, cells, headers, encodings."""

import math
from datetime import UTC, datetime

import numpy as np
import pytest

from gelassen.core import FileError, InputError
from gelassen.intake.meaning.columns import Target, as_targets, assign
from gelassen.intake.meaning.recognise import header_words, recognise
from gelassen.intake.meaning.unit_guess import Spread, guess_unit
from gelassen.intake.table import distinct
from gelassen.intake.text.cells import decimal_evidence, folded, is_missing, read_value, state
from gelassen.intake.text.decimals import decide_decimals
from gelassen.intake.text.encoding import decode
from gelassen.intake.text.headers import read_header
from gelassen.intake.text.layout import find_layout
from gelassen.intake.text.stamps import find_form
from gelassen.intake.time.clock_zero import from_local, from_preamble
from gelassen.intake.time.stamp_reading import offset_of, read_stamps
from gelassen.intake.time.timeline import gaps, straighten

NOON = datetime(2026, 11, 23, 12, 0, 1, tzinfo=UTC).timestamp()


@pytest.mark.parametrize(
    ("stamp", "seconds"),
    [
        ("2026-11-23T13:00:01.250+01:00", NOON + 0.25),
        ("2026-11-23 12:00:01Z", NOON),
        ("2026/11/23 12:00:01 UTC", NOON),
        ("20261123T120001", NOON),
        ("20261123 120001", NOON),
        ("2026.11.23 12:00:01:250", NOON + 0.25),
        ("23.11.2026 12:00:01,250", NOON + 0.25),
        ("23. Nov. 2026 12:00:01", NOON),
        ("Mon, 23 Nov 2026 12:00:01", NOON),
        ("lundi 23 novembre 2026 12:00:01", NOON),
        ("23 de noviembre de 2026 12:00:01", NOON),
        ("23. März 2026 12:00:01", datetime(2026, 3, 23, 12, 0, 1, tzinfo=UTC).timestamp()),
        ("Nov 23, 2026 12:00:01 PM", NOON),
        ("11/23/26 12:00:01 p. m.", NOON),
        ("11/23/2026 12:00:01 AM", NOON - 43_200),
        ("12:00:01.5", 43_201.5),
        ("12h30m05s", 45_005),
        ("1:02:03 p.m.", 46_923),
        ("00:00:01.250", 1.25),
        ("1d 02:03:04", 93_784),
        ("125:30:00", 451_800),
    ],
)
def test_stamps_of_many_countries_stand_for_their_moment(stamp, seconds):
    form = find_form([stamp])
    assert form is not None
    assert read_stamps([stamp], form)[0] == pytest.approx(seconds, abs=1e-6)


@pytest.mark.parametrize("text", ["", "45.3", "yes", "CPU", "99:99:99 x", "2026", "1.2.3.4.5"])
def test_what_is_no_stamp_has_no_form(text):
    assert find_form([text]) is None


@pytest.mark.parametrize(
    "stamp", ["2026-13-45 12:00:00", "31.02.2026 12:00:00", "2026-11-23 25:61:00", "x"]
)
def test_a_moment_that_does_not_exist_is_no_time(stamp):
    form = find_form(["2026-11-23 12:00:00"] if "-" in stamp else ["23.11.2026 12:00:00"])
    assert math.isnan(read_stamps([stamp], form)[0])


def test_the_order_of_day_and_month_is_told_by_what_moves_on():
    assert find_form(["03/04/2026 23:59:59", "04/04/2026 00:00:00"]).order == "dmy"
    assert find_form(["03/04/2026 23:59:59", "03/05/2026 00:00:00"]).order == "mdy"
    assert find_form(["13/04/2026 12:00:00"]).order == "dmy"
    assert find_form(["03.04.2026 12:00:00"]).order == "dmy"
    with pytest.raises(FileError, match="can be day/month or month/day"):
        find_form(["03/04/2026 12:00:00"])
    assert "not minutes and seconds" in find_form(["12:30", "12:31"]).guessed


def line(times, kind="moment", local=True, **options):
    return straighten(
        np.array(times, dtype=float),
        kind=kind,
        local=local,
        line_of=lambda row: row + 2,
        where="log.csv",
        **options,
    )


SUNDAY = datetime(2026, 10, 25, 2, 59, 58, tzinfo=UTC).timestamp()
MONDAY = SUNDAY + 86_400


def test_only_an_hour_on_a_sunday_night_is_daylight_saving():
    back = [SUNDAY, SUNDAY + 1, SUNDAY + 2 - 3600, SUNDAY + 3 - 3600]
    straight = line(back)
    assert list(np.diff(straight.time_s)) == [1, 1, 1]
    assert "back from daylight-saving time at line 4" in straight.notes[0]
    pause = line([MONDAY, MONDAY + 1, MONDAY + 3602, MONDAY + 3603])
    assert list(np.diff(pause.time_s)) == [1, 3601, 1]
    assert not pause.notes
    told = line(back, local=False)  # stamps with an offset: the clock was set back
    assert "set back by" in told.notes[0]


def test_midnight_is_crossed_once_and_clocks_without_halves_pass_noon():
    night = line([86_398, 86_399, 0, 1], kind="of day")
    assert list(np.diff(night.time_s)) == [1, 1, 1]
    assert "midnight was crossed at line 4" in night.notes[0]
    noon = line([46_798, 46_799, 3600, 3601], kind="of day", twelve_without_mark=True)
    assert list(np.diff(noon.time_s)) == [1, 1, 1]
    assert "12-hour clock without" in noon.notes[0]


def test_rows_out_of_order_are_sorted_and_a_clock_set_back_is_counted_on():
    swapped = line([0, 1, 2, 4, 3, 5, 6, 7], kind="elapsed")
    assert list(swapped.time_s) == list(range(8))
    assert list(swapped.order) == [0, 1, 2, 4, 3, 5, 6, 7]
    back = line([MONDAY + k for k in (0, 1, 2, 3)] + [MONDAY - 60 + k for k in (0, 1, 2)])
    assert list(np.diff(back.time_s)) == [1] * 6
    assert "set back by 64 s at line 6" in back.notes[0]
    with pytest.raises(FileError, match="line 4: time runs backwards, and 4 times more"):
        line([MONDAY + k for k in (0, 90, 10, 80, 20, 70, 30, 60, 40, 55, 45)])


def test_a_log_that_was_started_again_is_taken_in_parts():
    twice = [0, 1, 2, 3, 0, 1, 2]
    with pytest.raises(FileError, match=r"part 1: lines 2 to 5, 3 s; part 2: lines 6 to 8, 2 s"):
        line(twice, kind="elapsed")
    assert list(line(twice, kind="elapsed", part=2).kept) == [False] * 4 + [True] * 3
    with pytest.raises(FileError, match="there is no part 3; the log has 2"):
        line(twice, kind="elapsed", part=3)


def test_gaps_are_five_intervals_long():
    usual, wide = gaps([0, 1, 2, 3, 9, 10])
    assert usual == 1
    assert wide == [(3, 9)]
    assert math.isnan(gaps([0])[0])


@pytest.mark.parametrize(
    ("cell", "decimal", "number", "unit"),
    [
        ("45.3", ".", 45.3, ""),
        ("1,234.5", ".", 1234.5, ""),
        ("1.234,5", ",", 1234.5, ""),
        ("1 234,5", ",", 1234.5, ""),
        ("1'234", ".", 1234, ""),
        ("-4.5e-1", ".", -0.45, ""),
        ("−7", ".", -7, ""),
        (" 45 °C", ".", 45, "°C"),
        ("3,6 GHz", ",", 3.6, "GHz"),
        (".5", ".", 0.5, ""),
        ("45.", ".", 45, ""),
        ("1e999", ".", math.nan, ""),
        ("N/A", ".", math.nan, ""),
        ("--", ",", math.nan, ""),
    ],
)
def test_numbers_are_read_in_their_national_form(cell, decimal, number, unit):
    value = read_value(cell, decimal)
    assert value.number == pytest.approx(number, nan_ok=True)
    assert value.unit == unit


@pytest.mark.parametrize(
    "cell", ["12,34,5", "1.2.3", "23.11.2026", "12:00", "hot", "1,23.4", "=1+1", "4" * 60]
)
def test_what_is_no_number_is_none(cell):
    assert read_value(cell, ".") is None


def test_states_missing_values_and_accents():
    assert (state("Ja"), state("OFF"), state("sí"), state("2")) == (1.0, 0.0, 1.0, None)
    assert is_missing(" NaN ")
    assert not is_missing("0")
    assert folded("Cœur Température ÄÖÜ") == "coeur temperature aou"


def test_the_decimal_mark_comes_from_unambiguous_cells():
    assert decimal_evidence(["45,3", "1.234", "7"]) == (0, 1, 1, 0, 1)
    decide = lambda columns, kinds=None: decide_decimals(columns, kinds or {}, name="log")  # noqa: E731
    assert decide({"a": ["45,3"], "b": ["1.234"]})[:2] == (",", {})
    assert decide({"a": ["45.3"], "b": ["1,234"]})[:2] == (".", {})
    assert decide({"a": ["45,3"], "b": ["1.5", "2.5"]})[1] in ({"b": "."}, {"a": ","})
    # Nothing that can be read in one way only: the quantity, then the course, decide.
    assert decide({"fan": ["1.234", "1.250"]}, {"fan": "rpm"})[0] == ","
    assert decide({"temp": ["45,123", "46,125"]}, {"temp": "c"})[0] == ","
    assert decide({"x": ["998", "999", "1,001"]})[0] == "."
    with pytest.raises(FileError, match='column "x".*--decimal point or --decimal comma'):
        decide({"x": ["1,234", "1,235"]})


@pytest.mark.parametrize(
    ("text", "words", "unit"),
    [
        ("CPU Package [°C]", "CPU Package", "°C"),
        ("Fan (front) [rpm]", "Fan (front)", "rpm"),
        ("T_CPU/°C", "T_CPU", "°C"),
        ("Flow/l/min", "Flow", "l/min"),
        ("CPU, °C", "CPU", "°C"),
        ("cpu_temp_c", "cpu_temp", "c"),
        ("work_per_s", "work", "1/s"),
        ("Clock MHz", "Clock", "MHz"),
        ("Temp in deg C", "Temp in", "deg C"),
        ("Ambient Temp F", "Ambient Temp", "F"),
        ("Noise [dB(A)]", "Noise", "dB(A)"),
        ("Throttling [Yes/No]", "Throttling", "state"),
        ("Température Â°C", "Température", "°C"),
        ("Core Min", "Core Min", ""),
        ("VRM A", "VRM A", ""),
        ("Supply A", "Supply", "A"),
        ("CPU W", "CPU", "W"),
        ("MHz", "MHz", "MHz"),
        ("A", "A", ""),
        ("Memory [MB]", "Memory [MB]", ""),
    ],
)
def test_headers_are_taken_apart_into_words_and_unit(text, words, unit):
    header = read_header(text)
    assert (header.words.removesuffix(" in"), header.unit) == (words.removesuffix(" in"), unit)


def test_joined_words_and_numbers_are_taken_apart():
    assert header_words("CPUPackageTemp2") == "cpu package temp 2"
    assert header_words("cpuTempCore#3") == "cpu temp core 3"
    assert header_words("Kerntemperatur_2") == "kerntemperatur 2"


def recognised(*headers, spread=Spread(30, 50, 70)):  # noqa: B008
    found = recognise([read_header(h) for h in headers], dict.fromkeys(range(len(headers)), spread))
    return [guess.channel for guess in found]


def test_a_header_that_is_only_a_unit_says_what_the_column_holds():
    found = recognised("MHz", "W", "rpm", "Core 0 V", "Room C", "K")
    assert found[:3] == ["cpu.all.clock_mhz", "cpu.package.power_w", "fan.1.speed_rpm"]
    assert found[3:] == ["cpu.core0.voltage_v", "room.air.temp_c", None]


def test_each_channel_has_one_column_and_counted_parts_are_numbered():
    assert recognised("CPU Package [°C]", "CPU [°C]") == ["cpu.package.temp_c", None]
    assert recognised("Case Fan [rpm]", "Case Fan [rpm]") == [
        "fan.case.speed_rpm",
        "fan.case2.speed_rpm",
    ]
    assert recognised("VRM [°C]", "VRM [°C]") == ["vrm.1.temp_c", "vrm.2.temp_c"]
    three = recognised("CPU 1 [°C]", "CPU 2 [°C]", "CPU 3 [°C]")
    assert three == [f"cpu.core{k}.temp_c" for k in (1, 2, 3)]
    assert recognised("CPU 1 [°C]") == ["cpu.package.temp_c"]  # there is one
    assert recognised("CPU 1 [°C]", "CPU 2 [°C]", "Socket 1 Power [W]", "Socket 2 Power [W]") == [
        "cpu.socket1.temp_c", "cpu.socket2.temp_c", "cpu.socket1.power_w", "cpu.socket2.power_w",
    ]  # fmt: skip
    two = ("GPU0 Temp [°C]", "GPU0 Hot Spot [°C]", "GPU1 Temp [°C]", "GPU1 Hot Spot [°C]")
    numbered = ["package0", "hotspot0", "package1", "hotspot1"]
    assert recognised(*two) == [f"gpu.{item}.temp_c" for item in numbered]
    assert recognised(*two[:2]) == ["gpu.package.temp_c", "gpu.hotspot.temp_c"]
    both = recognised("CPU1 Core 4 Temp [°C]", "CPU2 Core 4 Temp [°C]")
    assert both == ["cpu.socket1_core4.temp_c", "cpu.socket2_core4.temp_c"]


def test_the_air_that_enters_is_the_room_where_nothing_else_is():
    assert recognised("Inlet Temp [°C]", "CPU [°C]")[0] == "room.inlet.temp_c"
    assert recognised("Inlet Temp [°C]", "Ambient [°C]")[0] == "log.inlet.temp_c"
    assert recognised("Inlet Temp [°C]", "Coolant [°C]")[0] == "log.inlet.temp_c"


def test_units_are_guessed_only_where_values_are_plausible():
    assert guess_unit("mhz", Spread(3.5, 4.0, 4.5)) == "GHz"
    assert guess_unit("mhz", Spread(3500, 4000, 4500)) == "MHz"
    assert guess_unit("c", Spread(300, 310, 330)) == "K"
    assert guess_unit("c", Spread(40_000, 50_000, 70_000)) == "m°C"
    assert guess_unit("c", Spread(500, 900, 1200)) == ""
    assert (
        recognised("CPU Temp", "Room Temp", spread=Spread(70, 150, 180))[0] == "cpu.package.temp_c"
    )


@pytest.mark.parametrize(
    ("data", "encoding", "text"),
    [
        ("Zeit;°C\n".encode("utf-8-sig"), "UTF-8 with mark", "Zeit;°C\n"),
        ("Zeit;°C\n1;2\n".encode("utf-16"), "UTF-16", "Zeit;°C\n1;2\n"),
        ("Zeit;°C\n1;2\n".encode("utf-16-le"), "UTF-16 without mark", "Zeit;°C\n1;2\n"),
        ("Zeit;°C\n".encode("cp1252"), "Windows-1252", "Zeit;°C\n"),
        ("Zeit;°C\n".encode("cp850"), "code page 850", "Zeit;°C\n"),
        (b"Zeit;\x81\xb0\n", "Latin-1", "Zeit;\x81°\n"),
        (b"a,b\n1,2\n", "ASCII", "a,b\n1,2\n"),
        (b"a,b\n1,2\n" + b"\0" * 9, "ASCII", "a,b\n1,2\n"),
        ("a,°\n1,2°".encode()[:-1], "UTF-8", "a,°\n1,2"),
    ],
)
def test_encodings_are_told_by_what_the_bytes_can_be(data, encoding, text):
    found = decode(data, "log.csv")
    assert found.encoding == encoding
    assert bytes(found.data).decode() == text


def test_what_is_no_text_is_refused_and_a_told_encoding_is_kept_to():
    refused = {
        b" \r\n": "is empty", b"%PDF-1.7": "a PDF", b"\x1f\x8b..": "compressed",
        bytes(range(9)) * 9: "not text",
    }  # fmt: skip
    for data, words in refused.items():
        with pytest.raises(FileError, match=words):
            decode(data, "log.csv")
    assert bytes(decode("°".encode("cp1252"), "log", encoding="cp1252").data) == "°".encode()
    with pytest.raises(FileError, match="line 2: not utf-8"):
        decode(b"a\n\xb0", "log", encoding="utf-8")
    with pytest.raises(FileError, match="is not an encoding that is known"):
        decode(b"a", "log", encoding="utf-99")


def test_tables_are_found_below_titles_groups_and_rules():
    grouped = find_layout([",CPU,,Room", "Time,Temp,Power,Temp", "0,40,95,21", "1,41,95,21"], "log")
    assert grouped.groups == ("", "CPU", "CPU", "Room")
    assert (grouped.header_line, grouped.data_line) == (1, 2)
    ruled = find_layout(["| t | a |", "|---|---|", "| 0 | 1 |", "| 1 | 2 |"], "log")
    assert ruled.headers == ("", "t", "a")
    bare = find_layout(["0;40", "1;41"], "log")
    assert bare.headers == ("column 1", "column 2")
    assert bare.header_line is None
    ends = find_layout(["t,a,", "0,1", "1,2"], "log")
    assert ends.headers == ("t", "a")
    refused = {
        "t;a": "a header but no rows", "t;a\nx;y": "none with numbers", "words": "no delimiter",
    }  # fmt: skip
    for text, words in refused.items():
        with pytest.raises(FileError, match=words):
            find_layout(text.split("\n"), "log")


def test_headers_that_stand_twice_are_told_apart():
    assert distinct(["Temp", "Temp", "", "Temp"]) == ["Temp", "Temp #2", "column 3", "Temp #3"]
    assert distinct(["a", "a #2", "a"])[:2] == ["a", "a #2"]
    assert len(set(distinct(["a", "a #2", "a", "a"]))) == 4


def test_mappings_say_units_and_what_is_left_alone():
    targets = as_targets(
        {"x": {"channel": "room.air.temp_c", "unit": "°F"}, "y": "ignore", "gone": "t_s"}
    )
    assigned, absent = assign(["x", "y"], targets, strict=False)
    assert assigned["x"] == Target("room.air.temp_c", unit="°F")
    assert absent == ["gone"]
    with pytest.raises(InputError, match='no column "gone"'):
        assign(["x", "y"], targets)
    with pytest.raises(InputError, match='"bar" cannot become °C'):
        as_targets({"x": {"channel": "room.air.temp_c", "unit": "bar"}})


def test_when_a_log_began_is_read_above_its_table_or_assumed_and_said():
    started, words = from_preamble(["Start: 2026-11-23T12:00:00+01:00"], None, None)
    assert started.isoformat() == "2026-11-23T12:00:00+01:00"
    assert "above the table" in words
    day, _ = from_preamble(["Date: 23.11.2026"], 3600.0, "UTC")
    assert day == datetime(2026, 11, 23, 1, tzinfo=UTC)
    assert from_preamble(["Date: 03/04/2026"], 3600.0, None) == (None, "")
    assert from_local(0.0, "+02:00")[0].utcoffset().total_seconds() == 7200
    assert "say which with --zone" in from_local(0.0, None)[1]
    assert offset_of("2026-11-23T12:00:00-05:30") == -19_800
    with pytest.raises(InputError, match='"Mars/Base" is not a time zone'):
        from_local(0.0, "Mars/Base")
