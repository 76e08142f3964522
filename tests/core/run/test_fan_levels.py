"""Duties that a fan was held at one after the other, told from a fan on a curve."""

import numpy as np
import pytest

from gelassen.core.run.fan_levels import duty_steps

TIMES = np.arange(0.0, 700.0, 2.0)
LOAD_S = (60.0, 660.0)


def held(*duties):
    """Return a curve at rest, then these duties for equal times."""
    number = np.clip(((TIMES - LOAD_S[0]) / (600 / len(duties))).astype(int), 0, len(duties) - 1)
    return np.where(LOAD_S[0] > TIMES, 25.0, np.array(duties)[number])


def test_held_duties_have_borders_where_they_change():
    assert duty_steps(TIMES, held(90.0, 60.0, 40.0), LOAD_S) == [260.0, 460.0]
    late = held(90.0, 60.0)
    late[TIMES == 360.0] = 75.0  # a controller that takes two readings
    assert duty_steps(TIMES, late, LOAD_S) == [362.0]
    gap = held(90.0, 60.0)
    gap[(TIMES > 100) & (TIMES < 120)] = np.nan
    assert duty_steps(TIMES, gap, LOAD_S) == [360.0]


@pytest.mark.parametrize(
    "duty",
    [
        held(60.0),
        held(90.0, 80.0, 70.0, 60.0, 50.0, 40.0),  # too short to settle
        held(60.0, 62.0),
        held(90.0, 60.0) + np.where(TIMES > 360, (TIMES - 360) / 30, 0.0),  # drifts as on a curve
        np.full(TIMES.size, np.nan),
    ],
    ids=["one", "short", "alike", "drift", "unread"],
)
def test_a_fan_that_keeps_one_duty_or_follows_a_curve_has_none(duty):
    assert duty_steps(TIMES, duty, LOAD_S) == []
