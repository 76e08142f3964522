"""A small made-up study for each way of testing, with the verdicts that are built into it."""

import pytest

from command_line import gelassen, ok
from gelassen import open_study
from gelassen.conduct.scenarios import SCENARIOS

pytestmark = pytest.mark.xdist_group("scenarios")


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    """Return what a scenario says, and its study; each is made once."""
    folder, known = tmp_path_factory.mktemp("scenarios"), {}

    def scenario(name):
        if name not in known:
            known[name] = ok("demo", folder / name, "--scenario", name)
        return known[name], open_study(folder / name)

    return scenario


def test_typed_results_are_ranked_with_their_doubt(made):
    said, study = made("by-hand")
    assert "likely 16" in said
    assert "read by hand" in said
    low, high = study.compare(baseline="Kiesel 92").setups.iloc[0][["low_k", "high_k"]]
    assert low < 42.0 < high  # where the Tarn settles


def test_single_runs_get_verdicts_from_a_stated_scatter(made):
    said, study = made("single")
    assert "taking remounting to move a run by 0.5" in " ".join(said.split())
    assert study.compare(baseline="Kiesel 92").differences["distinguishable"].all()
    assert "fan speed" not in said  # another cooler has other fans


def test_each_program_has_its_row_and_the_hottest_is_named(made):
    said, _ = made("programs")
    assert "Brise 120 is hottest under render" in said
    assert "one setup only" not in said


def test_temperatures_at_rest_know_nothing_of_the_load(made):
    said, study = made("by-hand")
    _, _, at_rest = said.partition("--by rest")
    assert "temperature at rest" in at_rest
    assert "At 95 W" not in at_rest
    assert "power W" not in at_rest
    assert study.compare(by="rest").setups["power_w"].isna().all()


def test_parts_that_disagree_are_named(made):
    said, _ = made("parts")
    said = " ".join(said.split())
    assert "K cooler than front fans at the processor" in said
    assert "K warmer at the graphics hot spot" in said
    assert "at regulator 1" not in said


def test_work_is_compared_as_work(made):
    said, study = made("score")
    by_work = study.compare(by="work")
    assert list(by_work.setups["group"]) == ["a", "a", "b"]
    assert by_work.comparability is None
    assert "cooler than" not in said


def test_a_ladder_ends_where_each_cooler_was_held_back(made):
    said, _ = made("ladder")
    for line in ("Kiesel 92: held 115", "Brise 120: held 130", "Tarn 240: held 160"):
        assert line in said


def test_what_costs_more_for_nothing_is_marked(made):
    said, _ = made("worth")
    assert "- Tarn 240 (cooler): price: 110; noise: 36" in said
    assert "no: no gain over Brise 120" in said


def test_every_scenario_is_tested_and_an_unknown_one_is_refused(made, tmp_path):
    assert set(SCENARIOS) == {"by-hand", "single", "programs", "parts", "score", "ladder", "worth"}
    for name in SCENARIOS:
        assert "made-up sample data" in made(name)[0]
    refused = gelassen("demo", tmp_path / "x", "--scenario", "ladr")
    assert refused.returncode == 2
    assert 'Did you mean "ladder"' in refused.stderr
    assert not (tmp_path / "x").exists()
