"""Readings that no sensor can have taken: a spoilt cell, a register read wrongly."""

import numpy as np
import pandas as pd

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.signal.thresholds import Impossible
from gelassen.core.signal.unread import suspect, unanswered, unanswered_caution


def without_impossible(frame: pd.DataFrame) -> tuple[pd.DataFrame, list[Caution]]:
    """Return the table with impossible readings taken as missing, and what to say about them."""
    if not _any_wrong(frame):
        return frame, []
    cautions = []
    replaced: dict[str, object] = {}
    for name in frame.columns:
        values = frame[name].to_numpy(dtype=float)
        wrong = np.abs(values) > Impossible.LARGEST
        if name.endswith(".temp_c"):
            wrong |= (values < Impossible.COLDEST_C) | (values > Impossible.HOTTEST_C)
        if wrong.any():
            cautions.append(
                caution(
                    "impossible_readings",
                    count=int(wrong.sum()),
                    channel=str(name),
                    example=float(values[wrong][0]),
                )
            )
            replaced[name] = values = np.where(wrong, np.nan, values)
        none = unanswered(values) if name.endswith(".temp_c") else np.zeros(0, dtype=bool)
        if none.any():
            cautions.append(unanswered_caution(name, values, none))
            replaced[name] = np.where(none, np.nan, values)
    return (frame.assign(**replaced) if replaced else frame), cautions


def _any_wrong(frame: pd.DataFrame) -> bool:
    """Return whether any reading may be impossible. Checking the whole table at once is quicker."""
    values = frame.to_numpy(dtype=float)
    temps = np.array([str(name).endswith(".temp_c") for name in frame.columns], dtype=bool)
    return bool((np.abs(values) > Impossible.LARGEST).any() or suspect(values[:, temps]).any())
