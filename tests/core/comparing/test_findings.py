"""What many runs say: known truth, published figures, and what cannot be told."""

import numpy as np
import pandas as pd
import pytest
from scipy.stats import dunnett, tukey_hsd
from scipy.stats import t as student_t

from gelassen.answers.one_room import in_one_room
from gelassen.core import InputError, compare_setups, sustainable_power
from gelassen.core.comparing.along.equal_point import at_equal_point
from gelassen.core.comparing.along.response import response_curve
from gelassen.core.comparing.bias_check import without_bias
from gelassen.core.comparing.comparability import comparability
from gelassen.core.comparing.effects import factor_effects
from gelassen.core.comparing.machine_drift import machine_drift
from gelassen.core.comparing.repeatability import find_repeatability
from gelassen.core.comparing.tradeoff import tradeoff
from gelassen.core.thermal.priors import RoomEffect

# Scheffé's coagulation times, as in Box, Hunter and Hunter, Statistics for Experimenters (1978), ch. 6.
COAGULATION = {
    "A": [62, 60, 63, 59], "B": [63, 67, 71, 64, 65, 66],
    "C": [68, 66, 71, 67, 68, 68], "D": [56, 62, 60, 61, 63, 64, 63, 59],
}  # fmt: skip


def runs_of(groups):
    return pd.DataFrame(
        [(name, v) for name, values in groups.items() for v in values], columns=["setup", "value"]
    )


def test_all_pairs_agree_with_tukey_and_kramer_on_a_published_example():
    found = compare_setups(runs_of(COAGULATION)).differences
    reference = tukey_hsd(*COAGULATION.values()).pvalue
    names = list(COAGULATION)
    for row in found.itertuples():
        assert row.p_value == pytest.approx(
            reference[names.index(row.setup), names.index(row.versus)], abs=2e-4
        )
    assert compare_setups(runs_of(COAGULATION)).repeatability ** 2 == pytest.approx(5.6, abs=0.01)


def test_differences_to_a_baseline_agree_with_dunnett():
    found = compare_setups(runs_of(COAGULATION), baseline="A").differences.set_index("setup")
    others = [COAGULATION[name] for name in "BCD"]
    reference = dunnett(*others, control=COAGULATION["A"], random_state=1).pvalue
    assert found.loc[list("BCD"), "p_value"].to_numpy() == pytest.approx(reference, abs=0.004)


def test_a_known_repeatability_replaces_repeats_and_a_usual_one_does_not():
    single = runs_of({"a": [50.0], "b": [54.0], "c": [50.4]})
    assert not compare_setups(single, usual_spread=(0.6, 4)).differences["distinguishable"].any()
    known = compare_setups(single, repeatability=(0.5, 12))
    told = known.differences.set_index(["setup", "versus"])["distinguishable"]
    assert dict(told) == {("a", "c"): False, ("a", "b"): True, ("c", "b"): True}
    assert "repeatability of 0.50 is used" in known.cautions[0]
    repeated = runs_of({"a": [50.0, 50.1], "b": [51.6, 52.6]})
    alone = compare_setups(repeated).differences.iloc[0]
    steadied = compare_setups(repeated, usual_spread=(0.6, 4)).differences.iloc[0]
    assert steadied["high"] - steadied["low"] < alone["high"] - alone["low"]
    assert steadied["smallest"] > 1
    with pytest.raises(InputError, match="above zero"):
        compare_setups(repeated, repeatability=(0.0, 3))


@pytest.mark.parametrize("known", [0.5, (0.5,), (0.5, 0), (float("nan"), 8), "abc"])
def test_a_repeatability_that_is_none_is_refused(known):
    with pytest.raises(InputError, match="a spread in K and its degrees of freedom"):
        compare_setups(runs_of({"a": [50, 51], "b": [52, 53]}), repeatability=known)
    with pytest.raises(InputError, match="a spread in K and its degrees of freedom"):
        response_curve([1, 1, 2, 2], [50, 51, 48, 49], repeatability=known)


