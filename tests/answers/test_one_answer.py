"""Setups against each other: what may not be ranked, and what every output has to say."""

from dataclasses import replace

import numpy as np
import pytest

from gelassen.answers.comparison import ComparisonAsked, compare_runs
from gelassen.answers.loads import compare_loads
from gelassen.answers.rows.known_spread import KnownSpread
from gelassen.answers.rows.run_row import RunRow
from gelassen.core import InputError
from gelassen.show.comparison_text import comparison_text
from gelassen.show.loads_text import loads_text
from gelassen.study.file.study_file import StudyFile

ASKED = ComparisonAsked(title="made up", made_up=True)


def rows_of(setup, values, *, room=True, days=("2026-03-01",), **more):
    """Return one analysed run for each value; days come in turn."""
    return [
        RunRow(
            run=f"{setup}-{k}", setup=setup, unit="K" if room else "°C", value=value, low=value - 0.3,
            high=value + 0.3, standard_error=0.15, reached=True, power_w=95.0, kind="hottest core",
            reference="room.air.temp_c" if room else None, reference_c=22.0 if room else None,
            started=f"{days[k % len(days)]}T10:0{k}:00Z", limit_c=95.0, **more,
        )
        for k, value in enumerate(values)
    ]  # fmt: skip


def codes(comparison):
    return {one.code for one in comparison.cautions}


def test_rises_and_temperatures_are_never_ranked_together():
    rows = rows_of("tower", [50.0, 50.2, 49.9]) + rows_of("flat", [54.0, 54.2, 53.9])
    rows += rows_of("tower without a room", [72.0, 72.3, 72.1], room=False)
    found = compare_runs(rows, [], ASKED)
    assert set(found.setups["setup"]) == {"tower", "flat"}
    (other,) = found.others
    assert (other.unit, list(other.setups["setup"])) == ("°C", ["tower without a room"])
    assert "another_unit" in codes(found)
    assert "no_comparable_run" not in codes(found)
    assert "tower without a room" not in " ".join(found.differences["versus"])
    printed = comparison_text(found)
    assert "in °C, compared among themselves" in printed
    of_baseline = compare_runs(rows, [], replace(ASKED, baseline="tower without a room"))
    assert of_baseline.unit == "°C"


def test_a_room_is_not_added_to_temperatures_that_hold_their_own():
    rows = rows_of("a", [72.0, 72.3], room=False) + rows_of("b", [75.0, 75.3], room=False)
    with pytest.raises(InputError, match="no room temperature was logged"):
        compare_runs(rows, [], replace(ASKED, room_c=25.0))


def test_without_a_room_its_possible_difference_is_in_every_interval():
    def found(days_a, days_b, **asked):
        rows = rows_of("a", [72.0, 72.2, 72.1], room=False, days=days_a)
        rows += rows_of("b", [73.6, 73.8, 73.5], room=False, days=days_b)
        return compare_runs(rows, [], replace(ASKED, **asked))

    apart = found(["2026-03-01"], ["2026-03-02"])
    assert not apart.differences["distinguishable"].any()
    assert "no_room_anywhere" in codes(apart)
    assert "no room temperature was logged" in comparison_text(apart)
    days = ["2026-03-01", "2026-03-02", "2026-03-03"]
    mixed = found(days, days)
    widths = [(c.differences["high"] - c.differences["low"]).iloc[0] for c in (apart, mixed)]
    assert widths[1] < 0.5 * widths[0]
    assert found(["2026-03-01"], ["2026-03-02"], room_k=0.1).differences["distinguishable"].all()


def test_what_is_extrapolated_is_marked_and_errs_alike_within_a_setup():
    def rows(reached):
        more = {"missing_k": None if reached else 3.1}
        made = rows_of("a", [50.0, 50.2, 49.9], **more) + rows_of("b", [51.6, 51.8, 51.5], **more)
        return [replace(row, reached=reached, standard_error=0.8) for row in made]

    settled, open_ended = (compare_runs(rows(one), [], ASKED) for one in (True, False))
    assert "extrapolated" in codes(open_ended) - codes(settled)
    assert "50.0~" in comparison_text(open_ended)
    assert "3.1 K are extrapolated" in comparison_text(open_ended)
    widths = [(c.differences["high"] - c.differences["low"]).iloc[0] for c in (settled, open_ended)]
    assert widths[1] > 1.2 * widths[0]


def test_one_run_at_its_limit_does_not_spoil_its_setup():
    rows = rows_of("hot", [70.8, 71.1, 71.5]) + rows_of("cool", [60.0, 60.3, 60.1])
    rows[2] = replace(rows[2], at_limit=True)
    found = compare_runs(rows, [], ASKED)
    hot = found.setups.set_index("setup").loc["hot"]
    assert not hot["at_limit"]
    assert np.isfinite([hot["low_k"], hot["high_k"]]).all()
    assert hot["rise_k"] > np.mean([70.8, 71.1, 71.5])  # it would be warmer than it shows
    assert "some_at_limit" in codes(found)
    assert found.differences["distinguishable"].all()


def test_setups_run_on_days_of_their_own_need_a_larger_difference():
    def told(days_b):
        rows = rows_of("a", [50.0, 50.2, 50.1]) + rows_of("b", [51.0, 51.2, 51.1], days=days_b)
        return compare_runs(rows, [], ASKED).differences["distinguishable"].all()

    assert told(["2026-03-01"])
    assert not told(["2026-03-02"])


