"""Readings that are none: sensors that did not answer, or stood still for a while."""

import numpy as np
import pandas as pd
import pytest

from gelassen.core import Recording, steady_state, summarise_run

T_S = np.arange(1500.0)


def heated(seed=0, digit=0.1):
    """A part that settles at 68 °C in a room of 22 °C, in readings of 0.1 °C."""
    rng = np.random.default_rng(seed)
    rise = np.where(T_S < 120, 6.0, 46 - 40 * np.exp(-(T_S - 120) / 200))
    return np.round((22 + rise + 0.3 * rng.standard_normal(T_S.size)) / digit) * digit


def test_readings_of_a_sensor_that_did_not_answer_are_left_out():
    spoilt = heated()
    which = np.random.default_rng(1).choice(T_S.size, 20, replace=False)
    spoilt[which[:10]], spoilt[which[10:19]], spoilt[which[19]] = 0.0, -40.0, 255.0
    answer = steady_state(T_S, spoilt, reference_c=np.full(T_S.size, 22.0))
    assert answer.value == pytest.approx(46, abs=0.3)
    assert answer.high - answer.low < 2
    assert any("20 readings of the temperature far from" in text for text in answer.cautions)
    spoilt[500] = 5000.0
    frame = pd.DataFrame({"cpu.package.temp_c": spoilt, "room.air.temp_c": 22.0}, index=T_S)
    summary = summarise_run(Recording(frame=frame, limit_c=95.0))
    assert summary.channels.set_index("channel").loc["cpu.package.temp_c", "run_peak"] < 70
    assert any("20 readings of cpu.package.temp_c" in text for text in summary.cautions)


def test_zeros_beside_low_readings_are_readings():
    cold = heated() - 62.0
    answer = steady_state(T_S, np.round(cold), reference_c=np.full(T_S.size, -40.0))
    assert not any("far from" in text for text in answer.cautions)


def test_a_sensor_that_stood_still_on_the_way_up_is_not_believed():
    stuck = heated()
    stuck[300:480] = stuck[300]
    answer = steady_state(T_S, stuck, reference_c=np.full(T_S.size, 22.0))
    assert answer.low <= 46 <= answer.high
    assert answer.value == pytest.approx(46, abs=0.4)
    assert any("stood still from 300 to 479 s" in text for text in answer.cautions)


def test_coarse_readings_with_little_noise_stand_still_by_themselves():
    answer = steady_state(T_S, heated(digit=2.0), reference_c=np.full(T_S.size, 22.0))
    assert not any("stood still" in text for text in answer.cautions)


def test_a_chip_that_repeats_its_limit_is_not_stuck():
    at_limit = np.minimum(heated(), 61.3)
    answer = steady_state(T_S[:600], at_limit[:600], reference_c=np.full(600, 22.0))
    assert not any("stood still" in text for text in answer.cautions)
