"""What board and case walls add late: a little, unless the readings say otherwise."""

import numpy as np
import pytest

from gelassen.core import steady_state
from gelassen.core.thermal.relaxation_fit import Account, fit_relaxation, time_constant_list
from gelassen.core.thermal.slow_bodies import HARDLY_ANY, SOME, SlowTails

MIDDLE_S = np.linspace(10.0, 2400.0, 80)


def tails_and_covariance(noise_k, change=50.0):
    tails = SlowTails(MIDDLE_S, change)
    return tails, tails.covariance + noise_k**2 * np.eye(MIDDLE_S.size)


def test_without_readings_that_tell_a_little_is_missing_and_fades():
    tails, covariance = tails_and_covariance(noise_k=100.0)
    told = tails.told(np.zeros(MIDDLE_S.size), covariance)
    missing, doubt = told.missing_at(np.array([0.0, 600.0, 36000.0]))
    assert missing[0] == pytest.approx(0.008 * 50, rel=0.01)  # two tails of 0.4 %
    assert missing[0] > missing[1] > missing[2] == pytest.approx(0, abs=1e-3)
    assert doubt == pytest.approx(0, abs=1e-3)


def test_readings_that_still_climb_show_a_tail_and_flat_ones_show_none():
    tails, covariance = tails_and_covariance(noise_k=0.03)
    end = np.array([MIDDLE_S[-1]])
    late = -0.012 * 50 * np.exp(-MIDDLE_S / 3000)  # below where it settles, by a tail of 1.2 %
    shown, doubt = tails.told(late + tails.usual, covariance).missing_at(end)
    none, _ = tails.told(tails.usual, covariance).missing_at(end)
    assert shown[0] == pytest.approx(0.012 * 50 * np.exp(-0.8), abs=0.06)
    assert none[0] == pytest.approx(0, abs=0.03)
    assert doubt < 0.06 < tails.told(late, tails_and_covariance(100.0)[1]).missing_at(end)[1]


def test_a_part_that_cools_has_its_tails_upside_down():
    tails, covariance = tails_and_covariance(1.0, change=-50.0)
    missing, _ = tails.told(np.zeros(MIDDLE_S.size), covariance).missing_at(np.array([0.0]))
    assert missing[0] < 0


@pytest.mark.parametrize(("share", "some"), [(0.0, (0.0, 0.4)), (0.02, (0.9, 1.0))])
def test_the_readings_say_whether_there_are_slow_bodies(share, some):
    rng = np.random.default_rng(1)
    late = share * np.exp(-MIDDLE_S / 1500)
    series = 50 * (1 - np.exp(-MIDDLE_S / 90) - late) + 0.03 * rng.standard_normal(MIDDLE_S.size)
    tails = [SlowTails(MIDDLE_S, float(np.ptp(series)), size) for size in (SOME, HARDLY_ANY)]
    noise = 0.03**2 * np.eye(MIDDLE_S.size)
    accounts = [Account(series + t.usual, t.covariance + noise, t.size.chance) for t in tails]
    fit = fit_relaxation(MIDDLE_S, accounts, time_constant_list(1.0))
    low, high = some
    assert low <= fit.weights[fit.supposed == 0].sum() <= high
    assert fit.quantile(fit.settled, 0.5) == pytest.approx(50, abs=0.15 + 10 * share)


def test_after_a_change_the_board_still_warms_from_the_load():
    """What warms up slowly follows the whole load, not the small change in its midst."""
    rng = np.random.default_rng(2)
    t = np.arange(-60, 1200.0)
    board = 0.02 * 50 * np.exp(-(t + 900) / 2000)
    change = 5 * np.exp(-np.maximum(t, 0) / 120)
    temperature = 22 + 55 - change - board + 0.2 * rng.standard_normal(t.size)
    alone, told = (
        steady_state(
            t, temperature, reference_c=np.full(t.size, 22.0), load_start_s=0.0,
            load_end_s=1199.0, changes_before=before,
        )
        for before in ((), [(50.0, 900.0)])
    )  # fmt: skip
    assert told.value > alone.value
    assert abs(told.value - 55) < abs(alone.value - 55)
    assert told.low <= 55 <= told.high


def half_a_load_in_a_cycling_room(seed):
    """Return a log of a chip, a heatsink and a heavy case in a chain: the room's air passes the case."""
    rng = np.random.default_rng(seed)
    times = np.arange(0.0, 1200.0, 2.0)
    conductance = 1 / np.array([0.15, 0.2, 0.06])  # W/K, from each to the next
    capacity = np.array([4.0, 300.0, rng.uniform(6000, 12000)])  # J/K
    room = 22 + rng.uniform(0.6, 1.0) * np.sin(
        2 * np.pi * times / rng.uniform(900, 2400) + rng.uniform(0, 6)
    )
    power = np.where(times < 120, 8.0, 100.0)
    nodes = room[0] + 8.0 * np.array([0.41, 0.26, 0.06])
    chip = np.empty(times.size)
    for k, watts in enumerate(power):
        for _ in range(8):
            flow = conductance * (nodes - np.append(nodes[1:], room[k]))
            nodes = nodes + 0.25 * (np.append(watts, flow[:2]) - flow) / capacity
        chip[k] = nodes[0]
    return times, np.round(chip + rng.normal(0, 0.2, chip.size), 1), np.round(room, 1), power


def test_a_room_that_cycles_may_have_to_pass_the_slow_part():
    covered = 0
    for seed in range(10):
        times, chip, room, power = half_a_load_in_a_cycling_room(seed)
        found = steady_state(times, chip, reference_c=room, power_w=power, load_start_s=120.0)
        covered += found.low <= 41.0 <= found.high
    assert covered >= 9
