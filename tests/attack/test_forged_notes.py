"""Notes of settings that somebody else wrote, or that are damaged, change nothing and stop nothing."""

import json
import os

import pytest

from command_line import gelassen
from gelassen.bench.actuators import find_actuators, left_behind, put_back_note
from gelassen.bench.actuators.undo import Before
from gelassen.bench.actuators.undo_notes import write_note
from trees import LIMIT, settable_tree

PROCESS = {"pid": 1, "began": "0", "boot": "another"}


def note(state, content):
    path = state / "settings-1-1.json"
    path.write_text(content if isinstance(content, str) else json.dumps(content))
    path.chmod(0o600)
    return path


def entry(root, path="passwd", text="1", **more):
    return {"sys_root": str(root), "setting": "x", "path": path, "text": text, **more}


@pytest.mark.parametrize(
    "content",
    [
        {"process": 1, "entries": []},
        {"process": PROCESS, "entries": [{"sys_root": 5}]},
        {"process": PROCESS, "entries": [entry(5)]},
        {"process": PROCESS, "entries": 7},
        {"process": {"pid": "1"}, "entries": []},
        {"process": {"pid": -1}, "entries": []},
        "[" * 100_000,
        "",
        "\0",
        "null",
        '{"process": {"pid": 1}, "entries": [{}]}',
    ],
)
def test_a_spoilt_note_is_named_and_stops_no_command(state, content):
    path = note(state, content)
    done = gelassen("new", "--help")
    assert done.returncode == 0
    assert f"the note of settings {path} is not used: " in done.stderr
    assert list(left_behind()) == []
    assert path.exists()


def test_a_forged_note_writes_no_other_file(state, tmp_path):
    tree = settable_tree(tmp_path / "tree")
    (tree / "sys/passwd").write_text("7\n")
    (tmp_path / "online").write_text("7\n")
    (tree / "sys/class/online").symlink_to(tmp_path / "online")
    limit = LIMIT.removeprefix("sys/")
    for root, path, text in (
        (tree / "sys", "passwd", "1"), (tree / "sys", "../../online", "1"), (tree / "sys", "/online", "1"),
        (tree / "sys", "class/online", "1"), (tmp_path, "online", "1"), ("sys", limit, "1"),
        (tree / "sys", limit, "root::0:0"), (tree / "sys", limit, "99999999999"),
        (tree / "sys", limit, "-1"), ("/" + "n" * 5000, limit, "1"),
    ):  # fmt: skip
        path = note(state, {"process": PROCESS, "entries": [entry(root, path, text)]})
        assert list(left_behind()) == []
        with pytest.raises(
            ValueError,
            match=r"nothing that a setting|leads out|no tree of the kernel|cannot be looked into",
        ):
            put_back_note(path)
        gelassen("--put-back")
    assert (tree / "sys/passwd").read_text() == (tmp_path / "online").read_text() == "7\n"
    assert (tree / LIMIT).read_text() == "65000000\n"
    note(state, {"process": PROCESS, "entries": [entry(tree / "sys", limit, "50000000")]})
    assert gelassen("--put-back").returncode == 0  # an honest one is used
    assert (tree / LIMIT).read_text() == "50000000"


@pytest.mark.parametrize("open_to_others", ["note", "folder"])
def test_a_note_that_others_may_write_is_not_used(state, tmp_path, open_to_others):
    tree = settable_tree(tmp_path)
    path = note(
        state, {"process": PROCESS, "entries": [entry(tree / "sys", LIMIT[4:], "50000000")]}
    )
    (path if open_to_others == "note" else state).chmod(0o777)
    done = gelassen("--put-back")
    assert "other users may write" in done.stderr
    assert (tree / LIMIT).read_text() == "65000000\n"


def test_notes_are_for_their_owner_only_whatever_the_umask_is(tmp_path, monkeypatch):
    folder = tmp_path / "gelassen"
    monkeypatch.setenv("GELASSEN_STATE", str(folder))
    before = os.umask(0)
    try:
        setting = find_actuators(settable_tree(tmp_path) / "sys")["cpu.package.power_limit_w"]
        setting.set(40)
        (path,) = folder.iterdir()
        assert (folder.stat().st_mode & 0o777, path.stat().st_mode & 0o777) == (0o700, 0o600)
        write_note(path, [Before(str(tmp_path / "sys"), "x", LIMIT[4:], "65000000")])
        assert path.stat().st_mode & 0o777 == 0o600
        setting.restore()
    finally:
        os.umask(before)