def test_unequal_spreads_widen_intervals_from_the_common_spread():
    runs = runs_of({"a": [50.0, 51.0, 50.2], "b": [52.0, 53.1, 52.2]})
    found = compare_setups(runs, usual_spread=(0.5, 4))
    row = found.differences.iloc[0]
    error = found.repeatability * np.sqrt(2 / 3)
    freedom = found.repeatability_freedom
    assert 4 < freedom < 8  # what is usual adds a little to four degrees of freedom
    assert row["high"] - row["difference"] == pytest.approx(
        student_t.ppf(0.975, 1 / (1 / freedom + 1 / 40)) * error
    )


def test_a_usual_spread_is_no_wall():
    """Rigs may scatter by a fifth of what is usual, or by three times as much."""
    for scatter in (0.1, 1.5):
        false, widths = [], []
        for seed in range(40):
            values = np.random.default_rng([seed, int(10 * scatter)]).normal(50, scatter, (2, 3))
            row = compare_setups(
                runs_of({"a": list(values[0]), "b": list(values[1])}), usual_spread=(0.5, 4)
            ).differences.iloc[0]
            false.append(row["distinguishable"])
            widths.append((row["high"] - row["low"]) / scatter)
        assert np.mean(false) <= 0.15  # 40 studies: chance alone moves this by 0.05
        assert np.median(widths) < 8


def test_many_setups_are_ranked_alike_by_the_table_and_the_integral():
    rng = np.random.default_rng(3)
    many = runs_of({f"s{k}": 50 + k / 4 + rng.normal(0, 0.4, 3) for k in range(9)})
    table = compare_setups(many).differences["p_value"].to_numpy()
    groups = [g["value"].to_numpy() for _, g in many.groupby("setup")]
    exact = tukey_hsd(*groups).pvalue[np.triu_indices(9, 1)]
    assert np.sort(table) == pytest.approx(np.sort(exact), abs=3e-3)


# Yates' oats are not cooling data, but Montgomery's battery (Design and Analysis of Experiments, table
# 5.1) is: life by material and temperature, with an interaction; mean square of error 675.21.
BATTERY = {
    ("1", "15"): [130, 155, 74, 180], ("1", "70"): [34, 40, 80, 75], ("1", "125"): [20, 70, 82, 58],
    ("2", "15"): [150, 188, 159, 126], ("2", "70"): [136, 122, 106, 115], ("2", "125"): [25, 70, 58, 45],
    ("3", "15"): [138, 110, 168, 160], ("3", "70"): [174, 120, 150, 139], ("3", "125"): [96, 104, 82, 60],
}  # fmt: skip


def battery(cells=BATTERY):
    rows = [(v, m, t) for (m, t), values in cells.items() for v in values]
    return pd.DataFrame(rows, columns=["value", "material", "temp"])


def test_effects_agree_with_a_published_example_and_allow_unequal_numbers():
    found = factor_effects(battery(), ["material", "temp"])
    assert found.spread**2 == pytest.approx(675.21, abs=0.01)
    main = found.main.set_index(["factor", "level", "versus"])
    assert main.loc[("material", "3", "1"), "effect"] == pytest.approx(125.083 - 83.167, abs=0.01)
    assert main.loc[("temp", "125", "15"), "distinguishable"]
    thinned = {cell: values[: 2 + k % 3] for k, (cell, values) in enumerate(BATTERY.items())}
    uneven = factor_effects(battery(thinned), ["material", "temp"]).main.set_index(
        ["factor", "level", "versus"]
    )
    cells = {cell: np.mean(values) for cell, values in thinned.items()}
    expected = np.mean([cells[("3", t)] - cells[("1", t)] for t in ("15", "70", "125")])
    assert uneven.loc[("material", "3", "1"), "effect"] == pytest.approx(expected)


