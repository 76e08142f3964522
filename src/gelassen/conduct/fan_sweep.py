"""Sweeps the duty of each fan at rest, and finds which fan it drives. Everything is put back."""

import math
from collections.abc import Callable, Collection, Mapping
from contextlib import nullcontext
from dataclasses import dataclass
from typing import Any

from gelassen.bench.interface import Bench
from gelassen.conduct.settings import Settings
from gelassen.conduct.watching.guard import Guard, stop_temperatures
from gelassen.core.foundation.errors import BenchError, InputError
from gelassen.core.foundation.progress import Progress
from gelassen.core.foundation.spelling import nearest
from gelassen.core.probing.fan_sweep import FanSweep, SweepStep, fan_sweeps
from gelassen.core.probing.thresholds import Sweep

# Duties from full to none, %: finer where fans stop.
_DOWN_PCT = (
    100.0,
    90.0,
    80.0,
    70.0,
    60.0,
    50.0,
    40.0,
    35.0,
    30.0,
    25.0,
    20.0,
    15.0,
    10.0,
    5.0,
    0.0,
)
_UP_PCT = tuple(sorted(d for d in _DOWN_PCT if d > 0))
_LOW_PCT = (0.0, 20.0, 40.0)
_LOOK_S = 1.0  # boards renew their readings about once a second
_LEAST_S = 8.0  # s before a speed counts as kept: a board may read its tachometers that late
_LONGEST_S = 20.0  # s: the slowest fans of 200 mm run down within these
# A speed is kept once the means of the last readings and of those before differ by no more than this.
_KEPT_READINGS, _KEPT_SHARE, _KEPT_RPM = 4, 0.007, 6.0
_STOPS_C = 85.0  # °C: no chip at rest is this hot, unless what was stopped was its pump
_RESTS_PCT = 20.0  # % load: above it the machine is not at rest, and stopping its fans is no test


@dataclass(frozen=True, slots=True, kw_only=True)
class SweptDuty:
    """What a sweep of one duty gave.

    Attributes
    ----------
    fans
        The fans that it drives; none if no speed followed it.
    refused
        Why the machine did not let it be set; empty if it did.
    heard
        What the tester typed about the sound, with its duty.
    """

    fans: tuple[FanSweep, ...]
    refused: str = ""
    heard: tuple[tuple[float, str], ...] = ()


def sweep_fans(
    bench: Bench,
    duties: Collection[str] = (),
    *,
    longest_s: float = _LONGEST_S,
    heard: Callable[[str, float], str] | None = None,
    progress: Callable[[Progress], None] | None = None,
) -> dict[str, SweptDuty]:
    """Sweep duties one after the other while the machine is at rest; return what each showed.

    The guard watches the temperatures all the time. Whatever happens, every duty is put back.

    Parameters
    ----------
    bench : Bench
        The machine.
    duties : collection of str
        Channels of the duties to sweep; all that can be set, if none is named.
    longest_s : float
        How long one duty is held at most, s.
    heard : callable, optional
        Asked at each duty while the fan turns at it: what the tester hears or meters.
    progress : callable, optional
        Told at each reading.

    Raises
    ------
    InputError
        A name that cannot be set here, or nothing that can.
    BenchError
        The guard ended it, the machine was not at rest, or something could not be put back.
    """
    chosen = duties_to_sweep(bench, duties)
    claim = getattr(bench, "claim", nullcontext)  # benches of others may have none
    found: dict[str, SweptDuty] = {}
    with claim():
        for name in chosen:
            left = len(chosen) - len(found)
            sweep = _Sweep(bench, name, longest_s, headers_left=left, progress=progress)
            found[name] = sweep.all(heard)
    return found


def fan_tables(found: Mapping[str, SweptDuty]) -> list[dict[str, Any]]:
    """Return sweeps as a study file keeps them: one table for each fan."""
    tables = []
    for swept in found.values():
        said = dict(swept.heard)
        for one in swept.fans:
            duties, speeds = one.turning
            words = [said.get(duty, "") for duty in duties]
            levels = [_level(word) for word in words]
            table: dict[str, Any] = {
                "channel": one.duty, "fan": one.fan, "duty_pct": list(duties),
                "rpm": [round(rpm, 1) for rpm in speeds], "stalls_pct": one.stalls_pct,
                "starts_pct": one.starts_pct,
                "noise_dba": ["" if x is None else x for x in levels] if any(levels) else None,
                "heard": [w if x is None else "" for w, x in zip(words, levels, strict=True)],
            }  # fmt: skip
            table["heard"] = table["heard"] if any(table["heard"]) else None
            tables.append({key: value for key, value in table.items() if value is not None})
    return tables


def _level(said: str) -> float | None:
    """Return the level somebody typed, dB(A); None for words."""
    try:
        level = float(said.lower().removesuffix("dba").removesuffix("db(a)").replace(",", "."))
    except ValueError:
        return None
    return level if math.isfinite(level) else None