def test_runs_that_ended_early_are_named():
    rows = rows_of("a", [50.0, 50.2]) + rows_of("b", [53.0, 53.2])
    rows[0] = replace(rows[0], outcome="stopped by the tester")
    found = compare_runs(rows, [], ASKED)
    assert any("a-0" in text for text in found.cautions if text.code == "ended_early")


def random_study(rng):
    """Return rows of a study with rooms or without, on some days, some runs at their limit or cut short."""
    rows, days = [], [f"2026-03-0{k}" for k in range(1, 5)]
    for setup in "abcdef"[: rng.integers(2, 7)]:
        level = 50 + rng.choice([0.0, 0.6, 3.0])
        values = level + rng.normal(0, rng.choice([0.2, 0.6]), rng.integers(1, 5))
        made = rows_of(
            setup, list(values), room=rng.random() < 0.8,
            days=[str(day) for day in rng.permutation(days)[: rng.integers(1, 4)]],
            load=str(rng.choice(["matrix", "memory"])), mount=rng.choice([None, "m1"]),
        )  # fmt: skip
        for row in made:
            limited = rng.random() < 0.1
            reached = limited or rng.random() < 0.8
            rows.append(replace(row, at_limit=limited, reached=reached, missing_k=0.7))
    return rows


@pytest.mark.parametrize("seed", range(25))
def test_all_ways_to_ask_give_the_same_answer(seed):
    rows = random_study(np.random.default_rng(seed))
    every = compare_runs(rows, [], ASKED)
    for found in (every, *every.others):
        for row in found.differences.itertuples():
            assert bool(row.distinguishable) == (row.low > 0 or row.high < 0)
            if np.isfinite(row.p_value):
                assert bool(row.distinguishable) == (row.p_value < 0.05)
        letters = found.setups.set_index("setup")["group"]
        apart = found.differences[found.differences["distinguishable"].astype(bool)]
        for row in apart.itertuples():
            assert not set(letters[row.setup]) & set(letters[row.versus])
        told = {one["setup"]: one for one in found.to_dict()["setups"]}
        printed = comparison_text(found)
        for row in found.setups.itertuples():
            assert told[row.setup]["rise_k"] == pytest.approx(row.rise_k)
            assert f"{row.rise_k:.1f}" in printed
    # Of two setups, it does not matter which is the baseline, or whether one is.
    pair = list(every.setups["setup"][:2])
    if len(pair) == 2:
        two = [row for row in rows if row.setup in pair and row.unit == every.unit]
        asked = [replace(ASKED, baseline=name) for name in (None, *pair)]
        answers = [compare_runs(two, [], one).differences.iloc[0] for one in asked]
        ends = [sorted(np.abs([one["low"], one["high"]])) for one in answers]
        assert ends[1] == pytest.approx(ends[0], abs=1e-6)
        assert ends[2] == pytest.approx(ends[0], abs=1e-6)
        assert len({bool(one["distinguishable"]) for one in answers}) == 1


@pytest.mark.parametrize("seed", range(15))
def test_loads_are_compared_whatever_was_repeated(seed):
    rng = np.random.default_rng(seed)
    rows = [
        replace(row, run=f"{row.run}-{load}", load=load, power_w=float(rng.choice([65.0, 90.0])))
        for load in ("matrix", "memory")
        for row in random_study(rng)
    ]
    file = StudyFile(title="made up", machine={"name": "box", "limit_c": 95})
    found = compare_loads(
        rows,
        [],
        file,
        baseline=None,
        confidence=0.95,
        made_up=True,
        spread_of=lambda runs: KnownSpread("repeats", None),
    )
    assert loads_text(found)
    assert set(found.setups["load"])


def test_a_run_that_one_load_leaves_out_is_named_with_it():
    rows = [
        replace(row, run=f"{row.run}-{load}", load=load)
        for load in ("render", "game") for setup in "ab" for row in rows_of(setup, [40.0, 40.4])
    ]  # fmt: skip
    rows[0] = replace(rows[0], standard_error=None, high=None)
    file = StudyFile(title="made up", machine={"name": "box", "limit_c": 95})
    found = compare_loads(
        rows, [("other", "its fans")], file, baseline=None, confidence=0.95, made_up=True,
        spread_of=lambda runs: KnownSpread("repeats", None),
    )  # fmt: skip
    (run, why) = found.left_out[1]
    assert run == rows[0].run
    assert why.startswith("render: ")
    assert f"{run}: render: " in loads_text(found)


def test_alike_setups_are_rarely_told_apart_over_all_loads():
    """Intervals of the means hold for all 15 pairs: those of one pair each told 22 % of studies apart."""
    file, false = StudyFile(title="made up", machine={"name": "box", "limit_c": 95}), 0
    for seed in range(10):
        rng = np.random.default_rng(seed)
        rows = [
            replace(row, run=f"{row.run}-{load}", load=load)
            for load in ("render", "game", "encode")
            for setup in "abcdef"
            for row in rows_of(setup, 40 + rng.normal(0, 0.4, 3))
        ]
        told = compare_loads(
            rows, [], file, baseline=None, confidence=0.95, made_up=True,
            spread_of=lambda runs: KnownSpread("repeats", None),
        ).differences  # fmt: skip
        false += bool(told.loc[told["load"] == "over all loads", "distinguishable"].any())
    assert not false
