"""The simulated chip's own control: boost, power limit, temperature limit."""

from gelassen.bench.simulated.parts import Processor

# Clock taken off per kelvin above the limit and second. Slow enough not to swing, fast enough to
# keep the overshoot below two kelvins.
_THERMAL_MHZ_PER_K_S = 5.0
_POWER_EXPONENT = 2.4  # power grows with about this power of the clock


class Governor:
    """Chooses the clock for the next step from what was measured in the last."""

    def __init__(self, processor: Processor, power_limit_w: float) -> None:
        self.processor = processor
        self.power_limit_w = power_limit_w
        self.clock_mhz = processor.base_clock_mhz
        self._average_w = 0.0
        self._thermal_cap_mhz = processor.top_clock_mhz
        self.throttle_count = 0

    def boost_mhz(self, hottest_c: float) -> float:
        """Return the clock that no limit reduces: a little lower when warm."""
        p = self.processor
        return p.top_clock_mhz - p.sag_mhz_per_k * max(hottest_c - 50, 0)

    def decide(self, *, loaded: bool, hottest_c: float, power_w: float, seconds: float) -> float:
        """Return the clock for the next step."""
        p = self.processor
        self._average_w += (power_w - self._average_w) * min(seconds / p.boost_s, 1.0)
        over = hottest_c - p.limit_c
        cap = self._thermal_cap_mhz - _THERMAL_MHZ_PER_K_S * over * seconds
        self._thermal_cap_mhz = min(max(cap, p.base_clock_mhz), self.boost_mhz(hottest_c))
        if not loaded:
            self.clock_mhz = p.base_clock_mhz
            return self.clock_mhz
        short = self._average_w < 0.97 * self.power_limit_w
        allowed_w = self.power_limit_w * (p.boost_factor if short else 1.0)
        by_power = max(self.clock_mhz, 1.0) * (allowed_w / max(power_w, 1.0)) ** (
            1 / _POWER_EXPONENT
        )
        wanted = min(self.boost_mhz(hottest_c), by_power)
        if self._thermal_cap_mhz < wanted:
            self.throttle_count += 1
            wanted = self._thermal_cap_mhz
        self.clock_mhz = max(wanted, p.base_clock_mhz)
        return self.clock_mhz
