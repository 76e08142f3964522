"""Series out of a table of channels."""

from collections.abc import Iterable, Sequence

import numpy as np
import pandas as pd

from gelassen.core.foundation.inputs import Bools, Floats


def columns_of(frame: pd.DataFrame, names: Sequence[str]) -> Floats:
    """Return these channels side by side, one row a sample: ten times quicker than ``frame[names]``."""
    place = {name: k for k, name in enumerate(frame.columns)}
    return np.asarray(frame.to_numpy(dtype=float)[:, [place[name] for name in names]])


def highest_of(frame: pd.DataFrame, names: Sequence[str], where: Bools | None = None) -> str:
    """Return the channel with the highest mean over the samples asked for."""
    values = columns_of(frame, names)
    values = values if where is None else values[where]
    known = np.isfinite(values)
    count, total = known.sum(axis=0), np.where(known, values, 0.0).sum(axis=0)
    means = np.divide(total, count, where=count > 0, out=np.full(len(names), -np.inf))
    return names[int(np.argmax(means))]


def read_ones(frame: pd.DataFrame, names: Iterable[str]) -> list[str]:
    """Return those of the channels that were ever read."""
    return [name for name in names if np.isfinite(frame[name].to_numpy(dtype=float)).any()]


def series_of(frame: pd.DataFrame, name: str) -> Floats | None:
    """Return one channel; None if it was not logged or never read."""
    if name not in frame.columns or not read_ones(frame, [name]):
        return None
    return np.asarray(frame[name], dtype=float)


def mean_of(frame: pd.DataFrame, start: str, end: str, *, moving: bool = False) -> Floats | None:
    """Return the mean over all channels whose name starts and ends so; None if there are none.

    With `moving`, channels that never left zero are left out: headers without a fan.
    """
    names = [n for n in frame.columns if n.startswith(start) and n.endswith(end)]
    read = [frame[name].to_numpy(dtype=float) for name in names]
    read = [series for series in read if np.isfinite(series).any()]
    if moving:
        read = [series for series in read if (series > 0).any()] or read
    if not read:
        return None
    values = np.array(read)
    known = np.isfinite(values)
    count = known.sum(axis=0)
    total = np.where(known, values, 0.0).sum(axis=0)
    mean = np.divide(total, count, where=count > 0, out=np.full(count.size, np.nan))
    return np.asarray(mean)


def means_and_peaks(readings: Floats) -> tuple[Floats, Floats]:
    """Return mean and highest reading of each column, one row a sample; NaN where none was read."""
    known = np.isfinite(readings)
    count = known.sum(axis=0)
    total = np.where(known, readings, 0.0).sum(axis=0)
    means = np.divide(total, count, where=count > 0, out=np.full(count.size, np.nan))
    peaks = np.where(known, readings, -np.inf).max(axis=0, initial=-np.inf)
    return means, np.where(count > 0, peaks, np.nan)


def mean_where(series: Floats | None, where: Bools) -> float:
    """Return the mean of the readings there; NaN without any."""
    if series is None or not np.isfinite(series[where]).any():
        return float("nan")
    return float(np.nanmean(series[where]))
