"""Logs as programs of many countries write them: all hold the same readings, made up here."""

from datetime import UTC, datetime, timedelta

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import gelassen
from gelassen.core import FileError, GelassenError
from gelassen.intake import understand_log
from gelassen.intake.understanding import LogOptions

N = 400
T = np.arange(N) * 1.0
PKG = np.round(40 + 30 * (1 - np.exp(-T / 60)), 1)
POWER = np.where(T < 20, 12.25, 95.5)
FAN = np.round(1200 + 0.5 * T)
ROOM = np.round(21 + 0.001 * T, 2)
HEADERS = ["Time", "CPU Package [°C]", "CPU Power [W]", "Fan 1 [rpm]", "Room [°C]"]
CHANNELS = ["cpu.package.temp_c", "cpu.package.power_w", "fan.1.speed_rpm", "room.air.temp_c"]
START = datetime(2026, 11, 22, 23, 58, 30)
MOMENTS = [START + timedelta(seconds=k) for k in T]
ISO = [m.isoformat() for m in MOMENTS]


def cell(value, digits, decimal=".", thousands=""):
    text = f"{value:,.{digits}f}"
    return text.replace(",", "_").replace(".", decimal).replace("_", thousands)


def log(times=ISO, headers=HEADERS, by=",", decimal=".", thousands="", end="\n", quote=""):
    rows = [[quote + h + quote for h in headers]]
    for k in range(N):
        numbers = [
            cell(PKG[k], 1, decimal), cell(POWER[k], 2, decimal),
            cell(FAN[k], 0, decimal, thousands), cell(ROOM[k], 2, decimal),
        ]  # fmt: skip
        rows.append([quote + text + quote for text in (times[k], *numbers)])
    return end.join(by.join(row) for row in rows) + end


def shown(form):
    return [m.strftime(form) for m in MOMENTS]


def units_apart():
    names = [h.split(" [")[0] for h in HEADERS]
    lines = log(headers=names).splitlines()
    return "\n".join([lines[0], ",[°C],[W],[rpm],[°C]", *lines[1:]]) + "\n"


def units_in_cells():
    rows = ["Time,CPU Package,CPU Power,Fan 1,Room"]
    for k in range(N):
        power = f"{POWER[k] * 1000:.0f} mW" if POWER[k] < 50 else f"{POWER[k]} W"
        rows.append(f"{ISO[k]},{PKG[k]} °C,{power},{FAN[k]:.0f} rpm,{ROOM[k] + 273.15:.2f} K")
    return "\n".join(rows) + "\n"


def clock_moved(first, at, by_h):
    """Stamps of a local clock that is moved by an hour in the night of daylight saving."""
    moments = [first + timedelta(seconds=k) for k in T]
    return [(m + timedelta(hours=by_h) if m >= at else m).isoformat(" ") for m in moments]


