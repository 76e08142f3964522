"""A reference that the load warms, read in coarse steps."""

import numpy as np
import pytest

from gelassen.core.signal.grid import lagged
from gelassen.core.signal.smooth_steps import unstepped
from gelassen.core.thermal.reference_place import BESIDE, ROOM, likeliest_place, places
from gelassen.core.thermal.relaxation import Relaxation

T = np.arange(1920.0)
UNDER_LOAD = T >= 120
COOLANT = 24 + 14 * -np.expm1(-np.maximum(T - 120, 0) / 500)


def test_a_spline_finds_the_course_between_the_steps_and_says_how_near():
    smooth, error = unstepped(np.round(COOLANT), UNDER_LOAD)
    away = np.abs(smooth - COOLANT)[UNDER_LOAD]
    assert np.sqrt((away**2).mean()) < 0.15
    assert (away < 3 * error[UNDER_LOAD]).mean() > 0.95
    # It stays longest between the same two values at the end: there it is known least.
    assert 0.01 < error[200] < error[-1] < 1 / np.sqrt(12)
    assert not error[~UNDER_LOAD].any()


@pytest.mark.parametrize("noise", [0.0, 0.8])
def test_fine_steps_and_noise_that_carries_over_them_are_left_alone(noise):
    step = 1.0 if noise else 1e-6
    readings = (
        np.round((COOLANT + noise * np.random.default_rng(0).standard_normal(T.size)) / step) * step
    )
    smooth, error = unstepped(readings, UNDER_LOAD)
    assert smooth is readings
    assert not error.any()


def test_where_the_reference_is_shows_in_how_far_it_goes():
    part = COOLANT + 20 * -np.expm1(-np.maximum(T - 120, 0) / 12)
    room = 22 + 0.8 * np.sin(T / 600)
    assert likeliest_place(part, COOLANT) is BESIDE
    assert likeliest_place(part, room) is ROOM
    assert [place for place, _ in places(part, COOLANT)] == [ROOM, BESIDE]
    assert places(part, room) == places(part, None) == ((ROOM, 1.0),)
    assert places(part, 5 * room) == ((ROOM, 1.0),)  # to and fro, however far
    assert places(part, COOLANT, coolant=False) == ((ROOM, 1.0),)
    assert places(part, room, coolant=True) == ((BESIDE, 1.0),)


def test_a_change_of_the_room_passes_a_chain_of_lags():
    def passages(constants, amplitudes):
        return Relaxation(
            settled=np.array([50.0]), amplitudes=np.array([amplitudes]),
            time_constants_s=np.array([constants]), bends=np.zeros(1), start_share=0.1,
            weights=np.ones(1), supposed=np.zeros(1, dtype=int), sets=[], log_evidence=0.0,
        ).passages()  # fmt: skip

    time_s = np.arange(3000.0)
    jump = (time_s > 0).astype(float)

    def arrives(told):
        return sum(weight * lagged(jump, 1.0, constant) for constant, weight in told)

    two = passages((np.exp(2.0), np.exp(5.0), np.inf), (20.0, 25.0, 0.0))
    chain = lagged(lagged(jump, 1.0, np.exp(2.0)), 1.0, np.exp(5.0))
    np.testing.assert_allclose(arrives(two), chain, atol=0.01)
    board = passages((np.exp(2.0), np.exp(5.0), np.exp(7.5)), (20.0, 25.0, 5.0))
    np.testing.assert_allclose(
        arrives(board), 0.9 * chain + 0.1 * lagged(jump, 1.0, np.exp(7.5)), atol=0.01
    )
    assert sum(weight for _, weight in board) == pytest.approx(1)