def test_an_interaction_is_reported_and_empty_cells_are_named():
    rng = np.random.default_rng(5)
    rows = [
        (60 - 3 * (pad == "pad" and door == "closed") + rng.normal(0, 0.3), pad, door)
        for pad in ("none", "pad") for door in ("open", "closed") for _ in range(4)
    ]  # fmt: skip
    runs = pd.DataFrame(rows, columns=["value", "pad", "door"])
    found = factor_effects(runs, ["pad", "door"])
    assert found.interactions.iloc[0]["effect"] == pytest.approx(-3, abs=0.7)
    where = found.conditional[found.conditional["factor"] == "pad"].set_index("where")[
        "distinguishable"
    ]
    assert dict(where) == {"open": False, "closed": True}
    some = runs[(runs["pad"] == "none") | (runs["door"] == "open")]
    added = factor_effects(some, ["pad", "door"])
    assert added.interactions.empty
    assert "1 of 4 combinations have no free run (pad, closed)" in added.cautions[0]
    effect = added.main.set_index("factor").loc["pad", "effect"]
    assert effect == pytest.approx(found.conditional.iloc[0]["effect"])  # that with the door open
    with pytest.raises(InputError, match='"door" has one level only'):
        factor_effects(runs[runs["door"] == "open"], ["pad", "door"])
    with pytest.raises(InputError, match='no column "dor".*mean "door"'):
        factor_effects(runs, ["pad", "dor"])


def test_a_scale_tells_where_more_stops_paying_and_where_it_is_best():
    rng = np.random.default_rng(6)
    duty = np.repeat([20, 40, 60, 80, 100], 4)
    falling = 60 - 12 * (1 - np.exp(-duty / 25)) + rng.normal(0, 0.2, duty.size)
    found = response_curve(duty, falling, worth=0.8)
    assert list(found.steps["pays"])[:2] == ["yes", "yes"]
    assert list(found.steps["pays"])[-1] == "no"
    assert found.stops_paying_at in (60, 80)
    assert np.isnan(found.best_x)
    valley = 50 + ((duty - 65) / 20) ** 2 + rng.normal(0, 0.2, duty.size)
    best = response_curve(duty, valley)
    assert best.best_low <= 65 <= best.best_high
    assert not np.isfinite(response_curve([1, 2], [50, 49]).levels["low"]).any()


def test_the_rig_and_its_remounting_are_told_apart():
    rng = np.random.default_rng(7)
    rows = []
    for setup in "abcdef":
        for mount in range(4):
            shift = rng.normal(0, 0.6)
            rows += [(setup, 50 + shift + rng.normal(0, 0.15), f"{setup}{mount}") for _ in range(3)]
    runs = pd.DataFrame(rows, columns=["setup", "value", "mount"])
    found = find_repeatability(runs)
    assert found.same_mount == pytest.approx(0.15, abs=0.04)
    assert found.remount == pytest.approx(0.6, abs=0.25)
    assert found.low < 0.62 < found.high
    assert "not noted" in find_repeatability(runs[["setup", "value"]]).cautions[-1]
    assert np.isnan(find_repeatability(runs.drop_duplicates("setup")).total)
    copied = find_repeatability(runs.assign(value=50.0))
    assert copied.total == 0.0
    assert "were they copied" in str(copied)


def test_a_machine_that_drifts_is_told_from_one_that_does_not():
    rng = np.random.default_rng(8)
    days = np.arange(8) * 2.0
    still = [machine_drift(days, 50 + rng.normal(0, 0.3, 8)).distinguishable for _ in range(200)]
    assert 0.01 <= np.mean(still) <= 0.1
    drifted = machine_drift(days, 50 + 0.2 * days + rng.normal(0, 0.3, 8))
    assert drifted.low <= 0.2 <= drifted.high
    assert drifted.correction(14.0) == pytest.approx(-drifted.per_day * 7)
    assert "four runs" in machine_drift([0, 1, 2], [50, 51, 52]).cautions[0]


@pytest.mark.parametrize(("days", "runs"), [(2, 4), (4, 3), (1, 8)])
def test_what_a_day_moves_is_no_drift(days, runs):
    rng = np.random.default_rng(5)
    day = np.repeat(np.arange(days), runs)
    moments = day + np.tile(np.arange(runs) * 0.1, days)
    values = 50 + rng.normal(0, 0.4, (200, days))[:, day] + rng.normal(0, 0.3, (200, day.size))
    found = [machine_drift(moments, one, day=list(map(str, day))) for one in values]
    assert np.mean([one.distinguishable for one in found]) <= 0.11