GERMAN = ["Zeit", "Prozessortemperatur (°C)", "CPU-Leistung (W)", "Lüfter 1 (U/min)", "Raum (°C)"]
FRENCH = [
    "Horodatage", "Température processeur (°C)", "Puissance processeur (W)", "Ventilateur 1 (tr/min)",
    "Température ambiante (°C)",
]  # fmt: skip
SPANISH = [
    "Fecha y hora", "Temperatura del procesador (°C)", "Potencia del procesador (W)",
    "Ventilador 1 (rpm)", "Temperatura ambiente (°C)",
]  # fmt: skip
D_M_Y = "%d.%m.%Y %H:%M:%S"
STARTED = {
    "iso": log(),
    "semicolons": log(shown(D_M_Y), by=";", decimal=",").encode("cp1252"),
    "thousands with a point": log(shown(D_M_Y), by=";", decimal=",", thousands="."),
    "thousands with a thin space": log(by=";", decimal=",", thousands="\u202f"),
    "thousands with a comma": log(thousands=",", quote='"'),
    "decimal comma in quotes": log(decimal=",", quote='"'),
    "tabs, UTF-16": log(by="\t", decimal=",").encode("utf-16"),
    "UTF-16 without mark": log(by="|").encode("utf-16-be"),
    "mark": log().encode("utf-8-sig"),
    "old ends of lines": log(end="\r"),
    "preamble": "made up\nMachine: Playout box\n\n" + log(end="\r\n"),
    "delimiter told in the file": "sep=;\n" + log(by=";", decimal=","),
    "units in a row of their own": units_apart(),
    "units in cells": units_in_cells(),
    "month first": log(shown("%m/%d/%Y %I:%M:%S %p")),
    "day first": log(shown("%d/%m/%Y %H:%M:%S"), FRENCH, by=";", decimal=","),
    "month by name": log(shown("%d-%b-%Y %H:%M:%S"), SPANISH, by=";", decimal=","),
    "German": log(shown(D_M_Y), GERMAN, by=";", decimal=","),
    "date and time apart": log(shown("%d.%m.%Y;%H:%M:%S"), ["Datum", "Uhrzeit", *HEADERS[1:]], by=";"),
    "date of the start only": log(
        shown(f"{START:%d.%m.%Y};%H:%M:%S"), ["Datum", "Zeit", *HEADERS[1:]], by=";"
    ),
    "epoch in ms": log([f"{m.replace(tzinfo=UTC).timestamp() * 1e3:.0f}" for m in MOMENTS]),
    "summary lines": log() + "\nAverage,55,80,1250,21\nMaximum,70,95,1300,22\n",
    "header again": log() + log().splitlines()[0] + "\n",
    "empty end after a crash": log().encode() + b"\0" * 4096,
}  # fmt: skip
STARTED["out of order"] = "\n".join(
    [
        *log().splitlines()[:50],
        log().splitlines()[51],
        log().splitlines()[50],
        *log().splitlines()[52:],
    ]
)
ELAPSED = {
    "seconds": log([f"{t:g}" for t in T], ["Time [s]", *HEADERS[1:]]),
    "milliseconds": log([f"{t * 1000:.0f}" for t in T], ["Time (ms)", *HEADERS[1:]]),
    "hours, minutes, seconds": log([f"{timedelta(seconds=t)}.000" for t in T], ["Elapsed", *HEADERS[1:]]),
    "over midnight": log(shown("%H:%M:%S")),
    "winter time": log(clock_moved(datetime(2026, 10, 25, 2, 58, 30), datetime(2026, 10, 25, 3), -1)),
    "summer time": log(clock_moved(datetime(2026, 3, 29, 1, 58, 30), datetime(2026, 3, 29, 2), 1)),
    "days of a spreadsheet": log([f"{46000 + t / 86400:.10f}" for t in T], ["Date", *HEADERS[1:]]),
}  # fmt: skip


def stored(tmp_path, content):
    path = tmp_path / "log.csv"
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    return path


@pytest.mark.parametrize("name", [*STARTED, *ELAPSED])
def test_whatever_the_form_the_readings_are_the_same(tmp_path, name):
    read = gelassen.read_log(
        stored(tmp_path, {**STARTED, **ELAPSED}[name]), options=LogOptions(zone="UTC")
    )
    assert read.frame.index.to_numpy() == pytest.approx(T, abs=1e-6)
    for channel, truth in zip(CHANNELS, (PKG, POWER, FAN, ROOM), strict=True):
        assert read.frame[channel].to_numpy() == pytest.approx(truth, abs=1e-9)
    if name in STARTED:
        assert read.started == START.replace(tzinfo=UTC)


LINES = log().splitlines()
COLD = [f"{LINES[0]},Fan 2 [rpm],VRM [°F],Note"] + [
    f"{x},900,{k},fine" for k, x in enumerate(LINES[1:])
]
# What may befall line 201 of a long log, which is read in other ways than a short one.
SPOILT = {
    "nothing": LINES[200],
    "too many cells": LINES[200] + ",7",
    "too few": LINES[200].rpartition(",")[0],
    "an empty line": "",
    "text": LINES[200].replace(f"{PKG[199]}", "hot", 1),
    "a missing cell": LINES[200].replace(f"{PKG[199]}", "", 1),
    "a missing last cell": LINES[200].rpartition(",")[0] + ",",
    "no number": LINES[200].rpartition(",")[0] + ",N/A",
    "infinite": LINES[200].rpartition(",")[0] + ",inf",
    "quotes": LINES[200].rpartition(",")[0] + ',"22"',
    "two delimiters in one cell": LINES[200].rpartition(",")[0] + ',"2,2"',
    "a line end inside": LINES[200].replace(",", "\r", 1),
    "Latin-1": (LINES[200] + "°").encode("latin-1"),
}


@pytest.mark.parametrize("piece", [3000, 10**6])
@pytest.mark.parametrize("name", [*STARTED, *ELAPSED, *SPOILT, "whole numbers and text", "torn"])
def test_long_logs_are_read_to_the_same_end(tmp_path, monkeypatch, name, piece):
    content = {
        **STARTED,
        **ELAPSED,
        "torn": log()[:-3],
        "whole numbers and text": "\n".join(COLD) + "\n",
    }.get(name)
    if name in SPOILT:
        lines = [
            line if isinstance(line, bytes) else line.encode()
            for line in [*LINES[:200], SPOILT[name], *LINES[201:]]
        ]
        content = b"\n".join(lines) + b"\n"
    short = gelassen.read_log(stored(tmp_path, content), options=LogOptions(zone="UTC"))
    monkeypatch.setattr("gelassen.intake.text.rows._PIECE", piece)
    monkeypatch.setattr("gelassen.intake.table._LONG", 1)
    long = gelassen.read_log(stored(tmp_path, content), options=LogOptions(zone="UTC"))
    pd.testing.assert_frame_equal(long.frame, short.frame)
    assert long.cautions == short.cautions
    assert long.started == short.started


