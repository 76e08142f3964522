"""The heat of the simulated machine: capacities joined by conductances, stepped in time.

Equations
---------
Every body has ``C dT/dt = sum(G (T_neighbour - T)) + P``. Cores hang on the spreader one by one; from
there a chain leads over the cooler's body (and coolant) to the case air and the room; walls that
warm late may hang on the case air. Conductances from fins to air depend on fan speed and on their
own rise (see `parts.Cooler`), power on clock, voltage and temperature (see `parts.Processor`). One
implicit Euler step per second is stable for any constants, and its resting point is that of the
equations themselves; the shortest time constant, a core's (2 s), is smeared by about half a step.
Constants are textbook orders of magnitude for aluminium, copper and water, not any product's.
"""

import math
from bisect import bisect_right

import numpy as np
from numpy.typing import NDArray

from gelassen.bench.simulated.parts import Case, Cooler, FanCurve, Processor

Floats = NDArray[np.float64]
_STEFAN_BOLTZMANN = 5.670e-8  # W m⁻² K⁻⁴ (CODATA)
_EMISSIVITY = 0.85  # anodised aluminium
_FAN_S = 4.0  # a fan comes to speed in a few seconds
_STANDS_RPM = 20.0


class Heat:
    """Temperatures of all bodies, and how they change."""

    def __init__(
        self,
        processor: Processor,
        cooler: Cooler,
        curve: FanCurve,
        case: Case,
        *,
        room_c: float,
        contact_factor: float,
        core_spread: Floats,
    ) -> None:
        self.processor, self.cooler, self.curve, self.case = processor, cooler, curve, case
        self._contact_w_per_k = 1 / (cooler.contact_k_per_w * contact_factor)
        # No two cores are alike: some run a little hotter at the same clock.
        self._core_share = core_spread / core_spread.mean()
        self._core_out = processor.core_w_per_k / (1 + 0.5 * (self._core_share - 1))
        self._of_step: tuple[float, tuple[float, Floats, float]] | None = None
        self.cores_c = np.full(processor.cores, room_c)
        capacities = [processor.spreader_j_per_k, cooler.body_j_per_k]
        if cooler.coolant_j_per_k:
            capacities.append(cooler.coolant_j_per_k)
        self._capacities = [*capacities, case.air_j_per_k]
        self.chain_c = [room_c] * len(self._capacities)  # spreader, body, (coolant,) case air
        self.walls_c = room_c
        self.fan_rpm = self.duty_pct() / 100 * cooler.top_rpm

    @property
    def case_c(self) -> float:
        """Temperature of the case air."""
        return self.chain_c[-1]

    @property
    def coolant_c(self) -> float | None:
        """Temperature of the coolant, if there is one."""
        return self.chain_c[2] if self.cooler.coolant_j_per_k else None

    @property
    def hottest_c(self) -> float:
        """Temperature of the hottest core."""
        cores: list[float] = self.cores_c.tolist()  # a dozen: quicker than an array's own maximum
        return max(cores)

    def duty_pct(self) -> float:
        """Return the duty of the fan curve at the present package temperature."""
        temperatures, duties, hottest = (
            self.curve.temperatures_c,
            self.curve.duties_pct,
            self.hottest_c,
        )
        above = bisect_right(temperatures, hottest)
        if above in (0, len(temperatures)):
            return float(duties[min(above, len(duties) - 1)])
        left = above - 1
        slope = (duties[above] - duties[left]) / (temperatures[above] - temperatures[left])
        return slope * (hottest - temperatures[left]) + duties[left]

    def _turns_at(self) -> float:
        """Return the duty as the fan follows it: below its stall it stands, and then starts later."""
        duty = self.duty_pct()
        stands = self.fan_rpm < _STANDS_RPM
        return (
            0.0 if duty < (self.cooler.starts_pct if stands else self.cooler.stalls_pct) else duty
        )

    def volts(self, clock_mhz: float) -> float:
        """Return the voltage a clock needs."""
        p = self.processor
        share = (clock_mhz - p.base_clock_mhz) / (p.top_clock_mhz - p.base_clock_mhz)
        return p.volts_at_base + share * (p.volts_at_top - p.volts_at_base)

    def core_power_w(self, clock_mhz: float, activity: float | Floats) -> Floats:
        """Return the power of each core at its present temperature."""
        p = self.processor
        volts = self.volts(clock_mhz)
        switching = p.effective_capacitance_nf * 1e-9 * clock_mhz * 1e6 * volts * volts
        leakage = p.leakage_w_per_core * volts / p.volts_at_top
        warm = 1 + p.leakage_per_k * (self.cores_c - 60)
        np.maximum(warm, 0.3, out=warm)
        return np.asarray((switching * activity + leakage * warm) * self._core_share)

    def _fins_w_per_k(self, fins_c: float) -> float:
        rise = max(fins_c - self.case_c, 0.1)
        c = self.cooler
        forced = c.forced_w_per_k * (self.fan_rpm / 1000) ** 0.7
        natural = c.natural_w_per_k * (rise / 30) ** 0.25
        mean_k = 273.15 + (fins_c + self.case_c) / 2
        radiated = 4 * _STEFAN_BOLTZMANN * _EMISSIVITY * c.radiating_m2 * mean_k**3
        return float(forced + natural + radiated)

    def _cores_in(self, seconds: float) -> "tuple[float, Floats, float]":
        """Return what a step of this length asks of the cores; the same for every step of a run."""
        if self._of_step is None or self._of_step[0] != seconds:
            core_c = self.processor.core_j_per_k / seconds
            held = core_c / (core_c + self._core_out)  # share of a core's heat that stays for now
            self._of_step = (seconds, (core_c, held, float((self._core_out * held).sum())))
        return self._of_step[1]

    def step(
        self, core_w: Floats, room_c: float, seconds: float, *, fan_share: float = 1.0
    ) -> None:
        """Let this much time pass at this power (implicit Euler).

        The fan goes at most `fan_share` of the way to its curve: a smaller share finds the resting point of
        a steep curve, between whose ends the fan would jump otherwise.
        """
        wanted = self._turns_at() / 100 * self.cooler.top_rpm
        self.fan_rpm += (wanted - self.fan_rpm) * min(1 - math.exp(-seconds / _FAN_S), fan_share)
        links = [self._contact_w_per_k]
        if self.cooler.coolant_j_per_k:
            links.append(self.cooler.coolant_w_per_k)
        links += [self._fins_w_per_k(self.chain_c[-2]), self.case.to_room_w_per_k]

        core_c, held, through = self._cores_in(seconds)
        given = (core_c * self.cores_c + core_w) * (1 - held)

        # Chain bodies: (C/dt + links) T = C/dt T_old + power + links T_next, solved from the room up.
        size = len(self._capacities)
        diagonal = [self._capacities[k] / seconds + links[k] for k in range(size)]
        right = [self._capacities[k] / seconds * self.chain_c[k] for k in range(size)]
        diagonal[0] += through
        right[0] += float(given.sum()) + self.processor.uncore_w
        right[-1] += self.case.other_heat_w + links[-1] * room_c
        # Walls hang on the case air alone: solved for beforehand, they are one more term of its line.
        walls, onto = self.case.walls_j_per_k / seconds, self.case.walls_w_per_k
        kept = walls / (walls + onto)  # 0 where there are none
        diagonal[-1] += onto * kept
        right[-1] += onto * kept * self.walls_c
        for k in range(1, size):
            diagonal[k] += links[k - 1]
        for k in range(1, size):
            factor = links[k - 1] / diagonal[k - 1]
            diagonal[k] -= factor * links[k - 1]
            right[k] += factor * right[k - 1]
        chain = [0.0] * size
        chain[-1] = right[-1] / diagonal[-1]
        for k in range(size - 2, -1, -1):
            chain[k] = (right[k] + links[k] * chain[k + 1]) / diagonal[k]
        self.chain_c = chain
        self.walls_c = kept * self.walls_c + (1 - kept) * chain[-1]
        self.cores_c = (core_c * self.cores_c + core_w + self._core_out * chain[0]) / (
            core_c + self._core_out
        )
