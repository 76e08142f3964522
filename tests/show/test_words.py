import math
import re

import pandas as pd
import pytest

from gelassen.answers.comparison import ComparisonAsked, compare_runs
from gelassen.answers.rows.run_row import run_row
from gelassen.core.recording.recording import Recording
from gelassen.core.run.summary import RunSummary
from gelassen.show.comparison_answer import sentences
from gelassen.show.comparison_text import comparison_markdown, comparison_text, next_steps
from gelassen.show.numbers import fixed, interval, moment, warmer, warmer_interval
from gelassen.show.tables import aligned, as_csv, markdown


@pytest.mark.parametrize(
    ("said", "words"),
    [
        (fixed(-0.04), "0.0"),
        (fixed(math.nan), "–"),
        (fixed(61.25, 1, "K"), "61.2 K"),
        (interval(60, 62), "60.0 to 62.0"),
        (interval(60, math.inf), "60.0 or more"),
        (interval(-math.inf, math.inf), "cannot tell"),
        (warmer(-4.8), "4.8 K cooler"),
        (warmer(0.01), "0.0 K apart"),
        (warmer_interval(-6.0, -3.6), "3.6 to 6.0 K cooler"),
        (warmer_interval(-2.1, 0.3), "2.1 K cooler to 0.3 K warmer"),
        (warmer_interval(3.0, math.inf), "at least 3.0 K warmer"),
        (warmer_interval(-math.inf, -3.0), "at least 3.0 K cooler"),
        (moment(605), "10:05"),
    ],
)
def test_numbers_are_said_with_direction_and_without_false_digits(said, words):
    assert said == words


def summary(
    setup,
    value,
    *,
    power=95.0,
    at_limit=False,
    error=0.1,
    run="r",
    over="room.air.temp_c",
    fan_rpm=900.0,
    room_c=22.0,
):
    from gelassen.core.settling.steady_result import SteadyState
    from gelassen.core.throttling.throttling_result import Throttling

    steady = SteadyState(
        value=value, low=value - 2 * error, high=value + 2 * error, standard_error=error,
        reached=True, reached_at_s=500.0, time_constants_s=(100.0,), trend_k_per_h=0.0,
        window_s=(0.0, 1800.0), extrapolated=False, unit="K", confidence=0.95,
    )  # fmt: skip
    throttling = Throttling(
        heat_probability=None, power_probability=None, other_probability=None, thermal=None, power=None,
        other=None, sag_mhz=0.0, intervals=(), onset_s=None, power_share=0.0,
        thermal_share=0.9 if at_limit else 0.0, at_limit_probability=float(at_limit),
    )  # fmt: skip
    return RunSummary(
        name=run, setup=setup, outcome="finished", channel="cpu.package.temp_c",
        channel_words="cpu.package.temp_c", reference=over, limit_c=95.0,
        steady=steady, throttling=throttling, steps=(), stretches=(), power_w=power,
        clock_mhz=4500.0, fan_rpm=fan_rpm, work_per_s=50.0, reference_c=room_c,
        resistance_k_per_w=value / power,
        channels=pd.DataFrame(columns=["channel", "hold_mean", "hold_peak"], dtype=object),
        hold_s=(1200.0, 1800.0),
        load_s=(0.0, 1800.0), made_up=True,
    )  # fmt: skip


def compared(values, *, baseline=None, asked_c=None, expected=(), **options):
    nothing = Recording(frame=pd.DataFrame())
    rows = [
        run_row(nothing, summary(name, value, run=f"{name}-{k}", **options.get(name, {})))
        for name, runs in values.items()
        for k, value in enumerate(runs)
    ]
    asked = ComparisonAsked(
        title="coolers", baseline=baseline, made_up=True, room_c=asked_c, expected=expected
    )
    return compare_runs(rows, [], asked)


def test_rises_over_coolant_and_over_the_room_are_not_mixed():
    loop = {"over": "loop.coolant.temp_c"}
    values = {"loop": [24.0, 24.4, 23.8], "other loop": [30.0, 30.2], "tower": [50.0]}
    found = compared(values, **{"loop": loop, "other loop": loop})
    assert found.left_out == (
        ("tower-0", "its rise is over room.air.temp_c, not over loop.coolant.temp_c"),
    )
    said = " ".join(sentences(found))
    assert "loop is the coolest: 24.1 K above loop.coolant.temp_c" in said
    assert "rise: over loop.coolant.temp_c, not over the room" in comparison_text(found)
    assert "reference_c" not in set(found.comparability.pairs["quantity"])
    assert compared({**values, "low": [60, 61, 62]}, **{"loop": loop}).over == "the room"


def test_runs_without_a_reference_are_compared_with_runs_over_the_room():
    without = {"over": None}
    mixed = compared({"a": [50.0, 50.4], "b": [60.0, 60.2]}, a=without)
    assert (mixed.over, mixed.left_out) == ("the room", ())
    assert len(mixed.runs) == 4
    assert comparison_text(compared({"a": [50.0, 50.4]}, a=without))
    loop = compared({"a": [50.0], "b": [24.0, 24.2]}, a=without, b={"over": "loop.coolant.temp_c"})
    assert loop.left_out == (("a-0", "it has no rise over loop.coolant.temp_c"),)


