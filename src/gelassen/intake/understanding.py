"""How a log was understood, for people to check before it is stored."""

from dataclasses import dataclass

from gelassen.core.recording.recording import Recording
from gelassen.intake.text.cells import Decimal
from gelassen.intake.text.stamps import Order


@dataclass(frozen=True, slots=True)
class LogOptions:
    """What the user says about a log; None where it must be found."""

    encoding: str | None = None
    delimiter: str | None = None
    decimal: Decimal | None = None
    dates: Order | None = None
    zone: str | None = None
    part: int | None = None
    load_start_s: float | None = None
    load_end_s: float | None = None
    hold_s: tuple[float, float] | None = None
    draft: bool = False  # only an inspection: columns need not be known yet
    beside: bool = False  # one of several logs of a run: another may hold the temperatures


@dataclass(frozen=True, slots=True)
class ColumnWords:
    """One column: its meaning, and why."""

    header: str
    channel: str | None
    conversion: str = ""
    unit: str = ""
    confidence: str = ""
    why: str = ""
    only_named: bool = False  # only the name of its item was guessed
    is_mark: bool = False  # its words say what ran

    @property
    def is_left_alone(self) -> bool:
        """Whether nothing is made of it."""
        return self.channel is None and not self.is_mark and self.confidence != "time"


@dataclass(frozen=True, slots=True)
class Understanding:
    """How a log was read.

    Attributes
    ----------
    recording
        What came of it.
    columns
        One a column, in the order of the file, without the time.
    facts
        Encoding, delimiter, decimal mark, time and so on: name to words.
    left_out
        Reason, number of rows, their first lines, an example.
    absent
        Columns that the user named and this log does not have.
    zero_s
        What the log's own clock showed where its times begin, s: 0 unless that clock ran before.
    """

    recording: Recording
    columns: tuple[ColumnWords, ...]
    facts: dict[str, str]
    left_out: tuple[tuple[str, int, tuple[int, ...], str], ...] = ()
    time_headers: tuple[str, ...] = ()
    gaps: tuple[tuple[float, float], ...] = ()
    absent: tuple[str, ...] = ()
    zero_s: float = 0.0


def understood(recording: Recording, form: str = "a run of Gelassen") -> Understanding:
    """Return the understanding of a recording in our own format: nothing was guessed."""
    words = tuple(
        ColumnWords(origin.header, channel, origin.conversion, "", "sure")
        for channel, origin in recording.channels.items()
    )
    return Understanding(recording, words, {"form": form})
