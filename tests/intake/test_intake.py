import numpy as np
import pytest

import gelassen
from gelassen.core import FileError, GelassenError, InputError

PLAIN = "time_s,pkg temp,core0 T,core1 T,W,remark\n" + "".join(
    f"{k},{40 + k},{39 + k},{41 + k},{95.5},x\n" for k in range(5)
)
COLUMNS = {
    "pkg temp": "cpu.package.temp_c",
    "core{n} T": "cpu.core{n}.temp_c",
    "W": "cpu.package.power_w",
}


def read(tmp_path, text, columns=None, encoding="utf-8"):
    path = tmp_path / "log.csv"
    path.write_bytes(text.encode(encoding))
    return gelassen.read_log(path, columns=columns)


def test_mapped_columns_become_channels_and_the_rest_is_named(tmp_path):
    log = read(tmp_path, PLAIN, COLUMNS)
    assert list(log.frame.columns) == [
        "cpu.package.temp_c", "cpu.core0.temp_c", "cpu.core1.temp_c", "cpu.package.power_w",
    ]  # fmt: skip
    assert list(log.frame.index) == [0, 1, 2, 3, 4]
    assert log.frame.loc[3, "cpu.core1.temp_c"] == 44
    assert log.channels["cpu.core1.temp_c"].header == "core1 T"
    assert any("left alone" in text and "remark" in text for text in log.cautions)


def test_own_names_need_no_mapping_and_units_can_be_converted(tmp_path):
    text = "t_s;room.air.temp_c;intake F\n0;21,5;68\n1;21,6;77\n"
    log = read(
        tmp_path, text, {"intake F": {"channel": "case.air.temp_c", "offset": -32, "scale": 5 / 9}}
    )
    assert list(log.frame["room.air.temp_c"]) == [21.5, 21.6]
    assert log.frame["case.air.temp_c"].to_numpy() == pytest.approx([20, 25])
    assert "× 0.5556" in log.channels["case.air.temp_c"].conversion.replace("0.555556", "0.5556")


def test_a_mapping_file_says_the_same(tmp_path):
    (tmp_path / "columns.toml").write_text(
        '[columns]\n"pkg temp" = "cpu.package.temp_c"\n'
        '"W" = { channel = "wall.supply.power_w", scale = 2 }\n'
    )
    log = read(tmp_path, PLAIN, tmp_path / "columns.toml")
    assert list(log.frame["wall.supply.power_w"]) == [191.0] * 5


def test_poor_rows_are_left_out_counted_and_said(tmp_path):
    text = (
        PLAIN.replace("42,41,43", "n/a,41,43").replace("43,42,44", "43,broken,44") + "5,45,44\n6,46"
    )
    log = read(tmp_path, text, COLUMNS)
    assert list(log.frame.index) == [0, 1, 2, 4]
    assert np.isnan(log.frame.loc[2, "cpu.package.temp_c"])
    assert log.frame.loc[2, "cpu.core0.temp_c"] == 41
    said = "\n".join(log.cautions)
    assert 'rows with text in the number column "core0 T", line 5 ("broken")' in said
    assert "rows with too few cells, line 7" in said
    assert "line 8, the last, is torn" in said


@pytest.mark.parametrize(
    ("text", "columns", "words"),
    [
        ("", None, "is empty"),
        ("t_s,cpu.package.temp_c\n", None, "has a header but no rows"),
        ("t_s,cpu.package.temp_c\n0,40\n", None, "line 2: the only sample of this log"),
        ("temp\n40\n", None, "no delimiter"),
        ("a,b\n1,2\n", None, "no column holds the time"),
        ("t_s,b\n1,2\n", None, "no column is known to be a channel"),
        ("t_s,cpu.package.temp_c\n0,40\n1,41\n0.5,42\n", None, "line 4: time runs backwards"),
        ("t_s,cpu.package.temp_c\n0,warm\n1,hot\n", None, "holds no numbers"),
        (PLAIN, {"pkg tmp": "cpu.package.temp_c"}, 'no column "pkg tmp".*mean "pkg temp"'),
        (PLAIN, {"pkg temp": "package"}, "is not a channel name"),
        (PLAIN, {"pkg temp": "cpu.package.temp_f"}, "does not end in a known unit"),
        (PLAIN, {"pkg temp": {"chanel": "x"}}, 'unknown key "chanel"'),
        (PLAIN, {"pkg temp": "cpu.package.temp_c", "W": "cpu.package.temp_c"}, "same channel"),
        ("\x00\x01binary", None, "is not text"),
    ],
)
def test_what_cannot_be_read_is_refused_in_words(tmp_path, text, columns, words):
    with pytest.raises(GelassenError, match=words):
        read(tmp_path, text, columns)


def test_missing_files_and_wrong_mappings_are_refused(tmp_path):
    with pytest.raises(FileError, match="no such file"):
        gelassen.read_log(tmp_path / "none.csv")
    with pytest.raises(InputError, match="a channel name is needed"):
        read(tmp_path, PLAIN, {"W": 3})


def test_own_samples_are_read_wherever_they_lie(tmp_path):
    log = read(tmp_path, "t_s,cpu.package.temp_c\n0,40\n1,41.5\n")
    log.frame.to_parquet(tmp_path / "alone.parquet")
    again = gelassen.read_log(tmp_path / "alone.parquet")
    assert again.frame.equals(log.frame)
    log.frame.reset_index(drop=True).to_parquet(tmp_path / "other.parquet")
    with pytest.raises(FileError, match=r"other\.parquet, line 1: no delimiter"):
        gelassen.read_log(tmp_path / "other.parquet")
    (tmp_path / "spoilt.parquet").write_bytes(b"PAR1 and nothing more")
    with pytest.raises(FileError, match="cannot be read as Parquet"):
        gelassen.read_log(tmp_path / "spoilt.parquet")
