"""A simulated bench: a stand-in for hardware, with real physics and known truth.

The heat is described in `physics.py`, the chip's control in `governor.py`, the made-up parts in
`parts.py`. Sensors here: cores and package in whole degrees, with noise that lasts a few seconds; room
and case air in tenths; clocks, power, fan speed with small scatter. Time is virtual: `sleep`
computes what happens meanwhile, so half an hour passes in a fraction of a second.
"""

from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np

from gelassen.bench.interface import Actuator, ChannelInfo, Load
from gelassen.bench.loads.spec import BY_HAND, COMMAND, LoadSpec
from gelassen.bench.simulated.governor import Governor
from gelassen.bench.simulated.parts import CASES, Case, Cooler, FanCurve, Processor, Room
from gelassen.bench.simulated.physics import Heat
from gelassen.bench.simulated.settable import FanDuty, PowerLimit
from gelassen.core.foundation.errors import InputError

# Switching of each kind of work against the heaviest, made up in a plausible order.
_INTENSITY = {"matrix": 1.0, "integer": 0.7, "memory": 0.5}
_STEP_S = 1.0
_NOISE_MEMORY_S = 3.0
_CORE_NOISE_K = 0.35
_FAN_SHARE = 0.2  # of the way that a fan goes in a step towards rest
_LOAD_WANDER = 0.004  # share of the work; no load is perfectly even
_LOAD_MEMORY_S = 60.0
_ROOM_MEMORY_S = 1200.0


@lru_cache
def _kept(seconds: float, memory_s: float) -> float:
    """Return the share of a wandering quantity that is left after this time."""
    return float(np.exp(-seconds / memory_s))


@dataclass(frozen=True, slots=True, kw_only=True)
class Truth:
    """The noise-free steady state under load, in a room at its mean temperature."""

    hottest_core_c: float
    package_c: float
    case_air_c: float
    room_c: float
    power_w: float
    clock_mhz: float
    fan_rpm: float
    at_limit: bool

    @property
    def rise_k(self) -> float:
        """Rise of the hottest core over the room."""
        return self.hottest_core_c - self.room_c