def fair_runs():
    return pd.DataFrame(
        {
            "run": [f"r{k}" for k in range(6)], "setup": ["a"] * 3 + ["b"] * 3,
            "value": [50.0, 50.3, 47.1, 55.0, 55.2, 54.8], "power_w": [95.0, 95.1, 95.0, 95.0, 94.9, 95.1],
            "fan_rpm": [1200.0, 1210.0, 1600.0, 1205.0, 1195.0, 1200.0],
            "power_share": [0, 0, 0, 0, 0, 0.4], "started": ["2026-11-20"] * 3 + ["2026-11-23"] * 3,
        }
    )  # fmt: skip


def test_a_run_whose_fans_ran_faster_does_not_pass_unseen():
    found = comparability(fair_runs())
    assert list(found.odd_runs["run"]) == ["r2", "r5"]
    fan = found.odd_runs.iloc[0]
    assert fan["quantity"] == "fan_rpm"
    assert fan["pushes_k"] < -3
    assert "395 more than in the other runs of a" in fan["words"]
    assert "cooler" in fan["words"]
    assert "held back by a limit other than heat in 40 %" in found.odd_runs.iloc[1]["words"]
    left = found.corrected.set_index("setup").loc["a"]
    assert left["runs_left"] == 2
    assert left["without_odd"] == pytest.approx(50.15)
    assert list(found.pairs["quantity"]) == ["day"]
    dead = comparability(fair_runs().assign(power_w=[0.0, 95.0, -5.0, 95.0, 95.0, 95.0]))
    assert np.isfinite(dead.corrected["corrected_mean"]).all()
    level = fair_runs().assign(fan_rpm=1200.0, power_share=0.0, started=None)
    assert str(comparability(level)) == "nothing differed beyond its own scatter"


def test_a_run_with_a_mid_run_change_is_named_unless_all_runs_have_it():
    runs = fair_runs().assign(fan_rpm=1200.0, power_share=0.0, started=None)
    runs = runs.assign(
        changed_at_s=[900.0, *[np.nan] * 5], changed_by_k=3.0, changed_how="fan stopped"
    )
    found = comparability(runs)
    assert list(found.odd_runs["run"]) == ["r0"]
    assert "fan stopped after 15.0 min" in str(found)
    assert "about 3.0 K warmer" in str(found)
    every = runs.assign(changed_at_s=[900.0] * 3 + [np.nan] * 3)
    assert comparability(every).odd_runs.empty
    # At its limit a setup's fans and changes are told as well, but not what that does to its rise.
    held = comparability(fair_runs().assign(at_limit=[True] * 3 + [False] * 3))
    assert list(held.odd_runs["run"]) == ["r2", "r5"]
    assert np.isnan(held.odd_runs.iloc[0]["pushes_k"])
    assert list(held.corrected["setup"]) == ["b"]


def test_setups_that_drew_other_power_are_named_with_its_effect():
    runs = fair_runs().assign(fan_rpm=1200.0, power_share=0.0, started=None)
    runs.loc[3:, "power_w"] += 10
    pair = comparability(runs).pairs.iloc[0]
    assert pair["quantity"] == "power_w"
    assert pair["pushes_k"] == pytest.approx(55 * (1 - 95 / 105), abs=0.1)
    assert comparability(runs, expected=["power_w"]).pairs.iloc[0]["expected"]
    level = fair_runs().assign(fan_rpm=1200.0, power_share=0.0, started=None)
    stopped = comparability(level.assign(fan_rpm=[820.0] * 3 + [1.0] * 3)).pairs.iloc[0]
    assert "819 rpm less fan speed" in stopped["words"]
    assert np.isnan(stopped["pushes_k"])  # no power law reaches to a fan that stands
    found = comparability(level.assign(flow_lpm=[2.3] * 3 + [1.9] * 3))
    assert str(found) == "b had 0.4 L/min less coolant flow than a"


def test_without_a_room_more_air_moves_the_rise_and_not_the_whole_temperature():
    runs = fair_runs().assign(power_share=0.0, started=None)
    runs.loc[3:, "fan_rpm"] = 3000.0
    in_kelvin = comparability(runs).pairs.iloc[0]
    in_degrees = comparability(runs.assign(value=runs["value"] + 22, unit="°C")).pairs.iloc[0]
    assert in_kelvin["pushes_k"] == pytest.approx(in_degrees["pushes_k"])