def test_a_clear_winner_is_named_with_how_much_and_how_sure():
    said = " ".join(
        sentences(compared({"tower": [50, 50.4, 49.8], "low": [55, 55.3, 54.9]}, baseline="low"))
    )
    assert "tower is the coolest: 50.1 K above the room" in said
    assert "That is 5.0 K cooler than low (" in said
    assert "K cooler), more than the scatter of repeats explains" in said


def test_wide_runs_call_for_longer_runs_and_missing_setups_are_named():
    soon = {"error": 2.0}
    values = {"a": [50.0, 50.4, 50.1], "b": [51.0, 50.6, 51.2]}
    short = next_steps(compared(values, a=soon, b=soon))
    assert any(step.startswith("longer soaks: each run leaves ±3.9 K open") for step in short)
    assert not any("longer soaks" in step for step in next_steps(compared(values)))
    gone = compared({**values, "c": [60.0]}, c={"error": math.inf})
    assert "no comparable run is left of: c" in gone.cautions


def test_what_cannot_be_told_is_not_called_a_win():
    comparison = compared({"a": [50, 51, 49.6], "b": [50.4, 50.9, 51.2]}, baseline="a")
    said = " ".join(sentences(comparison))
    assert "share the first rank: they cannot be told apart" in said
    assert "coolest" not in said
    assert "too little to tell" in said
    assert "more run" in said
    assert "; " in comparison_text(comparison).split("told apart")[1]


def test_what_other_conditions_may_have_made_is_not_called_a_win():
    values = {"flat": [50, 50.4, 49.8], "upright": [53, 53.3, 52.9]}
    quick = compared(values, baseline="flat", upright={"fan_rpm": 760.0})
    said = " ".join(sentences(quick))
    assert (
        "But upright had 140 rpm less fan speed than flat: without that, upright would be" in said
    )
    assert "so the difference may be that alone." in said
    assert "yes, but see below" in comparison_text(quick)
    assert "instead of 3.0 K warmer)" in comparison_text(quick)
    alike = " ".join(sentences(compared(values, baseline="flat")))
    assert "But" not in alike
    # Without a baseline, and where it is the difference that is hidden.
    hidden = {"flat": [50, 50.4, 49.8], "upright": [50.3, 50.1, 50.0]}
    said = " ".join(sentences(compared(hidden, upright={"fan_rpm": 1200.0})))
    assert "same for your purpose" in said
    assert "But upright had 300 rpm more fan speed than flat" in said
    assert "so they may well differ." in said


def test_a_win_that_rests_on_an_odd_run_is_said_to_rest_on_it():
    nothing = Recording(frame=pd.DataFrame())
    runs = {
        "flat": [(50, 900), (50.3, 905), (47, 1300)],
        "upright": [(51, 900), (51.2, 902), (51, 898)],
    }
    rows = [
        run_row(nothing, summary(name, value, run=f"{name}-{k}", fan_rpm=float(rpm)))
        for name, values in runs.items()
        for k, (value, rpm) in enumerate(values)
    ]
    asked = ComparisonAsked(title="coolers", baseline="flat", confidence=0.8, made_up=True)
    found = compare_runs(rows, [], asked)
    assert found.differences["distinguishable"].all()
    said = " ".join(sentences(found))
    assert (
        "But without the runs that were not like the others of their setup, upright would be"
        in said
    )
    assert "0.9 K warmer than flat: too little to tell." in said


def test_rooms_that_differed_are_said_with_what_they_leave_open():
    values = {"a": [50, 50.4, 49.8], "b": [51.2, 51.5, 51.0]}
    alike = compared(values)
    assert alike.differences["distinguishable"].all()
    apart = compared(values, a={"room_c": 27.0}, b={"room_c": 20.0}, asked_c=23.5)
    assert not apart.differences["distinguishable"].any()
    assert apart.room_effect is not None
    assert "rooms of 20.0 to 27.0 °C are allowed for: rises are those in 23.5 °C" in str(apart)
    text = comparison_text(apart)
    assert "the reference of b was 7 °C cooler than that of a; that is allowed for" in text
    assert "runs of all setups in one room temperature" in text
    # Of what the rooms leave open, more runs in them take nothing away.
    assert apart.differences["runs_needed"].isna().all()
    assert "more run" not in text.replace("50 more runs in these rooms", "")
    assert (apart.setups["temperature_c"] - apart.setups["rise_k"]).to_numpy() == pytest.approx(
        23.5
    )
    warm = compared(values, a={"room_c": 27.0}, b={"room_c": 20.0}, asked_c=33.5)
    moved = warm.setups["temperature_c"] - warm.setups["rise_k"] - 33.5
    assert moved.to_numpy() == pytest.approx(10 * warm.room_effect[0])
    hot = compared(values, asked_c=50.0, a={"room_c": 27.0}, b={"room_c": 20.0})
    assert "in 50 °C" in comparison_text(hot)
    assert comparison_text(hot).count("at limit") == 2
    # Where rooms are what is tested, they are not taken out.
    rooms = {"a": {"room_c": 27.0}, "b": {"room_c": 20.0}}
    tested = compared(values, expected=["reference_c"], **rooms)
    assert tested.room_effect is None
    assert tested.differences["distinguishable"].all()


