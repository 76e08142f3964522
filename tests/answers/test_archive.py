"""Many studies seen together: below a folder, or in an object store."""

import json
import shutil
from pathlib import Path

import fsspec
import pytest

from command_line import gelassen, ok
from gelassen import open_archive, open_study
from gelassen.answers.rows import run_row
from gelassen.core import InputError
from small_study import small_study


@pytest.fixture(scope="module")
def studies(tmp_path_factory):
    """Two machines with the same coolers, one study in a folder below, and one that is broken."""
    root = tmp_path_factory.mktemp("archive")
    small_study(root / "first")
    shutil.copytree(root / "first", root / "lab, 2nd floor/box=2")
    toml = root / "lab, 2nd floor/box=2/study.toml"
    toml.write_text(toml.read_text().replace('name = "the machine under test"', 'name = "Box 2"'))
    (root / "broken").mkdir()
    (root / "broken/study.toml").write_text("format = ")
    return root


@pytest.fixture
def copy(studies, tmp_path):
    shutil.copytree(studies, tmp_path / "archive")
    return tmp_path / "archive"


def analysed(monkeypatch):
    """Count the runs that are analysed from now on."""
    done = []
    real = run_row.run_row
    target = "gelassen.answers.study_runs.run_row"
    monkeypatch.setattr(target, lambda *given: (done.append(1), real(*given))[1])
    return done


def test_an_archive_names_machines_setups_runs_and_what_cannot_be_read(copy):
    archive = open_archive(copy)
    table = archive.studies().set_index("study")
    assert list(table.index) == ["first", "lab, 2nd floor/box=2"]
    assert table.loc["lab, 2nd floor/box=2", "machine"] == "Box 2"
    assert (table["runs"] == 4).all()
    assert (table["setups"] == 2).all()
    [(broken, why)] = archive.unreadable
    assert broken == "broken"
    assert "study.toml" in why
    best = open_study(copy / "first").compare().setups.iloc[0]
    assert table.loc["first", "coolest"] == best["setup"]
    assert table.loc["first", ["rise", "low", "high"]].tolist() == pytest.approx(
        best[["rise_k", "low_k", "high_k"]].tolist()
    )


def test_what_was_analysed_is_kept_and_only_what_changed_is_analysed_again(copy, monkeypatch):
    open_archive(copy)
    done = analysed(monkeypatch)
    open_archive(copy)
    assert not done
    run = next((copy / "first/runs").iterdir())
    content = json.loads((run / "run.json").read_text())
    (run / "run.json").write_text(json.dumps(content | {"setup": "other"}))
    again = open_archive(copy)
    assert len(done) == 1
    assert set(again.runs(["study=first"])["setup"]) == {"tower", "low", "other"}
    shutil.rmtree(copy / "first")
    assert list(open_archive(copy).studies()["study"]) == ["lab, 2nd floor/box=2"]
    assert len(list((copy / ".gelassen-archive").glob("*/rows.parquet"))) == 1


def test_a_study_that_is_its_own_archive_is_not_read_again_and_again(copy, monkeypatch):
    study = copy / "first"
    assert list(open_archive(study).studies()["study"]) == ["."]
    before = (study / ".gelassen-archive/study=./rows.parquet").stat().st_mtime_ns
    open_archive(study)
    assert (study / ".gelassen-archive/study=./rows.parquet").stat().st_mtime_ns == before


def test_runs_are_chosen_by_conditions(copy):
    archive = open_archive(copy)
    assert len(archive.runs()) == 8
    assert set(archive.runs(["setup=tower", "machine!=Box 2"])["study"]) == {"first"}
    assert len(archive.runs(["value>0", "started>=2020-01-01", "at_limit=no"])) == 8
    assert archive.runs(["value<0"]).empty
    for wrong, said in (
        ("setup", "is no condition"),
        ("sehtup=tower", 'has "sehtup".*setup'),
        ("value>warm", '"warm" is not a number'),
        ("started>=soon", '"soon" is not a date'),
    ):
        with pytest.raises(InputError, match=said):
            archive.runs([wrong])


