"""The description of a load."""

from dataclasses import dataclass

from gelassen._plugins import plugins
from gelassen.bench.loads.kernels import kernel_names
from gelassen.core.foundation.counted import counted
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest

COMMAND = "command"
BY_HAND = "by hand"  # the tester starts and ends it


@dataclass(frozen=True, slots=True, kw_only=True)
class LoadSpec:
    """A load: which work, on which cores, for which share of the time.

    Attributes
    ----------
    name
        "matrix", "integer", "memory", or "command" for a program of the tester's own.
    workers
        How many cores; all if not given.
    cores
        Which: "0-3,6", "performance" or "efficiency"; the first ones if not given.
    duty_pct, period_s
        Share of each period in which it works, in %, and the length of a period.
    command, score
        The program with its arguments, and the expression that finds its score.
    """

    name: str = "matrix"
    workers: int | None = None
    cores: str | None = None
    duty_pct: float = 100.0
    period_s: float = 1.0
    command: tuple[str, ...] = ()
    score: str = ""

    def __post_init__(self) -> None:
        """Refuse impossible values."""
        known = [*kernel_names(), COMMAND, BY_HAND]
        if self.name not in known:
            why = plugins("gelassen.loads").broken.get(self.name)
            raise InputError(
                f'"{self.name}" is not a load ({", ".join(known)}).{nearest(self.name, known)}'
                if why is None
                else f'the load "{self.name}" of another package cannot be loaded: {why}'
            )
        if (self.name == COMMAND) != bool(self.command):
            raise InputError('the load "command" needs a program, and the others take none')
        if not 1 <= self.duty_pct <= 100:
            raise InputError(f"a duty of {self.duty_pct:g} % is asked for; 1 to 100 are possible")
        if not 0.01 <= self.period_s <= 600:
            raise InputError(
                f"a period of {self.period_s:g} s is asked for; 0.01 to 600 s are possible"
            )

    def __str__(self) -> str:
        parts = [" ".join(self.command) if self.name == COMMAND else self.name]
        if self.workers is not None:
            parts.append(counted(self.workers, "worker"))
        if self.cores is not None:
            parts.append(f"cores {self.cores}")
        if self.duty_pct < 100:
            parts.append(f"{self.duty_pct:g} % of each {self.period_s:g} s")
        return ", ".join(parts)
