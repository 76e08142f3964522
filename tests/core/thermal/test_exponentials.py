import numpy as np
import pytest
from scipy.integrate import solve_ivp

from gelassen.core import InputError
from gelassen.core.settling.recovery import recovery
from gelassen.core.thermal.approach import log_missing, log_missing_slope
from gelassen.core.thermal.exponentials import fit_exponentials

# Statistical Reference Datasets of the US National Institute of Standards and Technology, nonlinear
# regression, https://www.itl.nist.gov/div898/strd/nls/nls_main.shtml: data and certified values.
MISRA_1A = (
    [77.6, 114.9, 141.1, 190.8, 239.9, 289.0, 332.8, 378.4, 434.8, 477.3, 536.8, 593.1, 689.1, 760.0],
    [10.07, 14.73, 17.94, 23.93, 29.61, 35.18, 40.02, 44.82, 50.76, 55.05, 61.01, 66.40, 75.47, 81.78],
    (2.3894212918e02, 5.5015643181e-04, 2.7070075241e00, 1.2455138894e-01),
)  # fmt: skip
BOX_BOD = (
    [1, 2, 3, 5, 7, 10],
    [109, 149, 149, 191, 213, 224],
    (2.1380940889e02, 5.4723748542e-01, 1.2354515176e01, 1.1680088766e03),
)


@pytest.mark.parametrize(("data", "start_s"), [(MISRA_1A, 500.0), (BOX_BOD, 1.0)])
def test_certified_results_are_reproduced_to_six_digits(data, start_s):
    time, values, (level, rate, level_error, residual) = data
    fit = fit_exponentials(
        np.array(time, float), np.array(values, float), (start_s,), from_zero=True
    )
    assert fit.settled == pytest.approx(level, rel=1e-7)
    assert 1 / fit.time_constants_s[0] == pytest.approx(rate, rel=1e-7)
    assert fit.standard_errors[0] == pytest.approx(level_error, rel=1e-6)
    assert fit.residual_sum == pytest.approx(residual, rel=1e-8)


def test_what_readings_cannot_tell_is_refused():
    with pytest.raises(InputError, match="2 readings cannot tell 3 parameters"):
        fit_exponentials(np.array([0.0, 1.0]), np.array([1.0, 2.0]), (1.0,))


@pytest.mark.parametrize("bend", [0.25, 1.0])
@pytest.mark.parametrize("start", [0.0, 0.4])
def test_a_bent_approach_solves_its_equation(bend, start):
    time = np.linspace(0, 8, 200)
    exact = solve_ivp(
        lambda _, y: 1 - y ** (1 + bend), (0, 8), [start], t_eval=time, rtol=1e-10, atol=1e-12
    ).y[0]
    elapsed = time * (1 + bend)  # in time constants at the settled temperature
    missing = (1 - start) * np.exp(log_missing(elapsed, bend, start))
    assert np.abs(1 - missing - exact).max() < 2e-4
    slopes = np.gradient(log_missing(elapsed, bend, start), elapsed)
    assert log_missing_slope(elapsed, bend, start)[1:-1] == pytest.approx(slopes[1:-1], abs=0.02)
    # Beyond the table it goes on as an exponential does.
    far = log_missing(np.array([30.0, 31.0]), bend, start)
    assert far[0] - far[1] == pytest.approx(1.0, abs=1e-6)


def test_cooling_tells_its_time_constants_and_where_it_goes():
    inside, rest = [], []
    for seed in range(20):
        rng = np.random.default_rng(seed)
        t = np.arange(600.0)
        slow = rng.uniform(120, 300)
        rise = 4 + 20 * np.exp(-t / 9) + 15 * np.exp(-t / slow)
        answer = recovery(t + 100, np.round(rise + 0.3 * rng.standard_normal(t.size)), 100.0)
        low, high = answer.time_constant_intervals_s[-1]
        inside.append(low <= slow <= high)
        rest.append(answer.rest_low_k <= 4 <= answer.rest_high_k)
    assert np.mean(inside) >= 0.8
    assert np.mean(rest) >= 0.8
    assert recovery(t[:30], rise[:30], 0.0) is None
