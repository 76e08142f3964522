import numpy as np
import pytest
from scipy.optimize import brentq

from gelassen.core import InputError, sustainable_power

COOLERS = {
    "fan": (lambda p: 0.53 * p, [65, 80, 95, 125]),
    "passive": (lambda p: 0.6 * p + 3.2 * p**0.8, [10, 15, 20, 25, 30]),
    "preheated": (lambda p: 0.5 * p + 1.5, [65, 80, 95, 125]),
}


@pytest.mark.parametrize("name", COOLERS)
def test_the_capacity_is_found_and_covered(name):
    rise, levels = COOLERS[name]
    truth = brentq(lambda power: rise(power) - 70, 1, 500)
    rng = np.random.default_rng(7)
    levels = np.array(levels, dtype=float)
    answers = [
        sustainable_power(
            levels, rise(levels) + rng.normal(0, 0.3, levels.size),
            rise_se_k=np.full(levels.size, 0.3), limit_c=95,
        )
        for _ in range(60)
    ]  # fmt: skip
    error = np.array([answer.power_w for answer in answers]) / truth - 1
    assert np.mean([answer.low_w <= truth <= answer.high_w for answer in answers]) >= 0.9
    assert np.sqrt(np.mean(error**2)) < 0.02


def fanned(rise):
    """Return power and speed of a made-up cooler whose fan runs from 40 to 100 % between 45 and 75 °C."""
    speed = 0.4 + 0.6 * np.clip((rise + 25 - 45) / 30, 0, 1)
    return rise / (0.2 + 0.25 * speed**-0.65), speed


def test_fans_that_came_to_full_speed_help_no_further():
    rises = np.array([22.0, 32.0, 47.0, 55.0])
    power, speed = fanned(rises)
    truth = float(fanned(np.array([70.0]))[0][0])
    rng = np.random.default_rng(4)
    told, untold = [], []
    for _ in range(20):
        seen = rises + rng.normal(0, 0.2, rises.size)
        asked = {"rise_se_k": [0.2] * 4, "limit_c": 95}
        told.append(sustainable_power(power, seen, fan_rpm=2000 * speed, **asked))
        untold.append(sustainable_power(power, seen, **asked))
    assert np.mean([answer.low_w <= truth <= answer.high_w for answer in told + untold]) >= 0.9
    # A power law through these levels goes on to fall: beyond 5 % too high.
    law = np.polyfit(np.log(rises), np.log(power), 1)
    assert np.exp(np.polyval(law, np.log(70))) > 1.05 * truth
    assert abs(np.mean([answer.power_w for answer in told]) / truth - 1) < 0.035
    # Below the kink only the full speed tells that it comes.
    early = np.array([22.0, 32.0, 42.0, 49.0])
    power, speed = fanned(early)
    asked |= {"rise_se_k": [0.2] * 4, "fan_rpm": 2000 * speed}
    limited = sustainable_power(power, early, full_speed_rpm=2000, **asked)
    assert limited.power_w == pytest.approx(truth, rel=0.02)
    assert sustainable_power(power, early, **asked).power_w > 1.04 * truth
    with pytest.raises(InputError, match="fan_rpm has 1 entries"):
        sustainable_power(power, rises, fan_rpm=[900], limit_c=95)


def test_a_fan_that_turned_steadily_leaves_no_more_open_than_an_unknown_one():
    power = np.array([60.0, 90.0, 120.0])
    asked = {"rise_se_k": [0.3] * 3, "limit_c": 95}
    steady = sustainable_power(power, 0.5 * power, fan_rpm=[1200, 1210, 1195], **asked)
    unknown = sustainable_power(power, 0.5 * power, **asked)
    assert steady.low_w <= 140 <= steady.high_w
    assert steady.high_w - steady.low_w < 1.05 * (unknown.high_w - unknown.low_w)
    assert steady.resistance_at(60) == pytest.approx(0.5, rel=0.02)


def test_a_straight_line_would_overrate_nothing_where_rise_bends():
    rise, levels = COOLERS["passive"]
    answer = sustainable_power(levels, [rise(p) for p in levels], rise_se_k=[0.2] * 5, limit_c=95)
    assert "grows less than power" in answer.model
    assert answer.resistance_k_per_w == pytest.approx(70 / answer.power_w)


def test_what_cannot_be_told_is_not_told():
    alone = sustainable_power([95, 95.1, 94.9], [50, 51, 50], rise_se_k=[0.3] * 3, limit_c=95)
    assert (alone.low_w, alone.high_w) == (95.1, np.inf)  # that much was held, and no more is known
    near = sustainable_power([95, 95.1, 94.9], [69, 70, 71], rise_se_k=[0.3] * 3, limit_c=95)
    assert (near.low_w, near.high_w) == (-np.inf, np.inf)
    cut = sustainable_power(
        [95, 95.1, 93.5],
        [67, 68, 69.9],
        rise_se_k=[0.3] * 3,
        throttled=[False, False, True],
        limit_c=95,
    )
    assert cut.low_w == 93.5  # one mounting held no more
    assert any("same power" in text for text in alone.cautions)
    two = sustainable_power([65, 95], [34, 50], limit_c=95)
    assert two.high_w == np.inf
    assert "cannot tell" in str(two)
    below = sustainable_power([65, 95], [-4, 2], rise_se_k=[0.3] * 2, limit_c=95)
    assert (below.low_w, below.high_w) == (-np.inf, np.inf)
    assert "rise of -4.0 K is not above zero" in str(below)
    far = sustainable_power([20, 30, 40, 50], [10.6, 15.9, 21.2, 26.5], limit_c=95)
    assert far.extrapolated
    assert any("beyond what was measured" in text for text in far.cautions)


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (([], []), "no power level"),
        (([65, -1], [30, 40]), "powers above zero"),
        (([65, 95], [30]), "rise_k has 1 entries"),
    ],
)
def test_impossible_input_is_refused(arguments, words):
    with pytest.raises(InputError, match=words):
        sustainable_power(*arguments, limit_c=95)