def test_one_study_says_the_same_alone_and_in_the_archive(copy):
    study, archive, only = open_study(copy / "first"), open_archive(copy), ["study=first"]
    alone, among = study.compare(), archive.compare(["setup"], only)
    columns = ["setup", "rise_k", "low_k", "high_k", "group"]
    assert among.setups[columns].to_dict("list") == alone.setups[columns].to_dict("list")
    assert "setups_lumped" not in {said.code for said in among.cautions}
    own = ["total", "low", "high", "freedom"]
    [scatter] = archive.repeatability(only).values()
    assert [scatter.to_dict()[n] for n in own] == [study.repeatability().to_dict()[n] for n in own]
    [drift] = archive.drift("tower", only).values()
    assert drift.to_dict()["per_day"] == study.drift("tower").to_dict()["per_day"]


def test_other_factors_within_what_is_compared_as_one_are_named(copy):
    toml = copy / "first/study.toml"
    head, _, _ = toml.read_text().partition("[setups")
    toml.write_text(
        head + '[factors.cooler]\nlevels = ["a"]\n[factors.curve]\nlevels = ["x", "y"]\n'
        '[setups.tower]\ncooler = "a"\ncurve = "x"\n[setups.low]\ncooler = "a"\ncurve = "y"\n'
    )
    found = open_archive(copy).compare(["cooler"], ["study=first"])
    [said] = [one for one in found.cautions if one.code == "setups_lumped"]
    assert said.sizes["factors"] == "curve"


def test_a_study_whose_files_cannot_be_listed_is_named_and_the_rest_goes_on(copy):
    (copy / "first/runs/009-gone").symlink_to(copy / "nowhere")
    shutil.rmtree(copy / "broken")
    (copy / "broken/study.toml").mkdir(parents=True)
    archive = open_archive(copy)
    assert {"first", "lab, 2nd floor/box=2"} <= set(archive.studies()["study"])
    assert [name for name, _ in archive.unreadable] == ["broken"]


def test_the_same_setup_on_several_machines_is_compared_with_a_caution(copy):
    found = open_archive(copy).compare(["setup", "machine"])
    assert "tower, Box 2" in set(found.setups["setup"])
    assert "several_machines" in {said.code for said in found.cautions}


def test_scatter_and_drift_are_told_for_each_machine(copy):
    archive = open_archive(copy)
    assert set(archive.repeatability()) == {"Box 2", "the machine under test"}
    assert set(archive.drift("tower", ["machine=Box 2"])) == {"Box 2"}
    with pytest.raises(InputError, match='no run here is of "towre"'):
        archive.drift("towre")


def test_an_object_store_gives_the_same_and_keeps_its_own_index(copy, monkeypatch):
    store = fsspec.filesystem("memory")
    store.put(f"{copy}/", "/lab/", recursive=True)
    local, remote = open_archive(copy), open_archive("memory://lab")
    assert remote.studies().to_dict("list") == local.studies().to_dict("list")
    assert remote.runs().to_dict("list") == local.runs().to_dict("list")
    assert store.glob("/lab/.gelassen-archive/study=*/rows.parquet")
    done = analysed(monkeypatch)
    open_archive("memory://lab")
    assert not done


def test_the_command_tells_the_archive_and_puts_its_index_where_it_is_told(copy, tmp_path):
    index = tmp_path / "index"
    said = ok("archive", copy, "--index", index)
    assert "2 studies of 2 machines, 8 runs" in said
    assert "could not be read" in said
    assert not (copy / ".gelassen-archive").exists()
    assert "tower, Box 2" in ok("archive", copy, "--by", "setup", "--by", "machine")
    runs = json.loads(ok("archive", copy, "--runs", "--where", "setup=low", "--format", "json"))
    assert len(runs) == 4
    assert "scatter by" in ok("archive", copy, "--repeatability", "--where", "machine=Box 2")
    assert gelassen("archive", copy, "--where", "setup=low").returncode == 2
    assert gelassen("archive", tmp_path / "none").returncode == 2
    assert Path(index / "study=first" / "rows.parquet").exists()
