"""Runs that share a mounting: no repeats of remounting, and free of it where compared on one."""

import math

import numpy as np
import pandas as pd
import pytest
from scipy import stats

from gelassen import open_study
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct.study_run import conduct_study
from gelassen.core import compare_setups, sustainable_power
from gelassen.core.comparing.along.response import response_curve
from gelassen.core.comparing.effects import factor_effects
from gelassen.core.comparing.machine_drift import machine_drift
from gelassen.core.comparing.repeatability import find_repeatability
from gelassen.study.file.levels import mounted_as

USUAL = (0.5, 4.0)


def nested(seed, setups=2, mounts=3, runs=2, mounting=0.6, within=0.15):
    """Setups that are alike, each with mountings of its own."""
    rng = np.random.default_rng(seed)
    rows = []
    for setup in "abcd"[:setups]:
        for mount in range(mounts):
            middle = 50 + rng.normal(0, mounting)
            rows += [
                (setup, middle + rng.normal(0, within), f"{setup}{mount}") for _ in range(runs)
            ]
    return pd.DataFrame(rows, columns=["setup", "value", "mount"])


def crossed(seed, mounts=4, difference=0.5):
    """Two setups, once each on every mounting."""
    rng = np.random.default_rng(seed)
    rows = []
    for mount in range(mounts):
        middle = 50 + rng.normal(0, 0.8)
        rows += [
            (s, middle + d + rng.normal(0, 0.1), mount) for s, d in (("a", 0.0), ("b", difference))
        ]
    return pd.DataFrame(rows, columns=["setup", "value", "mount"])


@pytest.mark.parametrize("seed", range(3))
def test_between_mountings_it_is_a_t_test_of_their_means(seed):
    runs = nested(seed)
    means = runs.groupby(["setup", "mount"])["value"].mean()
    expected = stats.ttest_ind(means["a"], means["b"])
    (row,) = compare_setups(runs).differences.to_dict("records")
    assert row["p_value"] == pytest.approx(expected.pvalue, rel=1e-3)
    interval = expected.confidence_interval(0.95)
    sign = 1 if row["setup"] == "a" else -1
    assert sorted([sign * row["low"], sign * row["high"]]) == pytest.approx(
        list(interval), rel=1e-3
    )


def test_on_one_mounting_it_is_a_paired_t_test():
    runs = crossed(1)
    values = runs.pivot_table(index="mount", columns="setup", values="value")
    expected = stats.ttest_rel(values["a"], values["b"])
    (row,) = compare_setups(runs).differences.to_dict("records")
    assert row["p_value"] == pytest.approx(expected.pvalue, rel=1e-3)
    assert row["distinguishable"]
    assert not compare_setups(runs.drop(columns="mount")).differences["distinguishable"].any()
    (effect,) = factor_effects(runs, ["setup"]).main.to_dict("records")
    assert effect["p_value"] == pytest.approx(expected.pvalue, rel=1e-3)
    (step,) = response_curve(
        runs["setup"].map({"a": 1.0, "b": 2.0}), runs["value"], runs=runs
    ).steps.to_dict("records")
    assert (step["low"], step["high"]) == pytest.approx((-row["high"], -row["low"]), rel=1e-3)


def test_a_mounting_of_its_own_for_each_run_changes_nothing():
    runs = nested(2, runs=1)
    alone, unnamed = compare_setups(runs), compare_setups(runs.assign(mount=None))
    pd.testing.assert_frame_equal(alone.differences, unnamed.differences)
    pd.testing.assert_frame_equal(compare_setups(runs.drop(columns="mount")).setups, alone.setups)


def test_three_runs_of_one_mounting_are_not_three_mountings():
    claims = {"mount": 0, "none": 0}
    for seed in range(40):
        runs = nested(seed, mounts=1, runs=3)
        found = compare_setups(runs, usual_spread=USUAL)
        claims["mount"] += found.differences["distinguishable"].any()
        claims["none"] += compare_setups(
            runs.drop(columns="mount"), usual_spread=USUAL
        ).differences["distinguishable"].any()  # fmt: skip
    assert claims["mount"] <= 4
    assert claims["none"] >= 12  # what it was about
    assert any("no setup was mounted twice" in text for text in found.cautions)
    unknown = compare_setups(runs)
    assert unknown.differences["low"].to_numpy() == pytest.approx([-math.inf])
    assert not unknown.differences["distinguishable"].any()
    known = compare_setups(runs, repeatability=(0.1, 20.0))
    assert np.isfinite(known.differences["low"]).all()
    assert not known.cautions


