import numpy as np
import pandas as pd
import pytest
from scipy.stats import tukey_hsd

from gelassen.core import InputError, compare_setups


def study(rng, means, *, spread=0.5, runs=3, error=0.1):
    return pd.DataFrame(
        [
            {"setup": name, "value": mean + rng.normal(0, spread), "standard_error": error}
            for name, mean in means.items()
            for _ in range(runs)
        ]
    )


def test_equal_runs_give_the_textbook_answer():
    """Checked against SciPy's implementation of Tukey's honest significant difference."""
    rng = np.random.default_rng(3)
    runs = study(rng, {"a": 50, "b": 51, "c": 53}, error=0.0)
    answer = compare_setups(runs)
    groups = [runs.loc[runs["setup"] == name, "value"].to_numpy() for name in "abc"]
    textbook = tukey_hsd(*groups)
    for row in answer.differences.itertuples():
        i, j = "abc".index(row.setup), "abc".index(row.versus)
        assert row.difference == pytest.approx(textbook.statistic[i, j])
        if row.distinguishable and textbook.pvalue[i, j] >= 0.05:
            assert row.p_value < 0.05  # told apart in steps
        else:
            assert row.p_value == pytest.approx(textbook.pvalue[i, j], abs=1e-3)


@pytest.mark.parametrize(
    "error", [0.1, 3.0]
)  # of each run: less, and far more than runs scatter by
def test_another_unit_gives_the_same_answer_in_it(error):
    runs = study(np.random.default_rng(5), {"a": 50, "b": 51}, error=error)
    plain = compare_setups(runs, usual_spread=(0.5, 4.0)).differences
    per_unit = compare_setups(
        runs.assign(value=runs["value"] / 1000, standard_error=runs["standard_error"] / 1000),
        usual_spread=(0.0005, 4.0), matters=0.001,
    ).differences  # fmt: skip
    ends = ["difference", "low", "high"]
    assert np.allclose(per_unit[ends] * 1000, plain[ends], rtol=1e-3)


def in_one_step(rows):
    """Return which differences are told apart without steps: by more than a hair."""
    return (rows["low"] > 1e-6) | (rows["high"] < -1e-6)


def test_stepwise_verdicts_find_more_pairs_at_the_same_error_rate():
    """Strong control: setups alike among others that differ are parted no more often than promised."""
    rng = np.random.default_rng(11)
    means = {"a": 50, "b": 50, "c": 51.3, "d": 60, "e": 70, "f": 80}
    found, single, false = [], [], []
    for _ in range(40):
        rows = compare_setups(study(rng, means, spread=0.5)).differences
        rows.index = ["".join(sorted(pair)) for pair in rows[["setup", "versus"]].to_numpy()]
        found += list(rows.loc[["ac", "bc"], "distinguishable"])
        single += list(in_one_step(rows.loc[["ac", "bc"]]))
        false.append(rows.loc["ab", "distinguishable"])
    assert np.mean(found) > np.mean(single) + 0.15
    assert np.mean(false) <= 0.1


def test_step_down_verdicts_against_a_baseline_find_more_differences():
    rng = np.random.default_rng(12)
    means = {"base": 50, "same": 50, "near": 51.3, "far": 60, "farther": 70, "farthest": 80}
    found, single, false = [], [], []
    for _ in range(60):
        rows = compare_setups(study(rng, means, spread=0.5), baseline="base").differences
        rows = rows.set_index("setup")
        found.append(rows.loc["near", "distinguishable"])
        single.append(in_one_step(rows.loc[["near"]]).all())
        false.append(rows.loc["same", "distinguishable"])
    assert sum(found) > sum(single)
    assert all(verdict or not alone for verdict, alone in zip(found, single, strict=True))
    assert np.mean(false) <= 0.12


def test_more_runs_are_asked_for_where_more_setups_are_looked_at():
    values = {"a": [50.0, 50.6, 50.3], "b": [50.5, 51.1, 50.8]}
    others = {
        name: [level, level + 0.6, level + 0.3]
        for name, level in zip("cdef", (50.2, 50.3, 50.4, 50.1), strict=True)
    }

    def needed(groups):
        runs = pd.DataFrame(
            [(s, v) for s, all_of in groups.items() for v in all_of], columns=["setup", "value"]
        )
        rows = compare_setups(runs, matters=0.5).differences
        pair = rows[rows["setup"].isin(["a", "b"]) & rows["versus"].isin(["a", "b"])].iloc[0]
        return pair["runs_needed"], pair["smallest"]

    (two, smallest_of_two), (six, smallest_of_six) = needed(values), needed(values | others)
    assert 0 < two < six
    assert smallest_of_two < smallest_of_six


def test_identical_setups_are_rarely_told_apart_and_intervals_cover():
    rng = np.random.default_rng(1)
    claims, covered = [], []
    for size in [2, 4, 6] * 20:
        spread = rng.uniform(0.3, 0.8)
        answer = compare_setups(study(rng, dict.fromkeys("abcdef"[:size], 60.0), spread=spread))
        claims.append(answer.differences["distinguishable"].any())
        found = answer.differences
        covered += list((found["single_low"] <= 0) & (found["single_high"] >= 0))
    assert np.mean(claims) <= 0.11  # 5 % promised; 60 studies: chance alone moves this by 0.03
    assert 0.92 <= np.mean(covered) <= 0.98


