"""Readings that no sensor can have taken: a spoilt cell, a register read wrongly."""

import numpy as np
import pandas as pd

from gelassen.core.notread import told_unanswered, unanswered

_COLDEST_C, _HOTTEST_C = -273.15, 2_000.0
_LARGEST = 1e15
_SUSPECT_C = (-40.0, 124.9)


def without_impossible(frame: pd.DataFrame) -> tuple[pd.DataFrame, list[str]]:
    """Return the table with impossible readings taken as missing, and what to say about them."""
    if not _any_wrong(frame):
        return frame, []
    cautions = []
    replaced: dict[str, object] = {}
    for name in frame.columns:
        values = frame[name].to_numpy(dtype=float)
        wrong = np.abs(values) > _LARGEST
        if name.endswith(".temp_c"):
            wrong |= (values < _COLDEST_C) | (values > _HOTTEST_C)
        if wrong.any():
            replaced[name] = np.where(wrong, np.nan, values)
            cautions.append(
                f"{int(wrong.sum())} readings of {name} are impossible, such as "
                f"{values[wrong][0]:.3g}: taken as missing"
            )
        elif name.endswith(".temp_c"):
            wrong = unanswered(values)
            if wrong.any():
                replaced[name] = np.where(wrong, np.nan, values)
                cautions.append(told_unanswered(name, values, wrong))
    return (frame.assign(**replaced) if replaced else frame), cautions


def _any_wrong(frame: pd.DataFrame) -> bool:
    """Return whether a closer look is worth while: a table at once is quicker than its columns."""
    values = frame.to_numpy(dtype=float)
    temps = np.array([str(name).endswith(".temp_c") for name in frame.columns], dtype=bool)
    low = np.where(temps, _SUSPECT_C[0], -_LARGEST)
    high = np.where(temps, _SUSPECT_C[1], _LARGEST)
    odd = (values < low) | (values > high) | ((values == 0) & temps)
    return bool(odd.any())