def test_a_limit_below_the_room_is_refused():
    with pytest.raises(InputError, match="above the room"):
        sustainable_power([65], [30], limit_c=20, ambient_c=25)


def test_the_course_passes_where_held_back_runs_were():
    answer = sustainable_power(
        [65, 65, 112], [47.5, 47.2, 72.0], rise_se_k=[0.3] * 3, throttled=[False, False, True],
        wanted_w=[65, 65, 125], fan_rpm=[1100, 1110, 1680], limit_c=95,
    )  # fmt: skip
    at = np.interp(70.0, answer.course_rise_k, answer.course_power_w)
    assert at == pytest.approx(answer.power_w, rel=0.02)
    assert answer.power_w == pytest.approx(110, rel=0.04)


@pytest.mark.parametrize(("held_w", "tells"), [(110.0, True), (70.0, False)])
def test_power_held_at_the_limit_is_a_tight_bound_unless_cut_too_far(held_w, tells):
    asked = {"fan_rpm": [0, 0, 0], "limit_c": 95}
    alone = sustainable_power([30, 45], [26, 36], rise_se_k=[0.5] * 2, fan_rpm=[0, 0], limit_c=95)
    joined = sustainable_power(
        [30, 45, held_w], [26, 36, 70], rise_se_k=[0.5] * 3, throttled=[False, False, True], **asked
    )
    if tells:
        assert joined.power_w - joined.low_w < 0.5 * (alone.power_w - alone.low_w)
        assert joined.power_w == pytest.approx(held_w, rel=0.03)
    else:
        assert joined.power_w == pytest.approx(alone.power_w, rel=0.03)
        assert any("held back at 70 W" in text for text in joined.cautions)


def test_capacity_uses_the_room_of_each_level_because_fans_follow_temperature():
    rises = np.array([36.0, 42.0, 48.0, 54.0])
    speed = 0.4 + 0.6 * np.clip((rises + 15 - 45) / 40, 0, 1)  # in a cold room fans turn slower
    power = rises / (0.2 + 0.25 * speed**-0.65)
    truth = float(fanned(np.array([70.0]))[0][0])
    asked = {
        "rise_se_k": [0.05] * 4, "limit_c": 95, "fan_rpm": 2000 * speed, "full_speed_rpm": 2000,
    }  # fmt: skip
    known = sustainable_power(power, rises, measured_room_c=[15.0] * 4, **asked)
    unknown = sustainable_power(power, rises, **asked)
    assert known.low_w <= truth <= known.high_w
    assert known.power_w == pytest.approx(truth, rel=0.012)
    assert abs(known.power_w - truth) < abs(unknown.power_w - truth)
    with pytest.raises(InputError, match="measured_room_c has 1 entries"):
        sustainable_power(power, rises, measured_room_c=[15.0], limit_c=95)


def test_only_scatter_beyond_chance_widens_the_interval():
    power = np.array([40.0, 70.0, 100.0, 138.0])
    asked = {"rise_se_k": [0.3] * 4, "limit_c": 95, "fan_rpm": [1200] * 4}
    calm = sustainable_power(power, 0.5 * power, **asked)
    usual = sustainable_power(power, 0.5 * power + [0.3, -0.3, 0.3, -0.3], **asked)
    wild = sustainable_power(power, 0.5 * power + [2, -2, 2, -2], **asked)
    width = [answer.high_w - answer.low_w for answer in (calm, usual, wild)]
    assert width[1] < 1.2 * width[0]
    assert width[2] > 2 * width[0]


def test_a_spread_of_mountings_that_few_repeats_told_leaves_more_open():
    power = np.array([40.0, 70.0, 100.0, 138.0])
    asked = {"rise_se_k": [0.1] * 4, "limit_c": 95, "fan_rpm": [1200] * 4, "mounting_spread": 0.01}
    width = []
    for freedom in (np.inf, 30, 3):
        answer = sustainable_power(power, 0.5 * power, mounting_freedom=freedom, **asked)
        width.append(answer.high_w - answer.low_w)
    assert width[0] == pytest.approx(width[1], rel=0.1)
    assert width[2] > 1.2 * width[0]
    with pytest.raises(InputError, match="mounting_freedom"):
        sustainable_power(power, 0.5 * power, mounting_freedom=0, **asked)


def test_what_lies_beyond_the_measured_powers_is_in_doubt_and_may_be_less():
    near, far = np.array([60.0, 90.0, 120.0, 139.0]), np.array([30.0, 45.0, 55.0, 65.0])
    for powers, beyond in ((near, False), (far, True)):
        answer = sustainable_power(
            powers, 0.5 * powers, rise_se_k=np.full(4, 0.3), fan_rpm=[1200] * 4, limit_c=95.0
        )
        assert answer.low_w <= 140 <= answer.high_w
        # Heat pipes may dry out, or fans come to the end of their curve.
        assert (answer.low_w < 0.9 * answer.power_w) == beyond
        assert np.isinf(answer.high_w) == beyond
        assert answer.low_w >= powers.max() * 0.99
        said = " ".join(answer.cautions)
        assert ("beyond what was measured" in said) == beyond
