"""An answer that was given before is given again at once, while nothing it rests on has changed."""

import json

import pytest

from command_line import gelassen, ok
from gelassen.answers.study_runs import StudyRuns
from small_study import small_study


@pytest.fixture
def asked(tmp_path, monkeypatch):
    """Return a study that was asked once, with a cache of its own."""
    monkeypatch.setenv("GELASSEN_CACHE", str(tmp_path / "cache"))
    folder = small_study(tmp_path / "study")
    questions = (("compare", folder), ("capacity", folder), ("show", folder / "runs/001-tower"))
    return folder, {words: ok(*words) for words in questions}


@pytest.fixture
def no_analysis(monkeypatch):
    """Make every analysis fail."""

    def fail(*_, **__):
        raise AssertionError("analysed again")

    monkeypatch.setattr(StudyRuns, "rows", fail)
    monkeypatch.setattr("gelassen.core.run.summary.summarise_run", fail)


def test_the_same_question_is_answered_without_an_analysis(asked, no_analysis, tmp_path):
    folder, told = asked
    for words, answer in told.items():
        assert ok(*words) == answer
    assert ok("compare", folder, "-o", tmp_path / "answer.txt", "-q") == ""
    assert (tmp_path / "answer.txt").read_text(encoding="utf-8") == told["compare", folder]
    with pytest.raises(AssertionError, match="analysed again"):
        gelassen("compare", folder, "--confidence", "0.9")


def test_what_is_written_to_a_file_is_written_again(asked, tmp_path):
    run, target = asked[0] / "runs/001-tower", tmp_path / "samples.csv"
    for form in ("csv", "parquet", "csv"):
        ok("show", run, "--samples", "--format", form, "-o", target)
        assert target.stat().st_size > 1000
        target.unlink()
    for _ in range(2):
        ok("compare", asked[0], "--repeatability")
        (asked[0] / "repeatability.json").unlink()


def test_an_answer_comes_with_its_own_figure(asked, no_analysis, tmp_path):
    folder, told = asked
    figure = folder / "figures/comparison.png"
    drawn = figure.read_bytes()
    for content in (None, b"drawn over by another question"):
        figure.unlink() if content is None else figure.write_bytes(content)
        assert ok("compare", folder) == told["compare", folder]
        assert figure.read_bytes() == drawn
    figure.parent.rename(tmp_path / "elsewhere")
    figure.parent.symlink_to(tmp_path / "elsewhere")
    with pytest.raises(AssertionError, match="analysed again"):
        gelassen("compare", folder)


@pytest.mark.parametrize("changed", ["study.toml", "runs/002-tower/run.json"])
def test_a_change_asks_anew(asked, no_analysis, changed):
    folder, _ = asked
    (folder / changed).write_text((folder / changed).read_text() + "\n")
    with pytest.raises(AssertionError, match="analysed again"):
        gelassen("compare", folder)


def test_what_cannot_be_read_or_was_an_error_is_no_answer(asked, tmp_path):
    folder, told = asked
    kept = list((tmp_path / "cache").rglob("*.json"))
    assert len(kept) == len(told)
    for spoilt in ("", "[]", json.dumps({"printed": 3, "figures": []})):
        for path in kept:
            path.write_text(spoilt)
        assert ok("compare", folder) == told["compare", folder]
    wrong = gelassen("compare", folder, "--effects")
    assert wrong.returncode == 2
    assert len(list((tmp_path / "cache").rglob("*.json"))) == len(told)


def test_mistyped_names_and_options_that_belong_elsewhere_are_refused(asked):
    folder, _ = asked
    assert 'Did you mean "tower"' in gelassen("compare", folder, "--baseline", "towr").stderr
    for option in (
        ("--by", "rest"),
        ("--draw", "order"),
        ("--room", "25"),
        ("--baseline", "tower"),
    ):
        said = gelassen("compare", folder, "--effects", *option).stderr
        assert f"{option[0]} goes with the comparison itself, not with --effects" in said
    for option in (("--where", "a=1"), ("--worth", "1"), ("--of", "capacity"), ("--at", "900")):
        assert f"{option[0]} goes with --" in gelassen("compare", folder, *option).stderr