class SimulatedBench:
    """A made-up machine on a bench that obeys physics. Implements `gelassen.bench.Bench`.

    Parameters
    ----------
    cooler, curve, case, room, processor
        The parts; see `parts.py` for those of the sample scenario.
    power_limit_w : float
        Long-term package power limit, in W.
    remount_spread : float
        Standard deviation of the paste joint's resistance from mount to mount, as a share.
    seed : int
        Everything random follows from it: the same seed gives the same readings.
    """

    def __init__(
        self,
        *,
        cooler: Cooler,
        curve: FanCurve,
        power_limit_w: float = 125.0,
        case: Case = CASES["closed"],
        room: Room | None = None,
        processor: Processor | None = None,
        remount_spread: float = 0.08,
        seed: int = 0,
    ) -> None:
        self._processor = processor or Processor()
        self._room = room or Room()
        # The chip stays the same from mount to mount; only the joint and the noise change.
        spread = np.random.default_rng(12).normal(1.0, 0.04, self._processor.cores)
        self._random = np.random.default_rng(seed)
        self._contact = float(np.exp(self._random.normal(0.0, remount_spread)))
        self._wander_c = 0.0
        self._parts = (cooler, curve, case)
        self._spread = spread
        self._now_s = 0.0
        self._busy = 0  # cores at work
        self._intensity = 1.0
        self._work = 0.0
        self._activity = 1.0
        self._noise = np.zeros(self._processor.cores)
        cores = range(self._processor.cores)
        self._temp_names = [f"cpu.core{k}.temp_c" for k in cores]
        self._clock_names = [f"cpu.core{k}.clock_mhz" for k in cores]
        self._heat = self._new_heat(self.room_c())
        self._governor = Governor(self._processor, power_limit_w)
        self._power_w = 0.0
        self._limit = PowerLimit(self._governor)
        self._duty = FanDuty(lambda: self._parts[1], lambda curve: self.change(curve=curve))
        self._settle_idle()

    def _new_heat(self, start_c: float) -> Heat:
        cooler, curve, case = self._parts
        return Heat(
            self._processor,
            cooler,
            curve,
            case,
            room_c=start_c,
            contact_factor=self._contact,
            core_spread=self._spread,
        )

    def _settle_idle(self) -> None:
        """Begin from rest: the machine has idled for long."""
        p = self._processor
        for seconds in (*[10.0] * 30, *[1e6] * 30):
            core_w = self._heat.core_power_w(p.base_clock_mhz, p.idle_share)
            self._heat.step(core_w, self.room_c(), seconds)
        self._power_w = float(core_w.sum()) + p.uncore_w

    def room_c(self) -> float:
        """Return the true temperature of the room now."""
        r = self._room
        wave = r.wave_k * np.sin(2 * np.pi * (self._now_s / r.wave_s + r.phase))
        return float(r.mean_c + wave + self._wander_c)

    # -- the interface of a bench ---------------------------------------------------------------

    def channels(self) -> Sequence[ChannelInfo]:
        """Return what can be logged."""
        p = self._processor
        simulated = "simulated"

        def info(name: str, what: str, resolution: float) -> ChannelInfo:
            return ChannelInfo(name=name, what=what, source=simulated, resolution=resolution)

        infos = [info("cpu.package.temp_c", "hottest place of the processor", 1.0)]
        infos += [info(f"cpu.core{k}.temp_c", f"core {k}", 1.0) for k in range(p.cores)]
        infos += [info(f"cpu.core{k}.clock_mhz", f"clock of core {k}", 1.0) for k in range(p.cores)]
        infos += [
            info("cpu.package.power_w", "package power", 0.125),
            info("cpu.package.throttle_count", "thermal events so far", 1.0),
            info("cpu.all.load_pct", "load over all cores", 0.1),
            info("fan.cpu.speed_rpm", "fan on the cooler", 1.0),
            info("fan.cpu.duty_pct", "duty of the fan curve", 1.0),
            info("case.air.temp_c", "air in the box", 0.1),
            info("room.air.temp_c", "room air in front of the intake", 0.1),
            info("load.work.rate_per_s", "rounds of work per second", 0.01),
        ]
        if self._heat.coolant_c is not None:
            infos.append(info("loop.coolant.temp_c", "coolant", 0.1))
        return infos

    def read(self) -> Mapping[str, float]:
        """Return one value per channel, as the sensors show them."""
        p, heat, random = self._processor, self._heat, self._random
        seen = np.rint(heat.cores_c + self._noise)
        clock = self._governor.clock_mhz
        clocks = np.rint(clock + 3.0 * random.standard_normal(p.cores))
        small = random.standard_normal(6).tolist()  # plain numbers round ten times as fast
        load = max(100.0 * self._busy / p.cores, 1.0)
        cores: list[float] = seen.tolist()
        values = {"cpu.package.temp_c": max(cores)}
        values.update(zip(self._temp_names, cores, strict=True))
        values.update(zip(self._clock_names, clocks.tolist(), strict=True))
        values["cpu.package.power_w"] = round((self._power_w * (1 + 0.003 * small[0])) * 8) / 8
        values["cpu.package.throttle_count"] = float(self._governor.throttle_count)
        values["cpu.all.load_pct"] = round(min(load + abs(small[1]) * 0.3, 100.0), 1)
        fan = heat.fan_rpm
        values["fan.cpu.speed_rpm"] = float(max(round(fan + 6 * small[2]), 0)) if fan > 0 else 0.0
        values["fan.cpu.duty_pct"] = float(round(heat.duty_pct())) if fan > 0 else 0.0
        values["case.air.temp_c"] = round(heat.case_c + 0.06 * small[3], 1)
        values["room.air.temp_c"] = round(self.room_c() + 0.05 * small[4], 1)
        values["load.work.rate_per_s"] = round(self._work, 2)
        if heat.coolant_c is not None:
            values["loop.coolant.temp_c"] = round(heat.coolant_c + 0.06 * small[5], 1)
        return values

    def failures(self) -> Mapping[str, int]:
        """Return no failures: simulated sensors do not fail."""
        return {}

    def failure_reasons(self) -> Mapping[str, str]:
        """Return nothing: simulated sensors do not fail."""
        return {}

    def news(self) -> Sequence[str]:
        """Return nothing: the virtual clock cannot be moved."""
        return ()

    def actuators(self) -> Mapping[str, Actuator]:
        """Return what can be set: the power limit, and the duty of the fan if there is one."""
        if not self._parts[0].top_rpm:
            return {self._limit.name: self._limit}
        return {self._limit.name: self._limit, self._duty.name: self._duty}

    def load(self, spec: LoadSpec | str, *, workers: int | None = None) -> Load:
        """Return an even load on some or all cores; a duty counts as its mean."""
        if isinstance(spec, str):
            spec = LoadSpec(name=spec, workers=workers)
        if spec.name in (COMMAND, BY_HAND):  # a program that is not there to be run
            spec = LoadSpec(workers=spec.workers)
        if spec.name not in _INTENSITY:
            known = ", ".join(_INTENSITY)
            raise InputError(
                f'"{spec.name}" is not a load of the simulated bench (allowed: {known})'
            )
        cores = self._processor.cores
        if spec.workers is not None and not 1 <= spec.workers <= cores:
            raise InputError(f"{spec.workers} workers asked for; 1 to {cores} are possible here")
        return _SimulatedLoad(
            self, spec.workers or cores, _INTENSITY[spec.name] * spec.duty_pct / 100
        )

    def claim(self) -> AbstractContextManager[None]:
        """Keep nobody away: each simulated bench is its own machine."""
        return nullcontext()

    def now(self) -> float:
        """Return the virtual time, in s."""
        return self._now_s

    def sleep(self, seconds: float) -> None:
        """Compute what happens in this time."""
        left = seconds
        while left > 1e-9:
            step = min(_STEP_S, left)
            self._advance(step)
            left -= step

    # -- physics ----------------------------------------------------------------------------------

    def work_on(self, cores: int, intensity: float = 1.0) -> None:
        """Let this many cores work at this share of the heaviest work."""
        self._busy = min(cores, self._processor.cores)
        self._intensity = intensity

    def _advance(self, seconds: float) -> None:
        p, heat, random = self._processor, self._heat, self._random
        self._now_s += seconds
        draw = random.standard_normal(p.cores + 2)
        of_room, of_load = draw[:2].tolist()
        keep = _kept(seconds, _NOISE_MEMORY_S)
        self._noise = keep * self._noise + _CORE_NOISE_K * (1 - keep**2) ** 0.5 * draw[2:]
        keep = _kept(seconds, _ROOM_MEMORY_S)
        self._wander_c = (
            keep * self._wander_c + self._room.wander_k * (1 - keep**2) ** 0.5 * of_room
        )
        keep = _kept(seconds, _LOAD_MEMORY_S)
        self._activity = (
            1 + keep * (self._activity - 1) + _LOAD_WANDER * (1 - keep**2) ** 0.5 * of_load
        )
        clock = self._governor.decide(
            loaded=self._busy > 0, hottest_c=heat.hottest_c, power_w=self._power_w, seconds=seconds
        )
        activity = self._switching(self._busy, self._activity)
        core_w = heat.core_power_w(clock, activity)
        heat.step(core_w, self.room_c(), seconds)
        self._power_w = float(core_w.sum()) + p.uncore_w
        self._work = clock * self._busy / 1000 * self._activity

    def _switching(self, busy: int, activity: float) -> "float | np.ndarray[Any, Any]":
        """Return the present share of the heaviest work, for all cores or for each."""
        p, working = self._processor, activity * self._intensity
        if 0 < busy < p.cores:
            return np.where(np.arange(p.cores) < busy, working, p.idle_share)
        return working if busy else p.idle_share

    def change(self, *, curve: FanCurve | None = None, case: Case | None = None) -> None:
        """Change the fan curve or the box around the cooler, now: what is warm stays warm."""
        cooler, old_curve, old_case = self._parts
        self._parts = (cooler, curve or old_curve, case or old_case)
        self._heat.curve, self._heat.case = self._parts[1:]

    def truth(self, *, room_c: float | None = None) -> Truth:
        """Return the noise-free steady state under load at the present mount and power limit.

        In a room at `room_c`, or at the mean of its own room if not given. The load is the present one; of
        an idle machine, all cores at the heaviest work.

        The clock is the highest one at which neither boost, power limit nor temperature limit is
        passed; found by bisection, since all three only get tighter as the clock rises.
        """
        p, limit_w = self._processor, self._governor.power_limit_w
        air_c = self._room.mean_c if room_c is None else room_c
        low, high = p.base_clock_mhz, p.top_clock_mhz
        for _ in range(40):
            clock = (low + high) / 2
            heat, power = self._rest(clock, air_c)
            free = (
                clock <= self._governor.boost_mhz(heat.hottest_c)
                and power <= limit_w
                and heat.hottest_c <= p.limit_c
            )
            low, high = (clock, high) if free else (low, clock)
        heat, power = self._rest(low, air_c)
        return Truth(
            hottest_core_c=heat.hottest_c,
            package_c=heat.hottest_c,
            case_air_c=heat.case_c,
            room_c=air_c,
            power_w=power,
            clock_mhz=low,
            fan_rpm=heat.fan_rpm,
            at_limit=heat.hottest_c > p.limit_c - 0.05,
        )

    def _rest(self, clock_mhz: float, room_c: float) -> tuple[Heat, float]:
        """Return the machine at rest at this clock: implicit steps of endless length."""
        heat = self._new_heat(self._heat.case_c)
        heat.cores_c = self._heat.cores_c.copy()
        heat.chain_c = list(self._heat.chain_c)
        cores = self._busy or self._processor.cores
        for _ in range(60):
            core_w = heat.core_power_w(clock_mhz, self._switching(cores, 1.0))
            # With thermal runaway there is no rest. A value far beyond every limit is enough.
            heat.step(core_w, room_c, 1e9, fan_share=_FAN_SHARE)
            if heat.hottest_c > 400:
                break
        return heat, float(core_w.sum()) + self._processor.uncore_w


class _SimulatedLoad:
    """An even load on simulated cores."""

    def __init__(self, bench: SimulatedBench, workers: int, intensity: float) -> None:
        self._bench = bench
        self._active = workers
        self._intensity = intensity
        self.workers = workers

    def start(self) -> None:
        self._bench.work_on(self._active, self._intensity)

    def use(self, workers: int) -> None:
        self._active = workers
        self._bench.work_on(workers, self._intensity)

    def stop(self) -> None:
        self._bench.work_on(0)

    def problem(self) -> str:
        return ""
