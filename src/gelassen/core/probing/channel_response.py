"""The response of a channel to load: whether it moves, how fast, and how coarse it is."""

import math
from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats, SeriesLike, as_series, as_time
from gelassen.core.foundation.result import Result
from gelassen.core.probing.thresholds import Response as At
from gelassen.core.signal.noise import step_size


@dataclass(frozen=True, slots=True, kw_only=True)
class Response(Result):
    """The response of one channel to load.

    Attributes
    ----------
    idle, loaded
        Mean before the load, and near its end, in the channel's unit.
    moved
        Whether the difference is more than the channel's own scatter.
    follows_s
        Time from the start of the load to 63 % of the change seen; None if it did not move.
    step
        Smallest step it shows; 0 if none can be made out.
    renewed_s
        Usual time between new values; None if it never changed.
    """

    idle: float
    loaded: float
    moved: bool
    follows_s: float | None
    step: float
    renewed_s: float | None

    @property
    def change(self) -> float:
        """The change caused by the load."""
        return self.loaded - self.idle

    def __str__(self) -> str:
        if not self.moved:
            return f"does not move ({self.idle:g})"
        return f"{self.idle:g} to {self.loaded:g}, follows in {self.follows_s:.1f} s"


def probe_response(
    time_s: SeriesLike, values: SeriesLike, *, load_start_s: float, load_end_s: float
) -> Response:
    """Find the response of a channel to a load.

    Parameters
    ----------
    time_s, values : array_like, shape (n,)
        Times in s and readings; NaN marks a missed one.
    load_start_s, load_end_s : float
        When the load came on and went off.

    Raises
    ------
    InputError
        The shapes differ, or there is no reading before the load or during it.
    """
    t = as_time(time_s)
    x = as_series("values", values, like=t)
    present = np.isfinite(x)
    t, x = t[present], x[present]
    before = x[(t < load_start_s)]
    during = (t >= load_start_s) & (t < load_end_s)
    late = x[during & (t >= load_end_s - (load_end_s - load_start_s) / 3)]
    if before.size == 0 or late.size == 0:
        raise InputError("a probe needs readings before the load and until its end")
    idle, loaded = float(before.mean()), float(late.mean())
    step = step_size(x)
    scatter = math.hypot(_scatter(before), _scatter(late))
    moved = abs(loaded - idle) > max(At.SIGMAS * scatter, At.STEPS * step, 1e-9)
    follows_s = None
    if moved:
        direction = 1 if loaded > idle else -1
        reached = direction * (x[during] - idle) >= At.FOLLOWED * abs(loaded - idle)
        if reached.any():
            follows_s = float(t[during][int(np.argmax(reached))] - load_start_s)
    fresh = np.flatnonzero(np.diff(x) != 0)
    renewed_s = float(np.median(np.diff(t[fresh]))) if fresh.size > 2 else None
    return Response(
        idle=idle, loaded=loaded, moved=moved, follows_s=follows_s, step=step, renewed_s=renewed_s
    )


def _scatter(values: Floats) -> float:
    """Return a cautious standard error of a mean."""
    if values.size < 2:
        return 0.0
    return float(values.std(ddof=1)) / math.sqrt(min(values.size, At.INDEPENDENT))
