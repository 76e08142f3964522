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


def test_a_straight_line_would_overrate_nothing_where_rise_bends():
    rise, levels = COOLERS["passive"]
    answer = sustainable_power(levels, [rise(p) for p in levels], rise_se_k=[0.2] * 5, limit_c=95)
    assert "grows less than power" in answer.model
    assert answer.resistance_k_per_w == pytest.approx(70 / answer.power_w)


def test_what_cannot_be_told_is_not_told():
    alone = sustainable_power([95, 95, 95], [50, 51, 50], rise_se_k=[0.3] * 3, limit_c=95)
    assert alone.high_w == np.inf
    assert alone.low_w == -np.inf
    assert any("same power" in text for text in alone.cautions)
    two = sustainable_power([65, 95], [34, 50], limit_c=95)
    assert two.high_w == np.inf
    assert "cannot tell" in str(two)
    far = sustainable_power([20, 30, 40, 50], [10.6, 15.9, 21.2, 26.5], limit_c=95)
    assert far.extrapolated
    assert any("far from" in text for text in far.cautions)


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