def test_a_difference_that_fans_may_make_or_hide_is_named():
    runs = fair_runs().assign(fan_rpm=1200.0, power_share=0.0, started=None)
    runs["value"] = [50.0, 50.3, 49.8, 52.0, 52.2, 51.9]  # b is 2 K warmer
    found = compare_setups(runs, repeatability=(0.3, 8))
    assert found.differences["distinguishable"].all()
    assert without_bias(found.differences, comparability(runs)).empty
    # Fans that turn a tenth slower make b about 2 K warmer; a fifth slower would make it more.
    slower = runs.assign(fan_rpm=[1200.0] * 3 + [1080.0] * 3)
    row = without_bias(found.differences, comparability(slower)).iloc[0]
    sign = 1 if row["setup"] == "b" else -1
    assert 1.5 < sign * row["pushed_k"] < 2.7
    assert abs(row["corrected"]) < 0.7
    assert row["corrected_low"] < 0 < row["corrected_high"]
    assert row["may_be_that_alone"]
    assert not row["may_hide"]
    assert "fan speed" in row["what"]
    # Where power was not logged, the work that was done tells of heat.
    lazy = runs.assign(power_w=np.nan, work_per_s=[50.0] * 3 + [52.0] * 3)
    row = without_bias(found.differences, comparability(lazy)).iloc[0]
    assert row["may_be_that_alone"]
    assert abs(row["pushed_k"]) == pytest.approx(52.03 * 2 / 52, abs=0.02)
    known = comparability(lazy.assign(power_w=95.0))
    assert without_bias(found.differences, known).empty
    meant = comparability(slower, expected=["fan_rpm"])
    assert without_bias(found.differences, meant).empty
    # The other way round, alike readings hide a difference.
    alike = slower.assign(value=[50.0, 50.3, 49.8, 50.1, 50.2, 49.9])
    open_yet = compare_setups(alike, repeatability=(0.3, 8)).differences
    row = without_bias(open_yet, comparability(alike)).iloc[0]
    assert row["may_hide"]
    assert not row["may_be_that_alone"]


def test_a_room_pushes_where_fans_may_have_followed_it():
    runs = fair_runs().assign(fan_rpm=1200.0, power_share=0.0, started=None)
    runs["reference_c"] = [20.0, 20.1, 20.2, 27.0, 27.2, 27.1]
    (row,) = comparability(runs).pairs.to_dict("records")
    assert "the reference of b was 7 °C warmer than that of a" in row["words"]
    assert abs(row["pushes_k"]) < 0.2
    (row,) = comparability(runs.drop(columns="fan_rpm")).pairs.to_dict("records")
    assert row["pushes_k"] == pytest.approx(7 * RoomEffect.USUAL[0])


def test_a_difference_that_rests_on_an_odd_run_is_told_as_such():
    runs = fair_runs().assign(power_share=0.0, started=None)
    runs["value"] = [50.0, 50.3, 47.0, 50.9, 51.1, 51.0]
    found = compare_setups(runs, repeatability=(0.5, 8)).differences
    assert found["distinguishable"].all()
    row = without_bias(found, comparability(runs)).iloc[0]
    assert row["may_be_that_alone"]
    assert abs(row["without_odd"]) == pytest.approx(0.85)


def test_what_nothing_beats_is_marked():
    found = tradeoff(
        ["quiet", "loud", "worse", "cheap"], [25, 35, 36, np.nan], [60, 50, 55, 40], y_low=[59, 49, 54, 39],
        y_high=[61, 51, 56, 41], x_name="noise", y_name="rise",
    )  # fmt: skip
    assert list(found.table.loc[found.table["unbeaten"], "setup"]) == ["quiet", "loud"]
    assert found.table.set_index("setup").loc["worse", "beaten_by"] == "loud"
    assert "rise: cheap" in found.cautions[0]


