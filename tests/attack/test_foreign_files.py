"""Files from somebody else: nothing outside them changes, nothing hangs, nothing is obeyed."""

import ctypes
import json
import os
import shutil
import struct
import threading
import traceback

import pandas as pd
import pytest

from command_line import gelassen, gelassen_apart, ok
from gelassen.answers import open_study
from gelassen.core import FileError, InputError, Recording, block_means, steady_state, summarise_run
from gelassen.core.foundation.printable import printable
from gelassen.study import read_run
from gelassen.study.file.new_study import ensure_setup
from gelassen.system.files import replace_file
from small_study import small_study

pytestmark = pytest.mark.xdist_group("attack")


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    return small_study(tmp_path_factory.mktemp("attack") / "study")


@pytest.fixture
def study(made, tmp_path):
    return shutil.copytree(made, tmp_path / "study")


def test_no_link_in_a_study_leads_a_write_out_of_it(study, tmp_path):
    outside = tmp_path / "outside.txt"
    outside.write_text("mine")
    run = study / "runs/001-tower"
    for name in (".analysed.jsonl", "study.toml.part", ".study.toml.part"):
        (study / name).symlink_to(outside)
    (run / "run.json.part").symlink_to(outside)
    (run / "notes.jsonl").symlink_to(outside)
    (study / "figures").symlink_to(tmp_path)
    assert gelassen("compare", study).returncode == 0
    assert gelassen("note", run, "seen", "--at", "1").returncode == 2  # a link is not followed
    shown = gelassen("show", run)
    assert shown.returncode == 0
    assert "no figure: " in shown.stderr
    assert (
        gelassen("run", study, "--discard", "002", "--why", "doubtful", "--dry-run").returncode == 0
    )
    assert outside.read_text() == "mine"
    assert not list(tmp_path.glob("*.png"))


def test_devices_and_pipes_are_written_into_and_never_replaced(study, tmp_path):
    pipe, device = tmp_path / "pipe", tmp_path / "device"
    os.mkfifo(pipe)
    device.symlink_to("/dev/null")
    read = threading.Thread(target=lambda: heard.append(pipe.read_text()))
    heard = []
    read.start()
    told = ok("compare", study, "--no-figure")
    ok("compare", study, "--no-figure", "-o", pipe)
    read.join(10)
    assert heard == [told]
    ok("compare", study, "--no-figure", "-o", device)
    assert device.is_symlink()
    assert pipe.is_fifo()
    for path in (pipe, device, tmp_path):
        with pytest.raises(OSError, match="not a regular file"):
            replace_file(path, "anything")
    assert device.is_symlink()
    assert pipe.is_fifo()


def test_a_failed_replacement_leaves_the_file_and_no_draft(tmp_path):
    path = tmp_path / "study.toml"
    path.write_text("before")

    def refuses(draft):
        assert draft.read_text() == "after"
        raise FileError("no")

    with pytest.raises(FileError):
        replace_file(path, "after", check=refuses)
    assert path.read_text() == "before"
    assert [one.name for one in tmp_path.iterdir()] == ["study.toml"]


@pytest.mark.parametrize("name", ["a\x01b", "a\x1b[2Jb", " ", "", "two\nlines"])
def test_a_name_that_cannot_be_shown_is_refused_before_anything_is_written(study, name):
    before = (study / "study.toml").read_bytes()
    with pytest.raises(InputError, match="cannot be the name|must not be empty"):
        ensure_setup(study, name, new_setup=True)
    assert (study / "study.toml").read_bytes() == before
    ensure_setup(study, 'a/b "c" ].x', new_setup=True)  # odd, and possible
    assert 'a/b "c" ].x' in open_study(study).file.setups


def test_what_a_terminal_would_obey_is_shown_as_its_code(study):
    text = (study / "study.toml").read_text().replace('"Kiesel', '"Kiesel')
    text = text.replace("[setups.low]", '[setups."low\\u001b]0;x\\u0007"]').replace(
        "study", "st\\u202eudy"
    )
    (study / "study.toml").write_text(text)
    for run in (study / "runs").iterdir():
        path = run / "run.json"
        path.write_text(path.read_text().replace('"low"', '"low\\u001b]0;x\\u0007"'))
    for form in ("text", "json", "csv", "markdown"):
        said = gelassen("compare", study, "--format", form)
        assert said.returncode == 0, said.stderr
        for character in said.stdout + said.stderr:
            assert character in "\n\t" or character.isprintable(), repr(character)
        assert "low\\u001b]0;x\\u0007" in said.stdout
        if form == "json":
            assert "low\x1b]0;x\x07" in [row["setup"] for row in json.loads(said.stdout)["setups"]]
    assert json.loads(f'"{printable(chr(0xE0001))}"') == chr(0xE0001)


