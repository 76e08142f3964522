"""Conditions on runs, as people write them: "cooler=Brise 120", "power_w>=100", "started>=2026-03-01"."""

import re
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from gelassen.answers.archive.index import FACTOR
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest

_CONDITION = re.compile(r"\s*([^<>=!]+?)\s*(<=|>=|!=|=|<|>)\s*(.*?)\s*")
_COMPARED = {
    "=": "__eq__",
    "!=": "__ne__",
    "<": "__lt__",
    "<=": "__le__",
    ">": "__gt__",
    ">=": "__ge__",
}


def condition(texts: Sequence[str], schema: pa.Schema) -> pc.Expression | None:
    """Return what all these conditions together ask of a run; None for no condition.

    Raises
    ------
    InputError
        A text that is no condition, an unknown name, or a value that does not fit it.
    """
    found = None
    for text in texts:
        one = _single(text, schema)
        found = one if found is None else found & one
    return found


def _single(text: str, schema: pa.Schema) -> pc.Expression:
    match = _CONDITION.fullmatch(text)
    if match is None:
        raise InputError(
            f'"{text}" is no condition: write it like "machine=Playout box", "power_w>=100" or '
            '"started>=2026-03-01"'
        )
    name, sign, said = match.groups()
    column = column_of(name, schema.names)
    field, kind = pc.field(column), schema.field(column).type
    value = _value(text, said, kind)
    compared: pc.Expression = getattr(field, _COMPARED[sign])(value)
    if sign == "!=":  # a run that says nothing of it has not this value
        compared = compared | field.is_null()
    return compared


def column_of(name: str, known: Iterable[str]) -> str:
    """Return the column that a name means: its own, or that of a factor.

    Raises
    ------
    InputError
        There is neither.
    """
    columns = set(known) - {"row"}
    for column in (name, f"{FACTOR}{name}"):
        if column in columns:
            return column
    shown = sorted(column.removeprefix(FACTOR) for column in columns)
    raise InputError(
        f'no study of this archive has "{name}" ({", ".join(shown)}).{nearest(name, shown)}'
    )


def _value(text: str, said: str, kind: Any) -> Any:
    try:
        if pa.types.is_floating(kind):
            return float(said)
        if pa.types.is_boolean(kind):
            return {"yes": True, "true": True, "no": False, "false": False}[said.lower()]
        if pa.types.is_timestamp(kind):
            moment = datetime.fromisoformat(said)
            moment = moment if moment.tzinfo else moment.replace(tzinfo=UTC)
            return pa.scalar(moment, kind)
    except (ValueError, KeyError):
        wanted = "a number" if pa.types.is_floating(kind) else "yes or no"
        wanted = "a date like 2026-03-01" if pa.types.is_timestamp(kind) else wanted
        raise InputError(f'"{text}": "{said}" is not {wanted}') from None
    return said