def test_real_differences_are_found_with_their_direction():
    rng = np.random.default_rng(2)
    answer = compare_setups(study(rng, {"cool": 50, "same": 50, "warm": 56}), baseline="cool")
    by_name = answer.differences.set_index("setup")
    assert by_name.loc["warm", "distinguishable"]
    assert by_name.loc["warm", "difference"] == pytest.approx(6, abs=1)
    assert by_name.loc["warm", "runs_needed"] == 0
    assert not by_name.loc["same", "distinguishable"]
    assert list(answer.setups["setup"])[-1] == "warm"
    assert answer.repeatability == pytest.approx(0.5, abs=0.3)
    assert "cannot tell: same minus cool" in str(answer)


def test_a_run_that_knows_little_weighs_little():
    runs = pd.DataFrame(
        {
            "setup": ["a", "a", "a", "b", "b", "b"],
            "value": [50.0, 50.3, 58.0, 55.0, 55.3, 54.8],
            "standard_error": [0.1, 0.1, 6.0, 0.1, 0.1, 0.1],
        }
    )
    answer = compare_setups(runs)
    assert answer.setups.set_index("setup").loc["a", "mean"] < 51


def test_days_that_differ_are_taken_out_as_blocks():
    rng = np.random.default_rng(5)
    rows = [
        {"setup": s, "block": day, "value": 50 + 2.0 * (s == "b") + offset + rng.normal(0, 0.1)}
        for day, offset in (("mon", 0.0), ("tue", 4.0), ("wed", -3.0))
        for s in "ab"
    ]
    runs = pd.DataFrame(rows)
    assert compare_setups(runs).differences["distinguishable"].all()
    assert not compare_setups(runs.drop(columns="block")).differences["distinguishable"].any()


def test_groups_share_letters_only_where_they_cannot_be_told_apart():
    rng = np.random.default_rng(9)
    answer = compare_setups(study(rng, {"a": 50, "b": 50.1, "c": 60, "d": 70}, spread=0.3))
    letters = answer.setups.set_index("setup")["group"]
    assert letters["a"] == letters["b"]
    assert len({letters["a"], letters["c"], letters["d"]}) == 3


def test_without_repeats_nothing_is_claimed():
    runs = pd.DataFrame({"setup": ["a", "b"], "value": [50.0, 60.0]})
    answer = compare_setups(runs)
    row = answer.differences.iloc[0]
    assert (row["low"], row["high"]) == (-np.inf, np.inf)
    assert not row["distinguishable"]
    assert any("no setup was run twice" in text for text in answer.cautions)
    copied = compare_setups(pd.concat([runs, runs]))
    assert not copied.differences["distinguishable"].any()
    assert any("copied" in text for text in copied.cautions)


def test_impossible_input_is_refused():
    runs = pd.DataFrame({"setup": ["tower", "flat"], "value": [50.0, 51.0]})
    with pytest.raises(InputError, match='"towr" is not among the setups.*mean "tower"'):
        compare_setups(runs, baseline="towr")
    with pytest.raises(InputError, match='no column "value"'):
        compare_setups(runs.drop(columns="value"))
    with pytest.raises(InputError, match="no run with a value"):
        compare_setups(runs.assign(value=np.nan))


def test_runs_that_all_but_agree_have_no_spread_to_test():
    rows = [("a", 0.0), ("a", 0.0), ("a", 1.0), ("b", 0.0), ("b", 0.0), ("b", 4e-209)]
    answer = compare_setups(pd.DataFrame(rows, columns=["setup", "value"]))
    assert len(answer.differences) == 1


@pytest.mark.parametrize("baseline", [None, "s0"])
def test_interval_p_value_verdict_and_letters_agree(baseline):
    rng = np.random.default_rng(5)
    for setups in (2, 3, 6, 12):
        for _ in range(6):
            rows = [
                (f"s{k}", 50 + rng.choice([0.0, 0.5, 1.2]) + rng.normal(0, 0.4))
                for k in range(setups)
                for _ in range(int(rng.integers(2, 5)))
            ]
            runs = pd.DataFrame(rows, columns=["setup", "value"])
            found = compare_setups(runs, baseline=baseline, usual_spread=(0.5, 4))
            letters = found.setups.set_index("setup")["group"]
            for row in found.differences.itertuples():
                assert row.distinguishable == (row.low > 0 or row.high < 0)
                assert row.distinguishable == (row.p_value < 0.05)
                assert row.distinguishable != bool(
                    set(letters[row.setup]) & set(letters[row.versus])
                )


def test_more_runs_are_asked_for_by_the_difference_that_matters():
    rows = [("a", v) for v in (50.0, 50.9, 49.4)] + [("b", v) for v in (50.1, 51.0, 49.6)]
    runs = pd.DataFrame(rows, columns=["setup", "value"])
    fine, coarse = (compare_setups(runs, matters=size).differences.iloc[0] for size in (1.0, 1.5))
    assert fine["runs_needed"] > coarse["runs_needed"] > 0
    wide = compare_setups(runs, matters=5.0).differences.iloc[0]
    assert wide["alike"]
    assert np.isnan(wide["runs_needed"])
    with pytest.raises(InputError, match="matters"):
        compare_setups(runs, matters=0.0)
