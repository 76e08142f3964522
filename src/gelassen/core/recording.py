"""One recording: its readings as a table, and what is known about it."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import pandas as pd

PHASES = ("idle", "soak", "hold", "cooldown")


@dataclass(frozen=True, slots=True)
class Phase:
    """A stretch of a run; times in s from the start of the recording."""

    name: str
    start_s: float
    end_s: float
    ended_by: str = ""


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
        Index `t_s`, elapsed seconds; columns are channel names.
    started : datetime or None
        Wall-clock time of the start, with its offset.
    channels : mapping
        Channel name to original header and conversion.
    cautions : tuple of str
        What weakens the recording.
    limits_c : mapping
        Temperature channel to its own limit in °C, where one is known (regulators, graphics).
    """

    frame: "pd.DataFrame"
    started: datetime | None = None
    channels: Mapping[str, Origin] = field(default_factory=dict)
    cautions: tuple[str, ...] = ()
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

    def load_span_s(self) -> tuple[float, float] | None:
        """Return start and end of the load, from the phases; None if it has none."""
        loaded = [phase for phase in self.phases if phase.name in ("soak", "hold")]
        if not loaded:
            return None
        return loaded[0].start_s, loaded[-1].end_s