def test_intervals_hold_where_some_setups_share_mountings_and_others_do_not():
    covered, claims = [], 0
    for seed in range(40):
        rng = np.random.default_rng(seed)
        rows = []
        for cooler in "ab":
            for mount in range(3):
                middle = 50 + rng.normal(0, 0.6)
                rows += [
                    (f"{cooler}{c}", middle + rng.normal(0, 0.15), f"{cooler}{mount}") for c in "12"
                ]
        runs = pd.DataFrame(rows, columns=["setup", "value", "mount"])
        found = compare_setups(runs, usual_spread=USUAL).differences
        covered += ((found["low"] <= 0) & (found["high"] >= 0)).tolist()
        claims += found["distinguishable"].any()
        half = (found["high"] - found["low"]) / 2
        same = found["setup"].str[0] == found["versus"].str[0]
        assert half[same].max() < half[~same].min()
    assert 0.9 <= np.mean(covered) <= 0.99
    assert claims <= 5


def test_another_mounting_is_no_drift_of_the_machine():
    days, values = [0, 0.1, 0.2, 1, 1.1, 1.2], [50, 50.1, 50.05, 51, 51.1, 51.05]
    assert machine_drift(days, values).distinguishable
    assert not machine_drift(days, values, mount=list("aaabbb")).distinguishable
    with pytest.raises(ValueError, match="mount has 2 entries"):
        machine_drift(days, values, mount=["a", "b"])


def test_levels_on_one_mounting_share_what_another_would_move():
    power = np.array([45.0, 65.0, 95.0, 125.0])
    asked = {"rise_se_k": np.full(4, 0.15), "limit_c": 95, "mounting_spread": 0.02}
    one = sustainable_power(power, 0.5 * power, mount=["x"] * 4, **asked)
    each = sustainable_power(power, 0.5 * power, **asked)
    bare = sustainable_power(power, 0.5 * power, **{**asked, "mounting_spread": 0.0})
    half = (one.high_w - one.low_w) / 2
    assert half == pytest.approx(
        math.hypot((bare.high_w - bare.low_w) / 2, 1.96 * 0.02 * 140), rel=0.15
    )
    assert one.low_w < 140 < one.high_w
    assert each.exponent == pytest.approx(one.exponent, abs=0.05)


def test_a_plan_notes_which_runs_were_not_remounted_between(tmp_path):
    text = """
format = 1
title = "Coolers for the playout box"
made_up = true
[machine]
name = "Playout box"
limit_c = 95
[factors.cooler]
levels = ["Brise 120", "Kiesel 92"]
[factors.cabinet_door]
levels = ["open", "closed"]
[factors.power_limit_w]
levels = [45, 65]
changed_by = "software"
channel = "cpu.package.power_limit_w"
[protocol]
idle = 5
soak = 20
hold = 20
cooldown = 0
repeats = 2
"""
    for cooler in ("Brise 120", "Kiesel 92"):
        for door in ("open", "closed"):
            for power in (45, 65):
                text += f'[setups."{cooler}, {door}, {power}"]\ncooler = "{cooler}"\n'
                text += f'cabinet_door = "{door}"\npower_limit_w = {power}\n'
    (tmp_path / "study.toml").write_text(text)

    def bench_for(planned):
        return SimulatedBench(
            cooler=COOLERS[planned.levels["cooler"]], curve=CURVES["on-air"],
            power_limit_w=planned.levels["power_limit_w"], seed=planned.block,
        )  # fmt: skip

    list(conduct_study(open_study(tmp_path), bench_for, most=5))  # a session that ends, and another
    made = list(conduct_study(open_study(tmp_path), bench_for))
    study = open_study(tmp_path)
    runs = [study.run(folder.name) for folder in study.run_folders()]
    assert len(runs) == 16 == len(made) + 5
    mounts = [run.mount for run in runs]
    coolers = [run.setup.split(",")[0] for run in runs]
    # The door leaves the cooler where it is; each pass mounts each cooler once.
    assert len(set(mounts)) == 4
    assert all(
        len({c for c, m in zip(coolers, mounts, strict=True) if m == one}) == 1 for one in mounts
    )