def test_pipes_and_devices_are_not_waited_for(study):
    run = study / "runs/001-tower"
    for name in ("run.json", "samples.parquet", "samples.csv", "notes.jsonl", "journal.jsonl"):
        (run / name).unlink(missing_ok=True)
        os.mkfifo(run / name)
    (study / "runs/002-tower/run.json").unlink()
    (study / "runs/002-tower/run.json").symlink_to("/dev/zero")
    done = gelassen_apart("compare", study)
    assert done.returncode == 0, done.stderr
    assert "001-tower" in done.stdout
    with pytest.raises(FileError, match=r"run\.json cannot be read: .* pipe"):
        read_run(run)


def without_override(check):
    """Run a check in a child that permissions bind, as they bind anyone but root."""
    child = os.fork()
    if child:
        assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0
        return
    try:
        header = struct.pack("Ii", 0x20080522, 0)  # version 3 of the call, this process
        libc = ctypes.CDLL(None, use_errno=True)
        assert libc.capset(header, bytes(24)) == 0, os.strerror(ctypes.get_errno())
        check()
    except BaseException:
        traceback.print_exc()
        os._exit(1)
    os._exit(0)


@pytest.mark.skipif(
    not hasattr(os, "geteuid") or os.geteuid() != 0, reason="needs root to give it up"
)
def test_runs_that_may_not_be_read_are_named_and_the_others_compared(study):
    (study / "runs/001-tower").chmod(0)
    (study / "runs/003-low/samples.parquet").chmod(0)
    study.chmod(0o555)

    def check():
        comparison = open_study(study).compare()
        left = dict(comparison.left_out)
        assert "Permission denied" in left["001-tower"], left
        assert "Permission denied" in left["003-low"], left
        shown = gelassen("show", study / "runs/002-tower", "--channel", "cpu.package.temp_c")
        assert shown.returncode == 0
        assert "no figure" in shown.stderr

    without_override(check)


def test_rows_out_of_order_are_sorted_and_texts_refused(study):
    run = study / "runs/001-tower"
    recording = read_run(run)
    value = summarise_run(recording).steady.value
    backwards = recording.frame[::-1]
    backwards.to_parquet(run / "samples.parquet")
    again = read_run(run)
    assert [caution.code for caution in again.cautions] == ["times_run_backwards"]
    assert summarise_run(again).steady.value == pytest.approx(value)
    shuffled = Recording(frame=recording.frame.sample(frac=1, random_state=1))
    assert shuffled.frame.equals(recording.frame)
    with pytest.raises(InputError, match="runs backwards"):
        block_means(backwards)
    with pytest.raises(
        InputError, match=r"cpu\.core0\.temp_c holds something that is not a number"
    ):
        Recording(frame=recording.frame.astype({"cpu.core0.temp_c": str}))


def test_time_is_converted_wherever_it_enters(made):
    recording = read_run(made / "runs/001-tower")
    seconds = recording.frame
    column = seconds["cpu.package.temp_c"].to_numpy()
    value = steady_state(seconds.index, column).value
    stamps = pd.Timestamp("2026-03-01 10:00") + pd.to_timedelta(seconds.index, unit="s")
    for index in (
        stamps, stamps.tz_localize("Europe/Berlin"), pd.to_timedelta(seconds.index, unit="s"),
        stamps.as_unit("ns").astype("int64"), pd.Series(stamps), list(stamps.to_pydatetime()),
    ):  # fmt: skip
        assert steady_state(index, column).value == pytest.approx(value, abs=1e-6)
        moved = seconds.set_axis(pd.Index(index))
        assert summarise_run(Recording(frame=moved)).load_s == pytest.approx(
            summarise_run(Recording(frame=seconds)).load_s
        )
        pd.testing.assert_frame_equal(block_means(moved), block_means(seconds))
    for wrong in (seconds.index * 1e9, [str(stamp) for stamp in stamps]):
        with pytest.raises(InputError, match=r"Pass seconds|pass seconds"):
            steady_state(wrong, column)


class Quantity:
    """What libraries of physical quantities hand over."""

    def __init__(self, magnitude, units):
        self.magnitude, self.units = magnitude, units

    def to(self, units):
        if (self.units, units) == ("degF", "degC"):
            return Quantity((self.magnitude - 32) / 1.8, units)
        raise TypeError(f"{self.units} is no {units}")

    def __array__(self, *_, **__):
        return self.magnitude


def test_a_unit_is_converted_or_refused_and_never_dropped(made):
    frame = read_run(made / "runs/001-tower").frame
    column = frame["cpu.package.temp_c"].to_numpy()
    value = steady_state(frame.index, column).value
    assert steady_state(frame.index, Quantity(column * 1.8 + 32, "degF")).value == pytest.approx(
        value
    )
    with pytest.raises(InputError, match="temperature_c is in metre"):
        steady_state(frame.index, Quantity(column, "metre"))
