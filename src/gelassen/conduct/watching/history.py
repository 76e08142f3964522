"""What a run has read so far, for those who decide on it while it goes on."""

from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    import pandas as pd


class History:
    """Grows by a sample at a time; gives its part since a moment as a table."""

    def __init__(self) -> None:
        self._times: list[float] = []
        self._rows: list[Mapping[str, float]] = []

    def add(self, now_s: float, values: Mapping[str, float]) -> None:
        """Take a sample in: temperatures, power, speeds; clocks of single cores are not needed."""
        self._times.append(now_s)
        self._rows.append(
            {
                name: value
                for name, value in values.items()
                if name.endswith((".temp_c", "_w", ".speed_rpm"))
            }
        )

    def since(self, start_s: float) -> "pd.DataFrame":
        """Return the samples from this moment on; index `t_s`, columns are channels."""
        import pandas as pd

        there = len(self._rows)  # more may come in while we look
        first = int(np.searchsorted(self._times[:there], start_s))
        times = pd.Index(self._times[first:there], name="t_s", dtype=float)
        return pd.DataFrame(self._rows[first:there], index=times, dtype=float)

    def last(self, name: str, samples: int) -> list[float]:
        """Return the last readings of a channel."""
        return [row.get(name, float("nan")) for row in self._rows[-samples:]]

    def newest(self, samples: int) -> list[Mapping[str, float]]:
        """Return the last samples; none before the first."""
        return self._rows[-samples:]
