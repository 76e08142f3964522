"""The base of all results: they can be turned into plain values for JSON."""

import dataclasses
import html
import math
from typing import Any, Protocol

import numpy as np
import pandas as pd

from gelassen.core.foundation.caution import Caution
from gelassen.core.foundation.printable import printable

# How made-up data is marked in every output.
MADE_UP = "made-up sample data"


class Result:
    """Base of the frozen result objects."""

    __slots__ = ()

    def __init_subclass__(cls, **options: Any) -> None:
        """Give each result a short repr and a comparison that copes with tables.

        A dataclass keeps what its class has already.
        """
        super().__init_subclass__(**options)
        for name, method in (("__repr__", _short), ("__eq__", _equal)):
            if name not in cls.__dict__:
                setattr(cls, name, method)

    def _repr_html_(self) -> str:
        """Return the result for a notebook."""
        return f"<pre>{html.escape(printable(str(self)))}</pre>"

    def to_dict(self) -> dict[str, Any]:
        """Return the fields as plain values; None stands for a number that cannot be told."""
        fields = dataclasses.fields(self)  # type: ignore[arg-type]
        return {field.name: plain(getattr(self, field.name)) for field in fields}


def _short(result: Result) -> str:
    """Return a result in one line."""
    name = type(result).__name__
    if type(result).__str__ is not object.__str__:
        return f"<{name}: {str(result).split(chr(10), 1)[0]}>"
    fields = dataclasses.fields(result)  # type: ignore[arg-type]
    said = ", ".join(f"{field.name}={getattr(result, field.name)!r}"[:60] for field in fields)
    return f"{name}({said})"


def _equal(result: Result, other: object) -> Any:
    """Return whether two results say the same; tables are compared by their values."""
    if type(result) is not type(other) or not isinstance(other, Result):
        return NotImplemented
    return result.to_dict() == other.to_dict()


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
