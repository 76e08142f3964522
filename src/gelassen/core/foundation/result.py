"""The base of all results: they can be turned into plain values for JSON."""

import dataclasses
import math
from typing import Any, Protocol

import numpy as np
import pandas as pd

from gelassen.core.foundation.caution import Caution

# How made-up data is marked in every output.
MADE_UP = "made-up sample data"


class Result:
    """Base of the frozen result objects."""

    __slots__ = ()

    def to_dict(self) -> dict[str, Any]:
        """Return the fields as plain values; None stands for a number that cannot be told."""
        fields = dataclasses.fields(self)  # type: ignore[arg-type]
        return {field.name: plain(getattr(self, field.name)) for field in fields}


class _HasDict(Protocol):
    def to_dict(self) -> dict[str, Any]: ...


def plain(value: Any) -> Any:
    """Turn a value into what JSON knows; not-a-number and infinities become None."""
    if isinstance(value, (Result, Caution)):
        return value.to_dict()
    if isinstance(value, pd.DataFrame):
        return [{str(k): plain(v) for k, v in row.items()} for row in value.to_dict("records")]
    if isinstance(value, dict):
        return {str(key): plain(item) for key, item in value.items()}
    if isinstance(value, (list, tuple, np.ndarray)):
        return [plain(item) for item in value]
    if isinstance(value, np.generic):
        return plain(value.item())
    if isinstance(value, float) and not math.isfinite(value):
        return None
    if value is pd.NaT or value is pd.NA:
        return None
    return value