def test_without_repeats_the_words_stay_careful():
    said = " ".join(sentences(compared({"a": [50], "b": [60]}, baseline="a")))
    assert "coolest" not in said
    assert "without repeats it cannot be told" in said


def test_a_setup_at_its_limit_is_a_bound_and_does_not_narrow_the_others():
    values = {"good": [60, 61, 59], "better": [57, 58.2, 56.5], "hot": [73.0, 73.0, 73.0]}
    limited = compared(values, baseline="good", hot={"at_limit": True, "power": 80.0})
    alone = compared({k: v for k, v in values.items() if k != "hot"}, baseline="good")
    assert limited.repeatability_k == pytest.approx(alone.repeatability_k)
    rows = limited.setups.set_index("setup")
    assert list(rows.index) == ["better", "good", "hot"]
    assert rows.loc["hot", "difference_high_k"] == math.inf
    assert rows.loc["hot", "difference_low_k"] > 8
    said = " ".join(sentences(limited))
    assert "hot sat at the limit of 95 °C and held only 80 W" in said
    assert "73.0*" in comparison_text(limited)


def test_two_setups_at_their_limits_cannot_be_told_apart_by_temperature():
    comparison = compared(
        {"a": [73.0, 73.1], "b": [72.0, 72.2]}, a={"at_limit": True}, b={"at_limit": True}
    )
    (row,) = comparison.differences.to_dict("records")
    assert (row["low"], row["high"]) == (-math.inf, math.inf)
    assert not row["distinguishable"]


def test_at_the_limit_the_setup_that_held_more_power_comes_first():
    strong, weak = {"at_limit": True, "power": 90.0}, {"at_limit": True, "power": 70.0}
    found = compared({"weak": [71.0], "strong": [73.0], "free": [60.0]}, weak=weak, strong=strong)
    assert list(found.setups["setup"]) == ["free", "strong", "weak"]


def test_of_many_alike_the_odd_one_is_named():
    alike = {f"box {k}": [36.0 + 0.1 * k, 36.3 + 0.1 * k] for k in range(6)}
    said = " ".join(sentences(compared({"clogged": [44.0, 44.2], **alike})))
    assert "share the first rank" in said
    assert "clogged comes last: 8.0 K warmer than box 0 (" in said
    assert "It can be told apart from all others." in said
    assert "comes last" not in " ".join(sentences(compared(alike)))
    against = " ".join(sentences(compared({"clogged": [44.0, 44.2], **alike}, baseline="box 0")))
    assert "clogged comes last: 8.0 K warmer than box 0 (" in against
    assert "all others" not in against  # only differences from the baseline were looked at


def test_alike_setups_are_told_with_what_lies_between_them():
    said = " ".join(sentences(compared({"flat": [53, 50.0], "upright": [50, 50.2]})))
    assert re.search(r"flat reads 1.4 K warmer than upright \(.* to .*\), too little to tell", said)


def test_every_power_has_its_answer_and_what_was_held_at_the_limit():
    held = {"a 45": 41.0, "b 45": 36.0}
    others = {"a 25": {"power": 25.0}, "b 25": {"power": 25.2}, "c 9": {"power": 9.0}}
    found = compared(
        {"a 45": [73.0], "b 45": [73.2], "a 25": [46, 46.2], "b 25": [51, 51.2], "c 9": [9, 9.2]},
        **{name: {"at_limit": True, "power": watts} for name, watts in held.items()}, **others,
    )  # fmt: skip
    said = " ".join(sentences(found))
    assert "The power they held tells them apart: 41 W (a 45) and 36 W (b 45)." in said
    assert "At 25 W, a 25 is the coolest: 46.1 K" in said
    assert "b 25 follows, 5.0 K warmer" in said
    assert "At 9 W" not in said  # one setup is no comparison


def test_setups_at_other_power_are_listed_but_not_praised():
    comparison = compared(
        {"small": [30, 30.2, 30.1], "a": [50, 50.2, 49.9], "b": [55, 55.2, 54.8]},
        baseline="b",
        small={"power": 45.0},
    )
    said = sentences(comparison)
    assert said[0].startswith("At 95 W, a is the coolest")
    assert any("more than 5 %" in text for text in comparison.cautions)


def test_cells_stay_text_wherever_they_are_shown():
    evil = '=HYPERLINK("x")|<b>'
    comparison = compared({evil: [50, 50.5], "b": [55, 55.5]}, baseline="b")
    assert "\\|&lt;b>" in comparison_markdown(comparison)
    assert "'=HYPERLINK" in as_csv(comparison.setups)
    assert "<b>" not in markdown(["<b>"], [["<b>"]])
    assert aligned(["a", "b"], [["x", "1"], ["longer", "22"]]).splitlines()[-1] == "longer  22"
