"""One recording: its readings as a table, and what is known about it."""

import html
from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from datetime import datetime
from typing import TYPE_CHECKING

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import as_series
from gelassen.core.foundation.printable import printable
from gelassen.core.foundation.time_kinds import seconds_of

if TYPE_CHECKING:
    from pathlib import Path

    import pandas as pd

PHASES = ("idle", "soak", "hold", "cooldown")
# What ends a phase: its time; what it waited for (rest, a known steady state, the end of a climb) or the
# longest time for that; the guard, the load or the user. In logs of others: found, or told by the tester.
ENDINGS = (
    "time", "rested", "known", "climbed", "time limit", "guard", "load", "user", "found", "told",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Phase:
    """A stretch of a run; times in s from the start of the recording.

    `ended_by` says in words what ended it, `ending` as one of `ENDINGS`; empty if that is not known.
    """

    name: str
    start_s: float
    end_s: float
    ended_by: str = ""
    ending: str = ""


@dataclass(frozen=True, slots=True)
class Event:
    """Something that happened at a moment of the run."""

    at_s: float
    text: str


@dataclass(frozen=True, slots=True)
class Origin:
    """Where a channel came from: the header it had, and what was done to its values."""

    header: str
    conversion: str = "as it is"


@dataclass(frozen=True, slots=True, kw_only=True)
class Recording:
    """Readings and what is known about them.

    Attributes
    ----------
    frame : DataFrame
        Index `t_s`, elapsed seconds; columns are channel names. Stamps and time differences in the index
        become seconds. Rows out of order are sorted, with a caution. InputError is raised where a row has
        no time or a column holds no numbers.
    started : datetime or None
        Wall-clock time of the start, with its offset.
    channels : mapping
        Channel name to original header and conversion.
    cautions : tuple of str
        What weakens the recording.
    limits_c : mapping
        Temperature channel to its own limit in °C, where one is known (regulators, graphics).
    mount : str or None
        Which mounting it was; runs with the same were not remounted between.
    load : str or None
        What kept the machine busy.
    protocol : str
        "steady"; "capacity": the power climbed during the load; "fan steps": a fan went through duties.
    levels : mapping
        Factor to its level in this run.
    by_hand : mapping
        What the tester read off a screen, for a run without samples.
    stated_room : (float, float), optional
        The room as the tester stated it for the whole run, °C, and its standard error, K.
    """

    frame: "pd.DataFrame"
    started: datetime | None = None
    channels: Mapping[str, Origin] = field(default_factory=dict)
    cautions: tuple[Caution, ...] = ()
    phases: tuple[Phase, ...] = ()
    events: tuple[Event, ...] = ()
    name: str = ""
    setup: str | None = None
    limit_c: float | None = None
    power_limit_w: float | None = None
    reference: str | None = None
    outcome: str = "finished"
    made_up: bool = False
    limits_c: Mapping[str, float] = field(default_factory=dict)
    mount: str | None = None
    protocol: str = "steady"
    load: str | None = None
    by_hand: Mapping[str, float] = field(default_factory=dict)
    levels: Mapping[str, str | float] = field(default_factory=dict)
    stated_room: tuple[float, float] | None = None

    def __post_init__(self) -> None:
        """Make the index seconds in order, and check that the table holds one number a reading."""
        import numpy as np
        import pandas as pd

        frame = self.frame
        for name in frame:
            if not pd.api.types.is_numeric_dtype(frame[name]):
                raise InputError(
                    f"{name} holds something that is not a number: make it numbers first, as "
                    "pandas.to_numeric does"
                )
        if frame.empty:
            return
        times = as_series("time_s", seconds_of(frame.index))
        if (missing := np.flatnonzero(np.isnan(times))).size:
            raise InputError(f"time_s has no value at sample {missing[0]}: leave such samples out")
        if frame.index.dtype.kind not in "iuf" or times[0] != frame.index[0]:
            frame = frame.set_axis(pd.Index(times, name="t_s"))
            object.__setattr__(self, "frame", frame)
        if (backward := np.flatnonzero(np.diff(times) < 0)).size:
            said = caution("times_run_backwards", at_s=float(times[backward[0]]))
            object.__setattr__(self, "frame", frame.iloc[np.argsort(times, kind="stable")])
            object.__setattr__(self, "cautions", (*self.cautions, said))

    def __repr__(self) -> str:
        """Return it in one line."""
        samples, channels = self.frame.shape
        length_s = float(self.frame.index[-1] - self.frame.index[0]) if samples else 0.0
        made_up = ", made-up data" if self.made_up else ""
        return (
            f"<Recording {self.name or 'without a name'}: {samples} samples of {channels} channels over "
            f"{length_s / 60:.1f} min{made_up}>"
        )

    def _repr_html_(self) -> str:
        """Return it for a notebook."""
        return f"<pre>{html.escape(printable(repr(self)[1:-1]))}</pre>"

    def __eq__(self, other: object) -> bool:
        """Return whether two recordings hold the same; missing readings are equal."""
        if not isinstance(other, Recording):
            return NotImplemented
        rest = [one.name for one in fields(self) if one.name != "frame"]
        same = all(getattr(self, name) == getattr(other, name) for name in rest)
        return same and bool(self.frame.equals(other.frame))

    __hash__ = None  # type: ignore[assignment]  # its table may be changed

    def table(self, *, tidy: bool = False) -> "pd.DataFrame":
        """Return the samples with `t_s` as a column: one column a channel, or tidy.

        A tidy table has one row a reading: t_s, channel, value.
        """
        wide = self.frame.reset_index(names="t_s")
        if not tidy:
            return wide
        long = wide.melt(id_vars="t_s", var_name="channel", value_name="value")
        return long.sort_values("t_s", kind="stable").dropna(subset="value").reset_index(drop=True)

    def to_csv(self, path: "str | Path | None" = None, *, tidy: bool = False) -> str | None:
        """Write the samples as CSV in UTF-8; return the text if no path is given."""
        text: str | None = self.table(tidy=tidy).to_csv(path, index=False, lineterminator="\n")
        return text

    def to_parquet(self, path: "str | Path", *, tidy: bool = False) -> None:
        """Write the samples as Parquet."""
        self.table(tidy=tidy).to_parquet(path, index=False)

    def load_span_s(self) -> tuple[float, float] | None:
        """Return start and end of the load, from the phases; None if it has none."""
        loaded = [phase for phase in self.phases if phase.name in ("soak", "hold")]
        if not loaded:
            return None
        return loaded[0].start_s, loaded[-1].end_s

    @property
    def only_rested(self) -> bool:
        """Whether its phases show that the run ended before any load began."""
        return bool(self.phases) and self.load_span_s() is None