def test_runs_that_were_held_back_are_bounds_of_the_capacity():
    power = np.array([60.0, 60.0, 103.0])
    rise = np.array([42.0, 42.2, 70.4])
    held = [False, False, True]
    free = sustainable_power(power[:2], rise[:2], rise_se_k=[0.3, 0.3], limit_c=95)
    bound = sustainable_power(
        power, rise, rise_se_k=[0.3] * 3, throttled=held, wanted_w=[60, 60, 125], limit_c=95
    )
    assert (free.low_w, free.high_w) == (60.0, np.inf)  # what was held, and no more
    assert 99 < bound.low_w < 106 < bound.high_w < 125
    assert bound.passes(90) == "yes"
    assert bound.passes(130) == "no"
    assert bound.passes(bound.power_w) == "cannot tell"
    only = sustainable_power([103.0], [70.4], rise_se_k=[0.3], throttled=[True], limit_c=95)
    assert only.low_w == pytest.approx(99, abs=3)
    assert np.isinf(only.high_w)
    assert "held back by heat" in only.cautions[0]


def test_a_bound_holds_on_a_course_that_fans_bend():
    # A low-profile cooler whose fans speed up: its bench gives 110.5 W at 25 °C and a limit of 95.
    bound = sustainable_power(
        [64.9, 64.9, 64.9, 113.8, 113.8], [47.4, 47.7, 47.1, 72.4, 72.6], rise_se_k=[0.4] * 5,
        throttled=[False] * 3 + [True] * 2, wanted_w=[65, 65, 65, 125, 125], limit_c=95,
    )  # fmt: skip
    assert bound.low_w <= 110.5 <= bound.high_w
    assert bound.low_w > 106
    assert not bound.extrapolated  # 114 W were held
    assert bound.resistance_at(bound.power_w) == pytest.approx(70 / bound.power_w)
    odd = sustainable_power(
        [50, 60, 40], [40, 48, 70], rise_se_k=[0.3] * 3, throttled=[False, False, True], limit_c=95
    )
    assert "a run was held back at 40 W and 70 K" in odd.cautions[0]


def test_fans_at_full_speed_end_what_a_curve_gains():
    power = np.array([45.0, 65.0, 95.0, 125.0])
    curve = 70 * (power / 150) ** 0.72  # fans still speeding up at 125 W
    found = sustainable_power(power, curve, rise_se_k=[0.3] * 4, limit_c=95)
    assert found.power_w < 149
    assert found.low_w < 145 < found.high_w
    fixed = sustainable_power(power, power * 0.5, rise_se_k=[0.3] * 4, limit_c=95)
    assert fixed.low_w <= 140 <= fixed.high_w
    assert fixed.high_w - fixed.low_w < 12


def test_one_setup_and_a_caution_for_copied_repeats():
    assert "one setup only" in compare_setups(runs_of({"a": [1.0, 2.0]})).cautions[0]
    copied = compare_setups(runs_of({"a": [1.0, 1.0], "b": [2.0, 2.0]}), usual_spread=(0.5, 4))
    assert "were they copied" in copied.cautions[0]
    assert not copied.differences["distinguishable"].any()


@pytest.mark.parametrize("count", [2, 4])
def test_identical_setups_are_rarely_told_apart_and_real_differences_mostly_are(count):
    rng = np.random.default_rng(12)
    claims, found, covered = [], [], []
    for _ in range(40):
        spread = rng.uniform(0.3, 0.8)
        for gap in (0.0, 3.0):
            level = gap * np.arange(count)
            runs = runs_of(
                {f"s{k}": 50 + level[k] + rng.normal(0, spread, 3) for k in range(count)}
            )
            rows = compare_setups(runs, baseline="s0", usual_spread=(0.5, 4)).differences
            if gap:
                found += list(rows["distinguishable"])
                covered += list(
                    (rows["single_low"] <= level[1:]) & (level[1:] <= rows["single_high"])
                )
            else:
                claims.append(rows["distinguishable"].any())
    assert np.mean(claims) <= 0.12
    assert np.mean(found) >= 0.95
    assert 0.9 <= np.mean(covered) <= 0.99


def in_rooms(seed, slope, *, setups=4, days=2.5):
    """Setups that are all alike, each on a day of its own or in rooms as they come."""
    rng = np.random.default_rng(seed)
    setup = np.repeat([f"s{k}" for k in range(setups)], 3)
    room = np.repeat(rng.uniform(-days, days, setups), 3)
    room += rng.uniform(-1, 1, setup.size) * (0.7 if days else 4.0)
    value = 50 + slope * room + rng.normal(0, 0.5, setup.size)
    return pd.DataFrame({"setup": setup, "value": value, "room_c": 22 + room})


