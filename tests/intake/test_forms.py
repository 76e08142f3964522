"""One log in every form it may come in gives one answer."""

import bz2
import gzip
import io
import json
import lzma
import sqlite3

import numpy as np
import pandas as pd
import pytest

from command_line import gelassen, ok
from gelassen import open_study, read_log, summarise_run
from gelassen.core import FileError, InputError

TEMP, POWER = "Temp 7 (°C)", "Leistung (mW)"


@pytest.fixture(scope="module")
def table():
    """A made-up log whose headers name no part."""
    rng, t = np.random.default_rng(1), np.arange(0, 1500, 2.0)
    rise = 40 * (1 - np.exp(-np.clip(t - 120, 0, None) / 150))
    return pd.DataFrame({
        "Time": pd.Timestamp("2026-03-01 10:00") + pd.to_timedelta(t, unit="s"),
        TEMP: np.round(22 + rise + rng.normal(0, 0.2, t.size), 2),
        POWER: np.round(np.where(t < 120, 12e3, 95e3) + rng.normal(0, 300, t.size)),
        "Chassis1 (RPM)": np.round(900 + rng.normal(0, 9, t.size)),
    })  # fmt: skip


def workbook(table, path):
    with pd.ExcelWriter(path) as book:
        pd.DataFrame({"about": ["made up"]}).to_excel(book, sheet_name="about")
        table.to_excel(book, sheet_name="log", index=False)


def json_lines(table, path):
    rows = table.assign(Time=table["Time"].astype(str)).to_dict("records")
    path.write_text("".join(json.dumps(row) + "\n" for row in rows) + '{"Ti')


def text(table, path):
    path.write_bytes(table.to_csv(index=False).encode())


def packed(module):
    return lambda table, path: path.write_bytes(module.compress(table.to_csv(index=False).encode()))


FORMS = {
    "log.csv": text, "log.csv.gz": packed(gzip), "log.csv.bz2": packed(bz2), "log.csv.xz": packed(lzma),
    "log.xlsx": workbook, "log.jsonl": json_lines,
    "log.parquet": pd.DataFrame.to_parquet, "log.feather": pd.DataFrame.to_feather,
}  # fmt: skip


@pytest.mark.parametrize("name", FORMS)
def test_a_log_says_the_same_in_every_form(table, tmp_path, name):
    expected = summarise_run(read_log(table)).steady
    FORMS[name](table, tmp_path / name)
    log = read_log(tmp_path / name)
    assert list(log.channels) == [
        "cpu.package.temp_c", "cpu.package.power_w", "fan.chassis1.speed_rpm",
    ]  # fmt: skip
    assert log.name == "log"
    assert summarise_run(log).steady.value == pytest.approx(expected.value, abs=1e-6)
    codes = {caution.code for caution in log.cautions}
    assert ("lines_unreadable" in codes) == (name == "log.jsonl")
    assert ("other_sheets" in codes) == (name == "log.xlsx")


def test_frames_and_open_files_are_logs_too(table, tmp_path):
    text(table, tmp_path / "log.csv")
    value = summarise_run(read_log(tmp_path / "log.csv")).steady.value
    elapsed = table.set_index(table["Time"] - table["Time"].iloc[0]).drop(columns="Time")
    with (tmp_path / "log.csv").open() as stream:
        for log in (
            table.set_index("Time"), elapsed, stream, io.BytesIO((tmp_path / "log.csv").read_bytes()),
        ):  # fmt: skip
            assert summarise_run(read_log(log)).steady.value == pytest.approx(value, abs=1e-6)
    with pytest.raises(InputError, match="not int"):
        read_log(3)


def test_what_pandas_calls_sep_and_decimal_and_encoding_is_taken(table, tmp_path):
    path = tmp_path / "log.csv"
    table.to_csv(path, index=False, sep=";", decimal=",", encoding="utf-16")
    log = read_log(path, sep=";", decimal=",", encoding="utf-16")
    assert log.frame["cpu.package.temp_c"].iloc[-1] == table[TEMP].iloc[-1]


def test_columns_without_a_part_are_kept_and_none_is_taken_for_the_processors(table, tmp_path):
    more = table.assign(**{"Temp 8 (°C)": table[TEMP] - 5, "Power2 (W)": 20.0 + table.index % 3})
    log = read_log(more)
    assert list(log.channels) == [
        "log.temp7.temp_c", "log.power.power_w", "fan.chassis1.speed_rpm", "log.temp8.temp_c",
        "log.power2.power_w",
    ]  # fmt: skip
    assert sum("not clear which part" in caution for caution in log.cautions) == 4


def test_letters_that_were_guessed_are_said(table, tmp_path):
    path = tmp_path / "log.csv"
    table.rename(columns={TEMP: "Температура 7 (°C)"}).to_csv(path, index=False, encoding="cp1251")
    assert any("its encoding is not certain" in caution for caution in read_log(path).cautions)
    assert not any("encoding" in c for c in read_log(path, encoding="cp1251").cautions)


def test_what_is_no_log_says_what_to_do(table, tmp_path):
    base = sqlite3.connect(tmp_path / "log.db")
    base.execute("create table log (t)")
    base.close()
    whole = gzip.compress(table.to_csv(index=False).encode())
    (tmp_path / "cut.csv.gz").write_bytes(whole[: len(whole) // 2])
    (tmp_path / "log.xlsx").write_bytes(b"PK\x03\x04 and nothing more")
    (tmp_path / "log.json").write_text("{}")
    for name, words in (
        ("log.db", "a database: export the table as CSV"), ("cut.csv.gz", "cannot be unpacked"),
        ("log.xlsx", "cannot be read as a workbook"), ("log.json", "holds no objects with readings"),
    ):  # fmt: skip
        with pytest.raises(FileError, match=words):
            read_log(tmp_path / name)


def test_voltage_times_current_is_power_and_a_stated_room_a_reference(tmp_path):
    seconds = np.arange(900.0)
    loaded = seconds >= 60
    warm = np.clip(1 - np.exp(-(seconds - 60) / 80), 0, None)
    table = pd.DataFrame(
        {
            "time (s)": seconds, "Supply Voltage (V)": np.where(loaded, 5.0, 5.1),
            "Supply Current (A)": np.where(loaded, 2.4, 0.5), "CPU Temp (C)": 35 + 25 * warm,
        }
    )  # fmt: skip
    log = read_log(table)
    assert log.frame["wall.supply.power_w"].iloc[-1] == pytest.approx(12.0)
    assert "times" in log.channels["wall.supply.power_w"].conversion
    file, study = tmp_path / "board.csv", tmp_path / "study"
    table.to_csv(file, index=False)
    common = ["import", file, "--study", study, "--setup", "board", "--new-setup", "--limit", "80"]
    for wrong, said in (("warm", "is no number"), ("22+-0", "between 0 and 20 K"), ("80", "in °F")):
        refused = gelassen(*common, "--room", wrong)
        assert refused.returncode == 2
        assert said in refused.stderr
    ok(*common, "--room", "22±0.4")
    steady = summarise_run(open_study(study).run("1")).steady
    assert steady.unit == "K"
    assert steady.low < 38.0 < steady.high
    assert steady.high - steady.low > 2 * 1.9 * 0.4
    assert "reference_stated" in {said.code for said in steady.cautions}
    table["Room (C)"] = 22.0
    table.to_csv(file, index=False)
    refused = gelassen(*common, "--room", "22")
    assert "leave --room out" in refused.stderr
