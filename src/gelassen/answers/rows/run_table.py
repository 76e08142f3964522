"""Rows of runs as a table. It holds the runs that can be compared, all over the same kind of reference."""

from collections import Counter
from collections.abc import Sequence

import numpy as np
import pandas as pd

from gelassen.answers.rows.run_row import RunRow, rows_to_table, too_short
from gelassen.core.foundation.caution import Caution, caution

_NUMBERS = (
    "value", "standard_error", "thermal_share", "power_share", "power_w", "clock_mhz", "fan_rpm",
    "work_per_s", "reference_c", "limit_c", "power_limit_w", "hold_length_s", "noise_dba", "duty_pct",
    "load_pct", "wall_w", "flow_lpm", "pump_rpm", "moved_k", "changed_at_s", "changed_by_k",
)  # fmt: skip


def run_table(
    rows: Sequence[RunRow], left_out: list[tuple[str, str]], reference: str | None = None
) -> pd.DataFrame:
    """Return the runs that can be compared, one in each row. The others are added to `left_out`.

    Rises over the room are not compared with rises over coolant. Those over `reference` are kept if there
    are any, else the more numerous kind.
    """
    kept = []
    for row in rows:
        if row.value is None:
            left_out.append((row.run, "no temperature to compare"))
        elif not row.has_interval:
            left_out.append((row.run, too_short(row)))
        else:
            kept.append(row)
    if reference is None or all(row.reference != reference for row in kept):
        reference = usual_reference(kept)
    kept = _over_one_kind(kept, left_out, reference)
    table = rows_to_table(kept)
    if table.empty:
        return table
    table = table.astype({name: float for name in _NUMBERS if name in table})
    # The load itself warms the coolant, so the coolant is a result and not a condition.
    if not is_room(reference):
        table["reference_c"] = np.nan
    return table


def of_one_unit(table: pd.DataFrame, baseline: str | None) -> tuple[pd.DataFrame, pd.DataFrame]:
    """Return the runs of one unit, and the others: rises are not ranked with temperatures.

    The unit is the baseline's, else the more frequent.
    """
    if table.empty:
        return table, table
    own = table.loc[table["setup"] == baseline, "unit"]
    counts = (own if len(own) else table["unit"]).value_counts()
    unit = "K" if counts.get("K", 0) == counts.max() else str(counts.idxmax())
    return table[table["unit"] == unit], table[table["unit"] != unit]


def of_another_unit(other: pd.DataFrame) -> list[Caution]:
    """Return a caution that names the runs of another unit, if there are any."""
    if other.empty:
        return []
    setups = "; ".join(dict.fromkeys(other["setup"]))
    unit = "°C" if "°C" in set(other["unit"]) else "K"
    return [caution("another_unit", count=len(other), unit=unit, setups=setups)]


def is_room(reference: str | None) -> bool:
    """Return whether a run can be compared with those over the room. A run without reference can."""
    return reference is None or reference.startswith("room.")


def usual_reference(rows: Sequence[RunRow]) -> str | None:
    """Return the reference that most runs have; None if none has any."""
    named = Counter(row.reference for row in rows if row.reference is not None)
    return named.most_common(1)[0][0] if named else None


def _over_one_kind(
    rows: list[RunRow], left_out: list[tuple[str, str]], usual: str | None
) -> list[RunRow]:
    """Return the rows whose rises have the same kind of reference as `usual`: the room or another."""
    kept = []
    for row in rows:
        if is_room(row.reference) == is_room(usual):
            kept.append(row)
        elif row.reference is None:
            left_out.append((row.run, f"it has no rise over {usual}"))
        else:
            left_out.append((row.run, f"its rise is over {row.reference}, not over {usual}"))
    return kept


_NAMED = 4  # runs that one reason names


def reasons_left_out(left_out: Sequence[tuple[str, str]]) -> str:
    """Return why runs were left out; many runs of one reason are counted."""
    runs: dict[str, list[str]] = {}
    for name, why in left_out:
        runs.setdefault(why, []).append(name)
    return "; ".join(
        f"{', '.join(names) if len(names) <= _NAMED else f'{len(names)} runs'}: {why}"
        for why, names in runs.items()
    )
