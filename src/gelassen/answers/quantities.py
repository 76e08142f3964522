"""Quantities that a user asks for by name: a factor of the study file, or a logged quantity."""

from collections.abc import Iterable

import pandas as pd

from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.study.file.study_file import StudyFile

_NAMES = {
    "rise": "rise, K", "capacity": "capacity, W", "noise_dba": "noise, dB(A)", "fan_rpm": "fan speed, rpm",
    "power_w": "power, W", "work_per_s": "work, 1/s",
    "power_limit_w": "power limit, W", "clock_mhz": "clock, MHz", "duty_pct": "duty, %",
}  # fmt: skip


def named(quantity: str) -> str:
    """Return a quantity in words with its unit, if it is a known one."""
    return _NAMES.get(quantity, quantity)


def check_factor(file: StudyFile, factor: str, also: Iterable[str] = ()) -> None:
    """Refuse a factor that the study does not have; `also` are other names that would do."""
    if factor not in file.factors:
        known = [*file.factors, *also]
        raise InputError(
            f'"{factor}" is not a factor of this study ({", ".join(known) or "it has none"}).'
            + nearest(factor, known)
        )


def is_logged(table: pd.DataFrame, quantity: str) -> bool:
    """Return whether any run has this quantity."""
    return quantity in table.columns and bool(table[quantity].notna().any())
