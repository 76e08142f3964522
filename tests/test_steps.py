import numpy as np
import pytest

from gelassen.core import find_steps
from logs import heating_log


def rise_of(log):
    return log.temperature_c - log.room_c


def test_a_run_without_changes_has_no_steps():
    found = [
        find_steps(log.time_s, rise_of(log))
        for kind in ("tower", "liquid", "passive")
        for log in (heating_log(kind, seed) for seed in range(5))
    ]
    assert sum(map(len, found)) <= 1


@pytest.mark.parametrize("seed", range(4))
def test_an_enclosure_put_on_and_taken_off_is_found(seed):
    log = heating_log("tower", seed, minutes=40)
    t = log.time_s
    warmer = 6 * (1 - np.exp(-np.maximum(t - 1000, 0) / 90))
    warmer -= 6 * (1 - np.exp(-np.maximum(t - 1800, 0) / 90))
    on, off = find_steps(t, np.round(rise_of(log) + warmer))
    assert on.at_s == pytest.approx(1000, abs=45)
    assert off.at_s == pytest.approx(1800, abs=45)
    assert on.low_s <= on.at_s <= on.high_s
    assert on.after - on.before == pytest.approx(6, abs=1.5)
    assert off.after - off.before == pytest.approx(-6, abs=1.5)


def test_a_fan_that_stops_is_found_to_the_second():
    rng = np.random.default_rng(0)
    t = np.arange(1200.0)
    (step,) = find_steps(t, np.where(t < 700, 1850, 0) + 8 * rng.standard_normal(t.size))
    assert step.at_s == pytest.approx(700, abs=5)
    assert "down by" in str(step)


def test_what_cannot_show_a_step_shows_none():
    assert find_steps([0, 1, 2], [5, 5, 9]) == ()
    assert find_steps(np.arange(900), np.full(900, 40.0)) == ()