def test_scatter_that_grows_with_power_is_weighed_by_it():
    gentle, hard = [20.0, 20.2, 19.8], [60.0, 60.9, 59.1]
    runs = pd.DataFrame({"value": gentle * 2 + hard * 2})
    runs["setup"] = np.repeat(list("abcd"), 3)
    half = {}
    for name, table in (
        ("one", runs),
        ("scaled", runs.assign(scale=np.repeat([1, 1, 4.5, 4.5], 3))),
    ):
        setups = compare_setups(table).setups.set_index("setup")
        half[name] = (setups["high"] - setups["low"]) / 2
    assert half["one"]["a"] == pytest.approx(half["one"]["d"])
    assert half["scaled"]["d"] == pytest.approx(4.5 * half["scaled"]["a"])
    # In units of its scatter each setup has the same spread, here of 0.2 and eight degrees of freedom.
    assert half["scaled"]["a"] == pytest.approx(stats.t.ppf(0.975, 8) * 0.2 / math.sqrt(3))
    with pytest.raises(ValueError, match="scale must be a number above zero"):
        compare_setups(runs.assign(scale=0.0))


def test_copies_on_shared_mountings_are_answered_without_a_scratch():
    runs = pd.DataFrame({"setup": list("aabbab"), "value": 1e6, "mount": list("xyxyzz")})
    known = compare_setups(runs, repeatability=(0.3, 5.0))
    assert known.differences["difference"].to_numpy() == pytest.approx([0.0], abs=1e-6)
    assert not known.differences["distinguishable"].any()
    assert any("copied" in text for text in compare_setups(runs).cautions)
    power = np.array([45.0, 65.0, 95.0, 125.0, 125.0])
    bent = np.array(
        [20.0, 24.0, 28.0, 31.0, 70.0]
    )  # held back at a rise that the others never meet
    answer = sustainable_power(
        power, bent, rise_se_k=np.full(5, 0.3), throttled=power * 0 + (bent > 60), limit_c=95
    )
    assert answer.low_w <= answer.power_w <= answer.high_w


def test_the_first_mounting_of_one_cooler_is_not_that_of_another(tmp_path):
    text = 'format = 1\ntitle = "Coolers"\nmade_up = true\n[machine]\nname = "Playout box"\nlimit_c = 95\n'
    text += '[factors.cooler]\nlevels = ["Brise 120", "Kiesel 92"]\n[factors.power_limit_w]\n'
    text += 'levels = [65, 125]\nchanged_by = "software"\nchannel = "cpu.package.power_limit_w"\n'
    for cooler in ("Brise 120", "Kiesel 92"):
        for power in (65, 125):
            text += f'[setups."{cooler}, {power}"]\ncooler = "{cooler}"\npower_limit_w = {power}\n'
    (tmp_path / "study.toml").write_text(text)
    study = open_study(tmp_path)
    names = {setup: mounted_as(study.file, setup) for setup in study.file.setups}
    assert names["Brise 120, 65"] == names["Brise 120, 125"] != names["Kiesel 92, 65"]
    assert mounted_as(study.file, "no factors, 65 W") == "no factors"


def test_runs_without_remounting_give_no_repeatability_of_remounting():
    once = find_repeatability(nested(1, mounts=1, runs=3))
    assert not once.remounted
    assert any("does not include remounting" in text for text in once.cautions)
    assert find_repeatability(nested(1)).remounted
    unnamed = nested(1, runs=1).assign(mount=None)
    unnamed.loc[0, "mount"] = "x"  # one that is named makes no mounting of the others
    assert math.isnan(find_repeatability(unnamed).same_mount)