def duties_to_sweep(bench: Bench, duties: Collection[str]) -> list[str]:
    """Return the duties to sweep: those named, else all that can be set.

    Raises
    ------
    InputError
        A name that cannot be set here, or nothing that can.
    """
    there = [name for name in bench.actuators() if name.endswith(".duty_pct")]
    if not there:
        raise InputError(
            "no duty of a fan can be set on this machine. As a rule only root may; gelassen channels says "
            "what is missing"
        )
    for name in duties:
        if name not in there:
            raise InputError(
                f'"{name}" is no duty that can be set here ({", ".join(there)}).'
                + nearest(name, there)
            )
    return [name for name in there if name in duties or not duties]


class _Sweep:
    """The sweep of one duty."""

    def __init__(
        self, bench: Bench, name: str, longest_s: float, *, headers_left: int,
        progress: Callable[[Progress], None] | None,
    ) -> None:  # fmt: skip
        names = [info.name for info in bench.channels() if info.readable]
        stops = dict.fromkeys(stop_temperatures((), {}, names), _STOPS_C)
        self._guard = Guard(stops, names, each=False)
        self._bench, self._name, self._longest_s = bench, name, longest_s
        self._progress = progress
        self._settings = Settings(bench, {})
        self._began_s = bench.now()
        self._left = headers_left * len(_DOWN_PCT)
        self._refused = ""

    def all(self, heard: Callable[[str, float], str] | None) -> SweptDuty:
        """Go down, and up again if a fan stopped; put the duty back in any case."""
        try:
            found = self._swept(heard)
        finally:
            problems = self._settings.put_back()
        if problems:
            raise BenchError(". ".join(problems))
        return found

    def _swept(self, heard: Callable[[str, float], str] | None) -> SweptDuty:
        full = self._held(_DOWN_PCT[0], falling=True)
        if full is None:
            return SweptDuty(fans=(), refused=self._refused)
        # Some boards refuse duties near zero.
        low = next((s for d in _LOW_PCT if (s := self._held(d, falling=True)) is not None), full)
        if not fan_sweeps(self._name, [full, low]):
            return SweptDuty(fans=())
        steps: list[SweepStep] = []
        said: list[tuple[float, str]] = []
        for duty in _DOWN_PCT:
            step = self._held(duty, falling=True)
            if step is None:
                break
            steps.append(step)
            if heard is not None and any(_turns(rpm) for rpm in step.rpm.values()):
                said.append((duty, heard(self._name, duty)))
        stopped = [f.fan for f in fan_sweeps(self._name, steps) if f.stalls_pct is not None]
        for duty in _UP_PCT if stopped else ():
            step = self._held(duty, falling=False)
            steps += [step] if step is not None else []
            if step is not None and all(_turns(step.rpm[fan]) for fan in stopped):
                break
        return SweptDuty(fans=fan_sweeps(self._name, steps), heard=tuple(said))

    def _held(self, duty: float, *, falling: bool) -> SweepStep | None:
        """Hold a duty until every fan keeps its speed; None if the machine does not take it."""
        try:
            self._settings.set_now(self._name, duty)
        except BenchError as error:
            self._refused = str(error)
            return None
        since_s = self._bench.now()
        seen: list[dict[str, float]] = []
        while True:
            self._bench.sleep(_LOOK_S)
            seen.append(self._read(duty))
            held_s = self._bench.now() - since_s
            if held_s >= self._longest_s or (held_s >= _LEAST_S and _kept(seen)):
                break
        self._left -= 1
        late = seen[-_KEPT_READINGS:]
        mean = {name: sum(one[name] for one in late) / len(late) for name in late[-1]}
        return SweepStep(duty_pct=duty, falling=falling, rpm=mean)

    def _read(self, duty: float) -> dict[str, float]:
        values, now_s = self._bench.read(), self._bench.now()
        if why := self._guard.reason_to_stop(values, now_s):
            raise BenchError(f"the sweep was ended: {why}")
        load = values.get("cpu.all.load_pct", math.nan)
        if load > _RESTS_PCT:
            raise BenchError(
                f"the sweep was ended: the processor is {load:.0f} % busy, and fans are stopped only "
                "while the machine is at rest. Close what runs, and start again"
            )
        if self._progress is not None:
            self._progress(
                Progress(
                    phase="sweep",
                    elapsed_s=now_s - self._began_s,
                    left_s=max(self._left, 1) * (_LEAST_S + _LOOK_S),
                    readings=values,
                    waits_for=f"{self._name} at {duty:g} %",
                )
            )
        return {name: value for name, value in values.items() if name.endswith(".speed_rpm")}


def _turns(rpm: float) -> bool:
    return rpm >= Sweep.STANDS_RPM


def _kept(seen: list[dict[str, float]]) -> bool:
    """Return whether all fans kept their speed over the last readings."""
    late, before = seen[-_KEPT_READINGS:], seen[-2 * _KEPT_READINGS : -_KEPT_READINGS]
    if len(before) < _KEPT_READINGS:
        return False
    for name in late[-1]:
        now, then = (math.fsum(one.get(name, math.nan) for one in part) for part in (late, before))
        allowed = _KEPT_READINGS * max(_KEPT_SHARE * now / _KEPT_READINGS, _KEPT_RPM)
        if abs(now - then) > allowed:  # a fan that is not read keeps nobody waiting
            return False
    return True
