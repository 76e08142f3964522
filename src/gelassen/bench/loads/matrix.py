"""The dense floating-point load: products of one fixed pair of matrices, checked every round."""

import numpy as np

# 512² doubles: three matrices fit the second-level cache of most cores, and a round lasts a few
# milliseconds, so that work per second is counted finely and a stop takes effect at once.
SIZE = 512


class MatrixKernel:
    """One round is one product, compared bit for bit with the first one.

    The same instructions on the same numbers give the same bits. Anything else is a computing error, as
    with an unstable setting.
    """

    def __init__(self) -> None:
        rng = np.random.default_rng(5)
        self._a = rng.standard_normal((SIZE, SIZE))
        self._b = rng.standard_normal((SIZE, SIZE))
        self._out = np.empty((SIZE, SIZE))
        self._expected = self._a @ self._b

    def round(self) -> bool:
        """Work one round; return whether the result was right."""
        np.matmul(self._a, self._b, out=self._out)
        return np.array_equal(self._out, self._expected)
