"""Whether runs were comparable: what differed apart from the setup, and in which direction it acts."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from gelassen.core.comparing.priors import Comparability as At
from gelassen.core.foundation.caution import Caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats
from gelassen.core.foundation.result import Result
from gelassen.core.signal.noise import MAD_TO_STD
from gelassen.core.thermal.priors import RoomEffect

# Quantity -> its name, its unit, the smallest relative and absolute difference that matters,
# and the exponent of the rise in it (the rise is proportional to power, and falls with more air).
_QUANTITIES: dict[str, tuple[str, str, float, float, float]] = {
    "power_w": ("power", "W", 0.01, 0.3, 1.0),
    "fan_rpm": ("fan speed", "rpm", 0.03, 15.0, -0.4),
    "duty_pct": ("fan duty", "%", 0.03, 1.0, -0.4),
    "flow_lpm": ("coolant flow", "L/min", 0.05, 0.05, 0.0),
    "pump_rpm": ("pump speed", "rpm", 0.03, 50.0, 0.0),
    "clock_mhz": ("clock", "MHz", 0.01, 10.0, 0.0),
    "work_per_s": ("work done", "/s", 0.02, 0.0, 0.0),
    "load_pct": ("load", "%", 0.02, 1.0, 0.0),
    "reference_c": ("reference temperature", "°C", 0.0, 2.0, 0.0),
    "hold_length_s": ("length of the hold", "s", 0.2, 30.0, 0.0),
}
# Quantities that a chip at its temperature limit does not change by itself.
_CONDITIONS = (
    "fan_rpm",
    "duty_pct",
    "flow_lpm",
    "pump_rpm",
    "load_pct",
    "reference_c",
    "hold_length_s",
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Comparability(Result):
    """What differed between runs and between setups.

    Attributes
    ----------
    odd_runs : DataFrame
        run, setup, quantity, value, usual, difference, pushes_k, words: runs that differ from the
        other runs of their own setup. `pushes_k`: about how much warmer that made it, K; NaN where
        no simple rule says.
    pairs : DataFrame
        setup, versus, quantity, value, versus_value, difference, expected, pushes_k, words, what: what
        differs between two setups beyond the scatter of their runs, in words with and without what that
        does. `expected` where a factor of the study is meant to change it.
    corrected : DataFrame
        setup, mean, corrected_mean, runs, runs_left: the mean as it is and at equal power, and how many
        runs are left without the odd ones, with their mean in `without_odd`.
    """

    odd_runs: pd.DataFrame
    pairs: pd.DataFrame
    corrected: pd.DataFrame
    cautions: tuple[Caution, ...] = ()

    def __str__(self) -> str:
        lines = [*self.odd_runs["words"], *self.pairs.loc[~self.pairs["expected"], "words"]]
        return "\n".join([*(lines or ["nothing differed beyond its own scatter"]), *self.cautions])


def comparability(
    runs: pd.DataFrame, *, expected: Sequence[str] = (), allowed_for: Sequence[str] = ()
) -> Comparability:
    """Find what differed apart from the setup.

    Parameters
    ----------
    runs : DataFrame
        One row a run: run, setup, value (the rise in K), and any of unit ("°C" where the value is no
        rise, as the room was not logged), power_w, fan_rpm, duty_pct,
        clock_mhz, work_per_s, load_pct, reference_c, hold_length_s, at_limit, power_share, thermal_share,
        changed_at_s, changed_by_k, changed_how, started, sensors.
    expected : sequence of str
        Quantities that a factor of the study is meant to change.
    allowed_for : sequence of str
        Quantities whose effect is taken out of the differences already: they are told, and push nothing.

    Raises
    ------
    InputError
        The columns run, setup or value are missing.

    Notes
    -----
    A run is odd where it lies beyond four standard deviations (by the median of absolute deviations of
    all runs from their setup's median) and beyond what can matter, a per cent of the power, three of
    the fan speed. How it pushes: rise in proportion to power, and to fan speed to the power of about
    -0.4, as forced convection between plates gives it. These are rules of thumb, for the direction and
    the size; the correction to equal power is the only one that is applied.
    """
    for column in ("run", "setup", "value"):
        if column not in runs.columns:
            raise InputError(f'runs has no column "{column}"')
    runs = _as_rises(runs)
    held = runs["at_limit"].astype(bool) if "at_limit" in runs.columns else runs["run"].isna()
    # A chip held at its limit differs in power and clock as a result. Its rise is no guide.
    every = runs.assign(value=runs["value"].astype(float).where(~held)).reset_index(drop=True)
    table = runs[~held].reset_index(drop=True)
    odd: list[dict[str, object]] = []
    pairs: list[dict[str, object]] = []
    for quantity in _QUANTITIES:
        among = every if quantity in _CONDITIONS else table
        if quantity in among.columns and among[quantity].notna().any():
            known = quantity in allowed_for
            odd += [_with_push(row, allowed_for=known) for row in _odd_runs(among, quantity)]
            pairs += [
                _with_push(row, allowed_for=known) for row in _pairs(table, quantity, expected)
            ]
    odd += _odd_flags(table) + _odd_changes(every)
    pairs += _pair_texts(table, expected)
    odd_frame = pd.DataFrame(
        odd,
        columns=["run", "setup", "quantity", "value", "usual", "difference", "pushes_k", "words"],
    )
    pair_frame = pd.DataFrame(
        pairs,
        columns=[
            "setup",
            "versus",
            "quantity",
            "value",
            "versus_value",
            "difference",
            "expected",
            "pushes_k",
            "words",
            "what",
        ],
    )
    pair_frame["expected"] = pair_frame["expected"].astype(bool)
    return Comparability(
        odd_runs=odd_frame, pairs=pair_frame, corrected=_corrected(table, set(odd_frame["run"]))
    )


def _as_rises(runs: pd.DataFrame) -> pd.DataFrame:
    """Return runs with values as rises: temperatures without a room are taken above a usual one."""
    room_c: Floats | float = 0.0
    if "unit" in runs.columns:
        room_c = np.where(runs["unit"] == "°C", At.UNLOGGED_ROOM_C, 0.0)
    return runs.assign(value=runs["value"].astype(float) - room_c, room_c=room_c)


def _with_push(row: dict[str, object], *, allowed_for: bool) -> dict[str, object]:
    """Add to a caution what the difference does to the rise."""
    if allowed_for:
        return {**row, "pushes_k": float("nan"), "words": f"{row['what']}; that is allowed for"}
    return {**row, "words": f"{row['what']}{_push_words(float(str(row['pushes_k'])))}"}


def _odd_runs(table: pd.DataFrame, quantity: str) -> list[dict[str, object]]:
    name, unit, relative, least, power_of = _QUANTITIES[quantity]
    values = table[quantity].astype(float)
    found = []
    own = values.to_numpy(dtype=float)
    setups = table["setup"].to_numpy(dtype=object)
    members = {
        name: np.flatnonzero((setups == name) & np.isfinite(own)) for name in dict.fromkeys(setups)
    }
    centred = values - values.groupby(table["setup"]).transform("median")
    moved = centred[centred.notna() & (centred != 0)].abs()
    # By the median of all deviations: a few odd runs do not move it.
    scatter = MAD_TO_STD * float(moved.median()) if len(moved) else 0.0

    def allowed(usual: float) -> float:
        return max(At.SIGMAS * scatter, At.TWICE * relative * abs(usual), least)

    for k, usual in _outlying(own, members, allowed):
        difference = float(own[k]) - usual
        pushes = _push(
            float(table.loc[k, "value"]),
            float(values[k]),
            usual,
            power_of or _heat_of(table, quantity),
        )
        if quantity == "reference_c" and np.isfinite(float(table.loc[k, "value"])):
            pushes = _room_effect(table[table["setup"] == table.loc[k, "setup"]]) * difference
        found.append(
            {
                "run": table.loc[k, "run"], "setup": table.loc[k, "setup"], "quantity": quantity,
                "value": float(values[k]), "usual": usual, "difference": difference, "pushes_k": pushes,
                "what": f"{table.loc[k, 'run']}: {name} {_told(values[k], 4)} {unit}, "
                f"{_told(abs(difference))} {'more' if difference > 0 else 'less'} than in the other runs "
                f"of {table.loc[k, 'setup']}",
            }
        )  # fmt: skip
    return found


def _outlying(
    own: Floats, members: dict[object, Any], allowed: Callable[[float], float]
) -> list[tuple[int, float]]:
    """Return runs that differ too much from the others of their setup, and the middle of the others.

    The farthest run is taken out before the next is judged, so that it does not make the others look odd.
    """
    found = []
    for inside in members.values():
        left = _in_order(own, inside)
        first, last = 0, len(left) - 1
        while last - first + 1 > At.LEAST_PEERS:
            # The farthest from the middle of the others is the lowest or the highest.
            lowest, highest = left[first], left[last]
            without_lowest = float(np.median(own[left[first + 1 : last + 1]]))
            without_highest = float(np.median(own[left[first:last]]))
            below, above = without_lowest - own[lowest], own[highest] - without_highest
            low = below > above or (below == above and lowest < highest)
            worst, usual = (lowest, without_lowest) if low else (highest, without_highest)
            if max(below, above) <= allowed(usual):
                break
            found.append((int(worst), usual))
            first, last = (first + 1, last) if low else (first, last - 1)
    return sorted(found)


def _in_order(own: Floats, inside: Any) -> Any:
    """Return runs by value; of equal ones at either end, the earlier run is the outer one."""
    values = own[inside]
    earlier = np.where(values > np.median(values), -inside, inside) if len(inside) else inside
    return inside[np.lexsort((earlier, values))]


def _room_effect(runs: pd.DataFrame) -> float:
    """Return by how much the rise of these runs changes with each kelvin of the room."""
    known = "fan_rpm" in runs.columns and (runs["fan_rpm"].astype(float) > 0).all()
    return RoomEffect.FANS_ALIKE if known else RoomEffect.USUAL[0]


def _heat_of(table: pd.DataFrame, quantity: str) -> float:
    """Return the exponent of the rise in work or load. They stand for heat where the power is unknown."""
    unknown = "power_w" not in table.columns or not table["power_w"].notna().any()
    return 1.0 if unknown and quantity in ("work_per_s", "load_pct") else 0.0


def _push(value: float, own: float, usual: float, power_of: float) -> float:
    if not power_of or own <= 0 or usual <= 0:
        return float("nan")
    if not 1 / At.FAR_RATIO <= own / usual <= At.FAR_RATIO:
        return float("nan")
    return float(value - value * (usual / own) ** power_of)


def _told(value: float, digits: int = 3) -> str:
    """Return a value with this many significant digits and no exponent: 1860, not 1.86e+03."""
    return f"{float(f'{value:.{digits}g}'):.12g}"


def _push_words(pushes: float) -> str:
    if not np.isfinite(pushes) or abs(pushes) < At.WORTH_SAYING_K:
        return ""
    return f"; that made it look about {abs(pushes):.1f} K {'warmer' if pushes > 0 else 'cooler'}"


def _pairs(table: pd.DataFrame, quantity: str, expected: Sequence[str]) -> list[dict[str, object]]:
    _, _, relative, least, power_of = _QUANTITIES[quantity]
    values = table[quantity].astype(float)
    groups = values.groupby(table["setup"], sort=False)
    middles, counts = groups.median(), groups.count()
    left = values - groups.transform("mean")
    freedom = int(counts.sum() - (counts > 0).sum())
    scatter = float(np.sqrt((left**2).sum() / freedom)) if freedom else 0.0
    rises = table.groupby("setup", sort=False)["value"].mean()
    middle, count = middles.to_dict(), counts.to_dict()
    rise = rises.to_dict()
    names = [n for n in middle if np.isfinite(middle[n])]
    found = []
    for i, a in enumerate(names):
        for b in names[:i]:
            difference = middle[a] - middle[b]
            error = scatter * (1 / count[a] + 1 / count[b]) ** 0.5
            size = max(abs(middle[a]), abs(middle[b]))
            if abs(difference) <= max(At.SIGMAS * error, relative * size, least):
                continue
            pushes = _push(rise[a], middle[a], middle[b], power_of or _heat_of(table, quantity))
            if quantity == "reference_c":
                pushes = _room_effect(table[table["setup"].isin([a, b])]) * difference
            found.append(
                {
                    "setup": a, "versus": b, "quantity": quantity, "value": middle[a],
                    "versus_value": middle[b], "difference": difference,
                    "expected": quantity in expected,
                    "pushes_k": pushes,
                    "what": _pair_words(a, b, quantity, difference),
                }
            )  # fmt: skip
    return found


def _pair_words(a: object, b: object, quantity: str, difference: float) -> str:
    name, unit, *_ = _QUANTITIES[quantity]
    size = f"{_told(abs(difference))} {unit}"
    if quantity == "reference_c":
        warmth = "warmer" if difference > 0 else "cooler"
        return f"the reference of {a} was {size} {warmth} than that of {b}"
    return f"{a} had {size} {'more' if difference > 0 else 'less'} {name} than {b}"


def _odd_flags(table: pd.DataFrame) -> list[dict[str, object]]:
    """Return runs that were held back where the other runs of their setup were not."""
    found = []
    for column, words in (("power_share", "a limit other than heat"), ("thermal_share", "heat")):
        if column not in table.columns:
            continue
        shares = table[column].astype(float)
        if not (shares > At.HELD_SHARE).any():
            continue
        setups, runs = table["setup"].to_numpy(), table["run"].to_numpy()
        values = shares.to_numpy()
        members = {name: np.flatnonzero(setups == name) for name in np.unique(setups)}
        for k in np.flatnonzero(values > At.HELD_SHARE):
            rest = members[setups[k]]
            others = values[rest[rest != k]]
            others = others[np.isfinite(others)]
            if others.size and float(np.median(others)) < At.PEERS_FREE:
                found.append(
                    {
                        "run": runs[k], "setup": setups[k], "quantity": column,
                        "value": float(values[k]), "usual": float(np.median(others)),
                        "difference": float(values[k] - np.median(others)), "pushes_k": float("nan"),
                        "words": f"{runs[k]} was held back by {words} in {100 * values[k]:.0f} % of the "
                        f"load, the other runs of {setups[k]} were not",
                    }
                )  # fmt: skip
    return found


def _odd_changes(table: pd.DataFrame) -> list[dict[str, object]]:
    """Return runs whose conditions changed in mid-run where those of other runs of their setup did not."""
    if "changed_at_s" not in table.columns:
        return []
    told = table.reindex(
        columns=[*table.columns.union(["changed_by_k", "changed_how"], sort=False)]
    )
    table = told.assign(changed_by_k=told["changed_by_k"].astype(float))
    changed = table["changed_at_s"].notna()
    found = []
    for setup, runs in table[changed].groupby("setup", sort=False):
        others = table[(table["setup"] == setup) & ~changed]
        if len(runs) > 1 and others.empty:
            continue  # all runs of the setup have it: the test is made that way
        for row in runs.itertuples():
            size = float(row.changed_by_k) if np.isfinite(row.value) else float("nan")
            how = row.changed_how if isinstance(row.changed_how, str) else "conditions changed"
            found.append(
                {
                    "run": row.run, "setup": setup, "quantity": "change", "value": row.changed_at_s,
                    "usual": float("nan"), "difference": float("nan"), "pushes_k": size,
                    "words": f"{row.run}: {how} after {row.changed_at_s / 60:.1f} min; what "
                    "counts is where it settled from then on" + _push_words(size),
                }
            )  # fmt: skip
    return found


def _pair_texts(table: pd.DataFrame, expected: Sequence[str]) -> list[dict[str, object]]:
    """Return pairs that differ in day, in load or in what was logged."""
    found: list[dict[str, object]] = []
    names = list(dict.fromkeys(table["setup"]))
    days, loads, kinds = (
        {n: of(own) for n, own in table.groupby("setup", sort=False)[column]}
        if column in table
        else {}
        for column, of in (("started", _days), ("load", _named), ("sensors", _kinds))
    )

    def differ(a: str, b: str, quantity: str, words: str, *, meant: bool = False) -> None:
        nothing = dict.fromkeys(("value", "versus_value", "difference", "pushes_k"), float("nan"))
        pair = {"setup": a, "versus": b, "quantity": quantity, "expected": meant}
        found.append({**pair, "words": f"{a} and {b} {words}", **nothing})

    pairs = [(a, b) for i, a in enumerate(names) for b in names[:i]]
    for a, b in pairs if days else ():
        if days[a] and days[b] and not days[a] & days[b]:
            differ(a, b, "day", f"were run on different days ({min(days[a])}, {min(days[b])})")
    for a, b in pairs if loads else ():
        if loads[a] and loads[b] and not loads[a] & loads[b]:
            ran = "; ".join(", ".join(sorted(loads[name])) for name in (a, b))
            differ(a, b, "load", f"ran different loads ({ran})", meant="load_pct" in expected)
    for a, b in pairs if kinds else ():
        if apart := sorted(kinds[a] ^ kinds[b]):
            said = f"did not log the same: {', '.join(apart)} is in one of them only"
            differ(a, b, "sensors", said)
    return found


def _days(started: "pd.Series[Any]") -> set[str]:
    return set(started.dropna().astype(str).str[:10])


def _named(loads: "pd.Series[Any]") -> set[str]:
    return set(loads.dropna().astype(str)) - {""}


_KINDS = {
    ".power_w": "power", ".speed_rpm": "fan speed", ".clock_mhz": "clock", "room.": "room temperature",
    ".rate_per_s": "work done",
}  # fmt: skip


def _kinds(logged: "pd.Series[Any]") -> set[str]:
    """Return which of the quantities that a comparison needs were logged."""
    names = {str(name) for names in logged for name in names}
    return {
        words for mark, words in _KINDS.items()
        if any(n.startswith(mark) if mark.endswith(".") else n.endswith(mark) for n in names)
    }  # fmt: skip


def _corrected(table: pd.DataFrame, odd: set[object]) -> pd.DataFrame:
    rows = []
    powers = (
        table["power_w"].astype(float)
        if "power_w" in table.columns
        else pd.Series(np.nan, index=table.index)
    )
    powers = powers.where(powers > 0)
    common = float(powers.median()) if powers.notna().any() else float("nan")
    for name, runs in table.groupby("setup", sort=False):
        good = runs[~runs["run"].isin(odd)]
        room_c = runs["room_c"]
        at_equal = runs["value"] * common / powers[runs.index] + room_c
        rows.append(
            (
                name, float((runs["value"] + room_c).mean()), float(at_equal.mean()), len(runs), len(good),
                float((good["value"] + room_c[good.index]).mean()) if len(good) else float("nan"),
            )
        )  # fmt: skip
    return pd.DataFrame(
        rows, columns=["setup", "mean", "corrected_mean", "runs", "runs_left", "without_odd"]
    )
