"""Setups compared by another number than where they settle: at rest, highest, score, work, clock."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import pandas as pd

from gelassen.answers.rows.known_spread import KnownSpread, was_remounted
from gelassen.answers.rows.run_row import RunRow
from gelassen.core.comparing.priors import Spread
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.result import Result
from gelassen.core.foundation.spelling import nearest


@dataclass(frozen=True, slots=True, kw_only=True)
class Quantity(Result):
    """A quantity to compare by.

    Attributes
    ----------
    name, what
        Its name, and what it is, in words.
    unit
        Of its values; "K" for rises.
    more_is_better
        Whether the setup with the highest value comes first.
    column
        The column of a run that holds its mean over the hold. The quantity itself is the mean over the
        whole load. Empty if there is no such column.
    """

    name: str
    what: str
    unit: str
    more_is_better: bool = False
    column: str = ""

    @property
    def is_rise(self) -> bool:
        """Whether it is a temperature over a reference, and compared as one."""
        return self.unit == "K"


QUANTITIES = {
    one.name: one
    for one in (
        Quantity(name="rest", what="temperature at rest", unit="K"),
        Quantity(name="highest", what="highest reading under load", unit="K"),
        Quantity(name="highest 99", what="99th percentile under load", unit="K"),
        Quantity(name="mean", what="mean under load", unit="K"),
        Quantity(name="score", what="score", unit="points", more_is_better=True),
        Quantity(name="work", what="work", unit="/s", more_is_better=True, column="work_per_s"),
        Quantity(name="clock", what="clock", unit="MHz", more_is_better=True, column="clock_mhz"),
        Quantity(name="power", what="power", unit="W", more_is_better=True, column="power_w"),
        Quantity(name="voltage", what="voltage", unit="V"),
        Quantity(
            name="score per watt", what="score per watt", unit="points/W", more_is_better=True
        ),
        Quantity(name="work per watt", what="work per watt", unit="/s/W", more_is_better=True),
    )
}


_INSTEAD = {"score": "work", "score per watt": "work per watt"}  # where no score was typed
_WITHOUT_TEMPERATURE = ("score", "work", "clock")  # the first that was logged
_UNDER_LOAD = (
    "power_w", "settled_w", "clock_mhz", "fan_rpm", "work_per_s", "duty_pct", "load_pct", "thermal_share",
    "power_share", "noise_dba", "wall_w", "flow_lpm", "pump_rpm",
)  # fmt: skip


def quantity_named(name: str) -> Quantity | None:
    """Return a quantity by its name; None for "rise", which is where runs settle.

    Raises
    ------
    InputError
        There is none of this name.
    """
    if name in ("rise", "steady"):
        return None
    if name not in QUANTITIES:
        known = ["rise", *QUANTITIES]
        raise InputError(
            f'"{name}" is nothing to compare by ({", ".join(known)}).' + nearest(name, known)
        )
    return QUANTITIES[name]


def in_kelvin(by: Quantity | None) -> bool:
    """Return whether temperatures are compared: where runs settle, or another temperature."""
    return by is None or by.is_rise


def without_temperature(rows: Iterable[RunRow]) -> Quantity | None:
    """Return what runs are compared by if none has a temperature: score, work or clock."""
    rows = list(rows)
    if any(row.value is not None for row in rows):
        return None
    named = (QUANTITIES[name] for name in _WITHOUT_TEMPERATURE)
    return next((one for one in named if any(one.name in row.quantities for row in rows)), None)


def _with_work_for_score(asked: Quantity | None, rows: Iterable[RunRow]) -> Quantity | None:
    """Return the quantity of this name. Work stands in for a score that no run has."""
    instead = None if asked is None else _INSTEAD.get(asked.name)
    if asked is None or instead is None:
        return asked
    had = {name for row in rows for name in row.quantities}
    return QUANTITIES[instead] if asked.name not in had and instead in had else asked


@dataclass(frozen=True, slots=True)
class Chosen:
    """What is compared: the rows with it as their value, and what is known of its scatter.

    `by` is None where it is where runs settle.
    """

    by: Quantity | None
    rows: list[RunRow]
    left_out: list[tuple[str, str]]
    spread_of: Callable[[pd.DataFrame], KnownSpread]
    cautions: tuple[Caution, ...] = ()


def chosen_by(
    rows: Sequence[RunRow],
    left_out: Sequence[tuple[str, str]],
    name: str,
    spread_of: Callable[[pd.DataFrame], KnownSpread],
) -> Chosen:
    """Return what is compared: as asked, or else, without any temperature, score, work or clock.

    `spread_of` is what is known of the scatter of temperatures.
    """
    asked = quantity_named(name)
    by = _with_work_for_score(asked, rows) or without_temperature(rows)
    if by is None:
        return Chosen(None, list(rows), list(left_out), spread_of)
    kept, without = rows_by(rows, by)
    said = () if asked else (caution("no_temperature_to_compare", what=by.what),)
    if asked is not None and by is not asked:
        said = (caution("no_score_to_compare", asked=asked.what, what=by.what),)
    if not by.is_rise:
        spread_of = partial(spread_of_quantity, by)
    return Chosen(by, kept, [*left_out, *without], spread_of, said)


def rows_by(
    rows: Iterable[RunRow], quantity: Quantity
) -> tuple[list[RunRow], list[tuple[str, str]]]:
    """Return rows with this quantity as their value, and the runs that do not have it."""
    kept: list[RunRow] = []
    left_out: list[tuple[str, str]] = []
    for row in rows:
        found = row.quantities.get(quantity.name)
        if found is None:
            left_out.append((row.run, f"it has no {quantity.what}"))
            continue
        value, error = found
        unit = quantity.unit
        if quantity.is_rise and row.reference is None:
            unit = "°C"
        if quantity.is_rise:
            row = replace(row, kind=f"{row.kind}: {quantity.what}")
        else:
            row = replace(row, reference=None, reference_c=None, kind=quantity.what)
        at_rest = quantity.name == "rest"
        limited = row.at_limit and quantity.is_rise and not at_rest
        if at_rest:  # what the load did says nothing of the rest before it
            nothing: dict[str, Any] = dict.fromkeys(_UNDER_LOAD)
            row = replace(row, **nothing)
        low, high = value - 2 * error, value + 2 * error
        row = replace(row, value=value, standard_error=error, low=low, high=high, unit=unit)
        what = quantity.what
        kept.append(replace(row, measured=what, reached=True, missing_k=0.0, at_limit=limited))
    return kept, left_out


def usual_spread(values: Iterable[float]) -> tuple[float, float]:
    """Return what such values usually scatter by between runs, and its degrees of freedom."""
    sizes = [abs(value) for value in values]
    share, freedom = Spread.USUAL_SHARE
    return max(share * sum(sizes) / max(len(sizes), 1), Spread.LEAST), freedom


def spread_of_quantity(quantity: Quantity, runs: pd.DataFrame) -> KnownSpread:
    """Return what is known of the scatter of a quantity that is no temperature."""
    if was_remounted(runs):
        return KnownSpread("repeats", None)
    return KnownSpread("usual", usual_spread(runs["value"]), quantity.unit)