def test_rooms_of_different_warmth_do_not_pass_for_setups():
    claims = {
        effect: sum(
            compare_setups(
                in_rooms(seed, -0.25), usual_spread=(0.5, 4), room_effect=effect
            ).differences["distinguishable"].any()
            for seed in range(40)
        )
        for effect in ((-0.05, 0.13), None)
    }  # fmt: skip
    assert claims[-0.05, 0.13] <= 3
    assert claims[None] >= 5


def test_a_room_stands_in_the_equations_with_what_is_usual_of_it():
    runs = in_rooms(3, -0.3)
    found = compare_setups(runs, room_effect=(-0.05, 0.13))
    # Mixed estimation, written down at length, with the spread that was found.
    rooms = runs["room_c"] - runs["room_c"].mean()
    design = np.column_stack([pd.get_dummies(runs["setup"]).to_numpy(float), rooms])
    precision = design.T @ design / found.repeatability**2
    right = design.T @ runs["value"].to_numpy() / found.repeatability**2
    precision[-1, -1] += 0.13**-2
    right[-1] += -0.05 * 0.13**-2
    theta = np.linalg.solve(precision, right)
    means = found.setups.sort_values("setup")["mean"].to_numpy()
    assert means == pytest.approx(theta[:-1], abs=2e-3)
    assert found.room_effect[0] == pytest.approx(theta[-1], abs=2e-3)
    assert found.room_effect[1] < found.room_effect[0] < found.room_effect[2]
    assert found.room_c == pytest.approx(runs["room_c"].mean())


def test_rooms_that_are_alike_or_not_known_change_nothing():
    runs = in_rooms(3, -0.3)
    plain = compare_setups(runs).differences
    for rooms in (22.0, [np.nan, *runs["room_c"][1:]], [1e9, *runs["room_c"][1:]]):
        found = compare_setups(runs.assign(room_c=rooms), room_effect=(-0.05, 0.13))
        pd.testing.assert_frame_equal(found.differences, plain)
        assert found.room_effect is None
    # Mountings keep their degrees of freedom.
    shared = runs.assign(mount=[f"m{k // 2}" for k in range(len(runs))])
    known = compare_setups(shared, room_effect=(0.0, 1e-6))
    assert known.repeatability_freedom == compare_setups(shared).repeatability_freedom
    assert known.differences["low"].to_numpy() == pytest.approx(
        compare_setups(shared).differences["low"].to_numpy(), abs=0.05
    )
    copied = runs.assign(value=runs["setup"].map({"s0": 50, "s1": 51, "s2": 52, "s3": 53}))
    assert "were they copied" in compare_setups(copied, room_effect=(-0.05, 0.13)).cautions[0]
    with pytest.raises(InputError, match=r"such as \(-0.1, 0.15\); found -0.1"):
        compare_setups(runs, room_effect=-0.1)


def test_effects_and_drift_are_looked_for_in_one_room():
    runs = in_rooms(5, -0.3, setups=6, days=0.0)
    table = runs.rename(columns={"room_c": "reference_c"}).assign(
        at_limit=False,
        reached=True,
        started=None,
        unit="K",
        power_w=95.0,
        standard_error=0.1,
        mount=None,
    )
    brought, said = in_one_room(table)
    gain = np.polyfit(table["reference_c"], brought["value"], 1)[0]
    assert abs(gain) < 0.12 < abs(np.polyfit(table["reference_c"], table["value"], 1)[0])
    assert "rooms of" in said[0]
    held = table.assign(at_limit=[True] + [False] * 17)
    assert in_one_room(held)[0]["value"].iloc[0] == table["value"].iloc[0]
    for unknown in (table.assign(unit="°C"), table.assign(reference_c=np.nan)):
        same, nothing = in_one_room(unknown)
        assert nothing == []
        assert same is unknown