AMBIGUOUS = [f"03/04/2026 12:{int(t) // 60:02d}:{int(t) % 60:02d}" for t in T]
ELAPSED_ROWS = ELAPSED["seconds"].splitlines()


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (log(AMBIGUOUS), '"03/04/2026" can be day/month or month/day. Say which: --dates'),
        ("\n".join([*ELAPSED_ROWS, *ELAPSED_ROWS[1:]]), "line 402: time runs backwards.*--part N"),
        (log(decimal=","), "delimiter and decimal mark at once"),
        ("\n".join(log().splitlines()[1:]), 'no column is known to be a channel.*"column 2"'),
        ("Time [s];Last\n0;1,234\n1;1,250\n", "read as thousands or as decimals.*--decimal"),
        ("Time [s],Fan 1 [rpm]\n0,900\n1,901\n", "known to be a temperature"),
        ("Time [s];CPU [°C]\n0;45,3\n1;45.3\n", "some cells have a decimal point and some a comma"),
        (b"PK\x03\x04 and so on", "a zip archive or spreadsheet"),
    ],
)
def test_what_can_be_read_in_two_ways_is_asked_not_guessed(tmp_path, content, words):
    with pytest.raises(FileError, match=words):
        gelassen.read_log(stored(tmp_path, content))


def test_what_is_told_settles_it(tmp_path):
    dates = gelassen.read_log(
        stored(tmp_path, log(AMBIGUOUS)), options=LogOptions(dates="mdy", zone="+01:00")
    )
    assert dates.started.isoformat() == "2026-03-04T12:00:00+01:00"
    restarted = "\n".join([*ELAPSED_ROWS[:301], *ELAPSED_ROWS[1:]]) + "\n"
    part = gelassen.read_log(stored(tmp_path, restarted), options=LogOptions(part=1))
    assert part.frame.index[-1] == 299
    told = gelassen.read_log(
        stored(tmp_path, log()), options=LogOptions(load_start_s=20, hold_s=(300, 399))
    )
    assert [(p.name, p.start_s, p.end_s) for p in told.phases] == [
        ("idle", 0, 20), ("soak", 20, 300), ("hold", 300, 399),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("stamps", "started"),
    [
        (["04-Mar-2026 23:59:59", "05-Mar-2026 00:00:00"], "2026-03-04T23:59:59"),
        (['"Mar 04, 2026 11:59:59 PM"', '"Mar 05, 2026 12:00:00 AM"'], "2026-03-04T23:59:59"),
        (["Wed 04 Mar 2026 23:59:59", "Thu 05 Mar 2026 00:00:00"], "2026-03-04T23:59:59"),
        (["2026/03/04 23:59:59", "2026/03/05 00:00:00"], "2026-03-04T23:59:59"),
        (["1772668799.5", "1772668800.5"], "2026-03-04T23:59:59.500"),
        (["03/14/2026 11:59:59 p.m.", "03/15/2026 12:00:00 a.m."], "2026-03-14T23:59:59"),
        (["31.12.26 23:59:59", "01.01.27 00:00:00"], "2026-12-31T23:59:59"),
        (["23:59:59:250", "00:00:00:250"], None),
        (["11:59:59 PM", "12:00:00 AM"], None),
    ],
)
def test_moments_are_read_as_people_write_them(tmp_path, stamps, started):
    text = "Time,CPU [°C],Room [°C]\n" + f"{stamps[0]},50,22\n{stamps[1]},51,22\n"
    recording = gelassen.read_log(stored(tmp_path, text), options=LogOptions(zone="UTC"))
    assert list(recording.frame.index) == [0, 1]
    told = recording.started and recording.started.replace(tzinfo=None)
    assert told == (started and datetime.fromisoformat(started))


def test_groups_above_the_header_name_parts_but_not_the_time(tmp_path):
    rows = [f"{k},{40 + k % 5},{35 + k % 3}" for k in range(60)]
    text = "\n".join(["CPU,,GPU", "Time [s],Core 1 [°C],Hot Spot [°C]", *rows]) + "\n"
    frame = gelassen.read_log(stored(tmp_path, text)).frame
    assert list(frame.columns) == ["cpu.core1.temp_c", "gpu.hotspot.temp_c"]
    assert frame.index[-1] == 59


