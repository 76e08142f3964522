"""Blocks without a fan: how they are told, and what is known of them beforehand."""

import numpy as np
import pytest

from gelassen.core.thermal.fanless import fanless_chance
from gelassen.core.thermal.relaxation_fit import Account, fit_relaxation, time_constant_list


def test_a_high_resistance_tells_of_no_fan_and_none_tells_nothing():
    chances = [fanless_chance(resistance) for resistance in (0.4, 0.85, 1.5)]
    assert chances[0] < 0.01
    assert chances[1] == pytest.approx(0.5)
    assert chances[2] > 0.99
    assert fanless_chance(0.0) == fanless_chance(-3.0) == 0.0


def test_a_short_load_without_a_fan_is_extrapolated_further_unless_its_time_constant_is_given():
    middle_s = np.arange(5.0, 200.0, 10.0)
    course = 60 * (1 - np.exp(-middle_s / 800))
    account = Account(course, 0.25 * np.eye(middle_s.size))

    def settled(fanless: float, **told: tuple[float, float]) -> float:
        found = fit_relaxation(
            middle_s, [account], time_constant_list(1.0), fanless=fanless, **told
        )
        return found.mean(found.settled)

    assert settled(1.0) > settled(0.5) > 1.02 * settled(0.0)
    assert settled(1.0, slowest=(300.0, 0.3)) == settled(0.0, slowest=(300.0, 0.3))
    assert np.isfinite(settled(1.0, slowest=(1e9, 0.3)))
