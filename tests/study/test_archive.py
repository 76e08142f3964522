import json
import math

import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from gelassen.core import FileError, InputError, summarise_run
from gelassen.study.disk.archive import read_run
from gelassen.study.disk.run_file import RunFile
from gelassen.study.disk.writer import RunWriter, new_run_folder


def writer_of(tmp_path, columns=("cpu.package.temp_c", "room.air.temp_c")):
    folder = new_run_folder(tmp_path, "Brise 120, on-air")
    return RunWriter.create(folder, columns, RunFile(setup="Brise 120", limit_c=95.0))


def filled(tmp_path, samples=20):
    writer = writer_of(tmp_path)
    writer.phase("idle", 0.0)
    for k in range(samples):
        if k == 5:
            writer.phase_ended("idle", 5.0, "time")
            writer.phase("soak", 5.0)
            writer.event(5.5, "side panel off")
        values = {"cpu.package.temp_c": 40.0 + k}
        if k % 4:
            values["room.air.temp_c"] = 21.5
        writer.sample(float(k), values)
    return writer


def crashed(tmp_path):
    writer = filled(tmp_path)
    writer.close()
    return writer.folder


def test_a_finished_run_reads_back_alike(tmp_path):
    writer = filled(tmp_path)
    before = read_run(writer.folder).frame
    writer.finish("finished", ["one fan was loud"])
    run = read_run(writer.folder)
    pd.testing.assert_frame_equal(run.frame, before)
    assert sorted(p.name for p in writer.folder.iterdir()) == ["run.json", "samples.parquet"]
    assert math.isnan(run.frame["room.air.temp_c"].iloc[4])
    assert [(p.name, p.start_s, p.end_s) for p in run.phases] == [("idle", 0, 5), ("soak", 5, 19)]
    assert run.events[0].text == "side panel off"
    assert run.cautions == ("one fan was loud",)
    assert (run.setup, run.limit_c, run.outcome) == ("Brise 120", 95.0, "finished")
    assert writer.folder.name == "001-brise-120-on-air"


def test_samples_written_again_by_another_program_keep_their_times(tmp_path):
    writer = filled(tmp_path)
    writer.finish("finished", [])
    stored = writer.folder / "samples.parquet"
    before = read_run(writer.folder).frame
    plain = before.reset_index()
    pq.write_table(pa.table({name: plain[name] for name in plain.columns}), stored)
    pd.testing.assert_frame_equal(read_run(writer.folder).frame, before)
    before.reset_index(drop=True).to_parquet(stored)
    timeless = read_run(writer.folder)
    assert timeless.frame.empty
    assert "samples.parquet has no column t_s, the elapsed seconds: left out" in timeless.cautions


@pytest.mark.parametrize("cut", range(1, 60, 7))
def test_a_run_cut_off_anywhere_opens_as_far_as_it_goes(tmp_path, cut):
    folder = crashed(tmp_path)
    samples = folder / "samples.csv"
    whole = samples.read_bytes()
    samples.write_bytes(whole[: len(whole) - cut])
    run = read_run(folder)
    complete = whole[: len(whole) - cut].count(b"\n") - 1
    assert len(run.frame) == complete
    assert run.outcome == "ended without notice"
    assert any("ended without notice" in text for text in run.cautions)
    assert run.phases[-1].name == "soak"
    if not whole[: len(whole) - cut].endswith(b"\n"):
        assert any("torn" in text for text in run.cautions)


def test_missing_and_broken_files_are_said_and_the_rest_is_shown(tmp_path):
    folder = crashed(tmp_path)
    (folder / "run.json").write_text("{ not json")
    run = read_run(folder)
    assert len(run.frame) == 20
    assert any("cannot be read" in text for text in run.cautions)
    (folder / "run.json").unlink()
    assert any("is missing" in text for text in read_run(folder).cautions)
    (folder / "journal.jsonl").write_text('{"phase": "idle", "at_s": 0}\n{"pha')
    assert any("journal.jsonl, line 2 is torn" in text for text in read_run(folder).cautions)
    huge = "9" * 400  # no number of a machine
    for at_s in ("1e999", huge):
        (folder / "journal.jsonl").write_text(f'{{"event": "seen", "at_s": {at_s}}}\n')
        assert any("journal.jsonl, line 1 is torn" in text for text in read_run(folder).cautions)
    (folder / "notes.jsonl").write_text(f'{{"at_s": 1, "readings": {{"a.b.temp_c": {huge}}}}}\n')
    assert any("notes.jsonl, line 1" in text for text in read_run(folder).cautions)

    samples = folder / "samples.csv"
    header, rest = samples.read_text().split("\n", 1)
    lines = [f"{line},1,2" for line in rest.splitlines()]
    samples.write_text("\n".join([f"{header},{header.split(',')[1]},", *lines]) + "\n")
    run = read_run(folder)
    assert list(run.frame.columns) == header.split(",")[1:]
    codes = [text.code for text in run.cautions]
    assert {"columns_of_one_name", "columns_without_name"} <= set(codes)

    samples.write_text(f"{header}\rx\n" + rest)
    with pytest.raises(FileError, match=r"samples\.csv cannot be read"):
        read_run(folder)

    second = crashed(tmp_path)
    (second / "samples.csv").unlink()
    assert any("samples are missing" in text for text in read_run(second).cautions)
    (second / "run.json").write_text(json.dumps({"format": 9}))
    with pytest.raises(FileError, match="holds no run"):
        read_run(second)
    with pytest.raises(FileError, match="no such run folder"):
        read_run(tmp_path / "none")


def test_runs_are_numbered_and_never_written_over(tmp_path):
    folders = [new_run_folder(tmp_path, "a b/c") for _ in range(3)]
    assert [folder.name for folder in folders] == ["001-a-b-c", "002-a-b-c", "003-a-b-c"]
    RunWriter.create(folders[0], ["cpu.package.temp_c"], RunFile()).close()
    with pytest.raises(FileError, match="already holds a run"):
        RunWriter.create(folders[0], ["cpu.package.temp_c"], RunFile())


def test_a_run_whose_samples_are_torn_says_which_file_cannot_be_read(tmp_path):
    writer = filled(tmp_path)
    writer.finish("finished", [])
    stored = writer.folder / "samples.parquet"
    stored.write_bytes(stored.read_bytes()[:-40])
    with pytest.raises(InputError, match=r"holds no samples: .*samples\.parquet"):
        summarise_run(read_run(writer.folder))