@pytest.mark.parametrize("mounts", [None, ["m1", "m1", "m2", "m3", "m4", "m4", "m5", "m6"]])
def test_an_error_that_all_runs_share_widens_a_drift(mounts):
    rng = np.random.default_rng(2)
    place, value = np.repeat([1.0, 2.0], 4), 50 + rng.normal(0, 0.4, 8)

    def half(shared=None):
        drift = machine_drift(place, value, mount=mounts, shared_error=shared)
        return (drift.high - drift.low) / 2

    added = np.sqrt(half(np.where(place == 1, 0.3, -0.2)) ** 2 - half() ** 2)
    assert 0.5 * 2.2 < added < 0.5 * 3.3  # half a kelvin between the two, by Student's t
    assert half(np.full(8, 0.3)) == pytest.approx(half())


def test_the_lowest_place_of_a_lopsided_course_lies_in_its_interval():
    duty = np.linspace(20, 100, 6)
    grid = np.linspace(20, 100, 2001)

    def course(x):
        return (
            50 * (x / 20) ** -0.6 + 20 * (x / 100) ** 2
        )  # slower fans, then air that comes around again

    truth, inside, told = grid[np.argmin(course(grid))], 0, 0
    for seed in range(30):
        rng = np.random.default_rng(seed)
        x = np.repeat(duty, 3)
        found = response_curve(x, course(x) + 0.3 * rng.standard_normal(x.size))
        told += bool(np.isfinite(found.best_x))
        inside += bool(found.best_low <= truth <= found.best_high)
    assert told >= 28
    assert inside >= told - 2


def test_groups_at_equal_noise_allow_for_the_bend_between_levels():
    def rise(noise, resistance):  # what more speed gains shrinks
        return 24 + resistance * (600 * 10 ** ((noise - 20) / 50) / 1000) ** -0.6

    levels = {"small": (26.0, [25, 31, 38]), "large": (20.0, [27, 40]), "loud": (15.0, [41, 45])}
    inside, told, apart = [], [], []
    for seed in range(40):
        rng = np.random.default_rng(seed)
        rows = [
            (
                group,
                f"{group} {noise}",
                noise,
                rise(noise, r) + 0.4 * rng.standard_normal(),
                0.1,
                None,
            )
            for group, (r, noises) in levels.items()
            for noise in noises
            for _ in range(3)
        ]
        runs = pd.DataFrame(
            rows, columns=["group", "setup", "x", "value", "standard_error", "mount"]
        )
        found = at_equal_point(runs, 33.0, usual_spread=(0.5, 4.0)).set_index("group")
        for group in ("small", "large"):
            truth = rise(33.0, levels[group][0])
            inside.append(found["low"][group] <= truth <= found["high"][group])
        told.append(found["distinguishable"]["small"])
        apart.append(found["difference"]["small"])
        assert np.isnan(found["value"]["loud"])
    assert np.mean(inside) > 0.9
    assert np.mean(told) > 0.9
    assert np.mean(apart) == pytest.approx(rise(33, 26) - rise(33, 20), abs=0.3)
    alone = runs.groupby("setup").head(1)  # nothing repeated, nothing known of the rig
    found = at_equal_point(alone, 33.0).set_index("group")
    assert np.isinf(found["high"]["small"])
    assert not found["distinguishable"].any()


def on_days(seed, day_of, *, gap, day_k=1.0, run_k=0.2):
    rng = np.random.default_rng(seed)
    rows, moved = [], {}
    for setup in range(3):
        for repeat in range(3):
            day = day_of(setup, repeat)
            moved.setdefault(day, rng.normal(0, day_k))
            rows.append((f"s{setup}", 50 + gap * setup + moved[day] + rng.normal(0, run_k), day))
    return pd.DataFrame(rows, columns=["setup", "value", "day"])


def test_what_a_day_does_is_found_where_every_setup_ran_on_every_day():
    def told(day_of, gap):
        studies = [on_days(seed, day_of, gap=gap) for seed in range(20)]
        found = [compare_setups(one, usual_spread=(0.5, 4), day_spread=0.3) for one in studies]
        return np.mean([one.differences["distinguishable"].mean() for one in found])

    assert told(lambda setup, repeat: f"day {repeat}", 1.5) > 0.9
    # A day for each run cannot be told from the scatter of runs, and counts as that.
    assert told(lambda setup, repeat: f"day {setup} {repeat}", 0.0) < 0.1
