"""Tracks missing readings: when each channel stopped and came back, and why."""

from collections.abc import Mapping

from gelassen.bench.interface import Bench

_EVENTS_A_CHANNEL = 6  # a channel that keeps failing is counted, but not reported again
_SHOWN = 6


class Faults:
    """Compares a bench's counts of failures from sample to sample."""

    def __init__(self, bench: Bench) -> None:
        self._bench = bench
        self._before = dict(bench.failures())
        self._failing: dict[str, float] = {}
        self._told: dict[str, int] = {}
        self._samples = 0

    def events(self, now_s: float) -> list[str]:
        """Return events of the sample just taken: channels that stopped or came back."""
        self._samples += 1
        failures = self._bench.failures()
        if not failures and not self._failing:
            return []
        reasons = self._bench.failure_reasons()
        silent: dict[str, list[str]] = {}
        for name, count in failures.items():
            if count > self._before.get(name, 0) and name not in self._failing:
                self._failing[name] = now_s
                if self._samples > 1 and self._tell(name):
                    silent.setdefault(reasons.get(name, ""), []).append(name)
        back = [
            name for name in self._failing if failures.get(name, 0) == self._before.get(name, 0)
        ]
        lines = [
            f"no reading from {_shown(names)}" + (f": {reason}" if reason else "")
            for reason, names in silent.items()
        ]
        told = [name for name in back if self._tell(name)]
        if told:
            longest_s = max(now_s - self._failing[name] for name in told)
            lines.append(f"reads again after {longest_s:.0f} s: {_shown(told)}")
        for name in back:
            del self._failing[name]
        self._before = dict(failures)
        return lines

    def _tell(self, name: str) -> bool:
        self._told[name] = self._told.get(name, 0) + 1
        return self._told[name] <= _EVENTS_A_CHANNEL

    def cautions(self) -> list[str]:
        """Return the cautions at the end of the run."""
        return told(self._bench.failures(), self._bench.failure_reasons(), self._samples)


def told(failures: Mapping[str, int], reasons: Mapping[str, str], samples: int) -> list[str]:
    """Return one line for each channel that failed, and one for all that never gave a value."""
    never = [name for name, count in failures.items() if count >= samples > 0]
    lines = [
        f"{name} failed {count} times; those readings are missing"
        + (f" ({reasons[name]})" if name in reasons else "")
        for name, count in failures.items()
        if name not in never
    ]
    if never:
        shown = [f"{name} ({reasons.get(name, 'no reason known')})" for name in never]
        lines.append(f"never read: {_shown(shown)}")
    return lines


def _shown(names: list[str]) -> str:
    more = f" and {len(names) - _SHOWN} more" if len(names) > _SHOWN else ""
    return ", ".join(names[:_SHOWN]) + more
