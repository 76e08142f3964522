"""The interface of every bench: channels, readings, actuators, loads, a clock."""

from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from typing import Protocol

from gelassen.bench.loads.spec import LoadSpec


@dataclass(frozen=True, slots=True, kw_only=True)
class ChannelInfo:
    """One channel of a bench.

    Attributes
    ----------
    name
        The channel name.
    what
        What it is, in words, with the label the machine gives it.
    source
        Where it is read: a file, an instrument, a formula.
    resolution
        Smallest step in the channel's unit; None if unknown.
    readable
        False if it is offered but will not be read, for want of permission.
    problem
        Why it gives no reading now, and what to do; empty if it does.
    limits
        Limits the machine states for it, by the kernel's word for them ("max", "crit"), in the
        channel's unit.
    offset
        What the tester has added to its readings.
    """

    name: str
    what: str
    source: str = ""
    resolution: float | None = None
    readable: bool = True
    problem: str = ""
    limits: Mapping[str, float] = field(default_factory=dict)
    offset: float = 0.0


class Actuator(Protocol):
    """Something that can be set, and must be put back."""

    @property
    def name(self) -> str:
        """The channel name of what is set."""
        ...

    @property
    def what(self) -> str:
        """What it is, in words."""
        ...

    @property
    def low(self) -> float:
        """The least value, in the channel's unit."""
        ...

    @property
    def high(self) -> float:
        """The greatest value."""
        ...

    def read(self) -> float:
        """Return the present setting."""
        ...

    def set(self, value: float) -> None:
        """Change the setting; raise BenchError if the machine does not take it."""
        ...

    def check(self) -> str:
        """Return what has become of a changed setting, if the machine changed it since."""
        ...

    def restore(self) -> None:
        """Put back what was there before the first `set`; BenchError if that fails."""
        ...


class Load(Protocol):
    """Work that keeps the machine busy."""

    @property
    def workers(self) -> int:
        """How many workers it has."""
        ...

    def start(self) -> None:
        """Begin to work."""
        ...

    def use(self, workers: int) -> None:
        """Let only this many workers work from now on; 0 is a pause."""
        ...

    def stop(self) -> None:
        """Stop within a second and leave nothing running. It is harmless if not started."""
        ...

    def problem(self) -> str:
        """Return why the load no longer works correctly; empty while it does."""
        ...


class Bench(Protocol):
    """A machine under test, real or simulated."""

    def channels(self) -> Sequence[ChannelInfo]:
        """Return what can be logged, and what is missing with the reason."""
        ...

    def read(self) -> Mapping[str, float]:
        """Return one value per readable channel; NaN where a sensor failed."""
        ...

    def failures(self) -> Mapping[str, int]:
        """Return how often each channel failed so far."""
        ...

    def failure_reasons(self) -> Mapping[str, str]:
        """Return why each channel failed last, in a few words."""
        ...

    def news(self) -> Sequence[str]:
        """Return what else happened since the last call, such as a clock that was moved."""
        ...

    def actuators(self) -> Mapping[str, Actuator]:
        """Return what can be set, by channel name."""
        ...

    def load(self, spec: LoadSpec | str, *, workers: int | None = None) -> Load:
        """Return a load, ready to start; from then on its channels are among the bench's.

        A name alone means that load on all cores, or on `workers` cores. Raises InputError for a load that
        this bench does not have.
        """
        ...

    def claim(self) -> AbstractContextManager[None]:
        """Keep other processes from loading or changing this machine during a ``with``.

        Raises InUseError if another process has it.
        """
        ...

    def now(self) -> float:
        """Return the bench's clock in s; it never runs backwards."""
        ...

    def sleep(self, seconds: float) -> None:
        """Let this much of the bench's time pass."""
        ...
