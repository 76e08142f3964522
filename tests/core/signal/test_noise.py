"""How much a series of readings says about its own mean."""

import numpy as np
import pytest
from scipy.signal import lfilter

from gelassen.core.signal.noise import noise_density


@pytest.mark.parametrize(
    ("memory_s", "least", "most"), [(0, 0.98, 1.1), (5, 0.93, 1.1), (30, 0.78, 1.1)]
)
def test_the_error_of_a_mean_allows_for_correlated_readings(memory_s, least, most):
    """Fifteen minutes at 1 Hz; what lasts half a minute shows there only in part."""
    rng, fade = np.random.default_rng(memory_s), np.exp(-1 / memory_s) if memory_s else 0.0
    true = (1 + fade) / (1 - fade)
    shares = []
    for _ in range(300):
        white = rng.normal(0, np.sqrt(1 - fade**2), 900 + 300)
        noise = lfilter([1.0], [1.0, -fade], white)[300:]
        shares.append(np.sqrt(noise_density(noise, 1.0) / true))
    assert least < np.mean(shares) < most