@pytest.mark.parametrize(
    ("header", "value", "channel", "reading"),
    [
        ("Core #3 Temp (°F)", "122", "cpu.core3.temp_c", 50),
        ("Kerntemperatur 2 [°C]", "50", "cpu.core2.temp_c", 50),
        ("GPU Hot Spot, °C", "50", "gpu.hotspot.temp_c", 50),
        ("VRM MOS/°C", "50", "vrm.1.temp_c", 50),
        ("Core 5 Clock [GHz]", "4.1", "cpu.core5.clock_mhz", 4100),
        ("Coolant Out [K]", "310", "loop.coolant_out.temp_c", 36.85),
        ("Durchfluss [gal/min]", "1", "loop.flow.flow_lpm", 3.785411784),
        ("cpu_package_power_mw", "65000", "cpu.package.power_w", 65),
        ("Thermal Throttling [Yes/No]", "Yes", "cpu.package.held_by_heat_flag", 1),
        ("CPU Takt", "4100", "cpu.all.clock_mhz", 4100),
        ("clock_MHz", "4100", "cpu.all.clock_mhz", 4100),
        ("Load [%]", "99", "cpu.all.load_pct", 99),
        ("Power [W]", "95", "cpu.package.power_w", 95),
        ("Distance to Limit [°C]", "30", None, None),
        ("CPU Package Max [°C]", "70", None, None),
        ("Temp 7 [°C]", "40", "log.temp7.temp_c", 40),
        ("Chassis1 (RPM)", "900", "fan.chassis1.speed_rpm", 900),
        ("Power Limit [W]", "95", "log.power.power_limit_w", 95),
        ("Coolant ΔT [K]", "5", None, None),
        ("Elastic Score Board", "7", None, None),
    ],
)
def test_headers_say_what_a_column_is_or_it_is_left_alone(
    tmp_path, header, value, channel, reading
):
    quoted = f'"{header}"'
    rows = "".join(f"{k},40,{value}\n" for k in range(5))
    understood = understand_log(stored(tmp_path, f"Time [s],CPU Package [°C],{quoted}\n{rows}"))
    found = next(c for c in understood.columns if c.header == header)
    assert found.channel == channel
    if channel is None:
        assert found.why
    else:
        assert understood.recording.frame[channel].iloc[0] == pytest.approx(reading)


def test_a_temperature_without_a_part_name_is_the_processors_if_it_follows_the_load(tmp_path):
    power = np.where((T > 100) & (T < 300), 95.0, 12.0)
    warm = 40 + 30 * np.convolve(power > 50, np.exp(-np.arange(200) / 20) / 20)[:N]
    rows = "".join(
        f"{t:g},{a:.1f},{p:.1f},{25 + t / 400:.2f}\n"
        for t, a, p in zip(T, warm, power, strict=True)
    )
    read = gelassen.read_log(
        stored(tmp_path, f"Time [s],Probe [°C],CPU Power [W],Room [°C]\n{rows}")
    )
    assert read.channels["cpu.package.temp_c"].header == "Probe [°C]"
    assert any("it follows the load" in caution for caution in read.cautions)
    flat = "".join(f"{t:g},{40 + t % 3},{p:.1f},25\n" for t, p in zip(T, power, strict=True))
    still = gelassen.read_log(
        stored(tmp_path, f"Time [s],Probe [°C],CPU Power [W],Room [°C]\n{flat}")
    )
    assert "cpu.package.temp_c" not in still.frame


@settings(max_examples=150, deadline=None)
@given(
    st.one_of(
        st.binary(max_size=300),
        st.lists(
            st.sampled_from(
                ["Time", "CPU [°C]", ",", ";", "\t", "\n", '"', "1", "45.3", "45,3", "12:00:01", "1e999",
                 "\x00",
                 "31.12.2026", "9999-12-31", "-", "nan", "AM", " ", "=1+1", "[°F]", "１", "٣", "+14:99"]
            ),
            max_size=60,
        ).map(lambda parts: "".join(parts).encode()),
        st.tuples(st.integers(0, len(log()) - 1), st.binary(max_size=30)).map(
            lambda cut: log().encode()[: cut[0]] + cut[1] + log().encode()[cut[0] + 5 :]
        ),
    )
)  # fmt: skip
def test_any_bytes_give_a_recording_or_an_error_in_words(tmp_path_factory, content):
    path = tmp_path_factory.getbasetemp() / "fuzzed.csv"
    path.write_bytes(content)
    try:
        frame = gelassen.read_log(path).frame
    except GelassenError:
        return
    assert (np.diff(frame.index.to_numpy()) >= 0).all()
    assert not np.isinf(frame.to_numpy()).any()
