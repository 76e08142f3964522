"""When a run must stop by itself: a temperature that must not be passed, or that cannot be watched."""

import math
from collections import deque
from collections.abc import Mapping, Sequence

from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest

# A limit that cannot be watched is a limit passed: so many samples without a reading stop the run.
_SILENT_SAMPLES = 2
_USUAL_STOP_C = 105.0
# A die follows its load within seconds: how fast it rises says something once that is over.
_SETS_IN_S = 30.0
# A slope is told from so many samples, and not from the flicker of whole degrees.
_SLOPE_SAMPLES, _SLOPE_LEAST_K = 4, 2.5
# A fan that ran at this speed is one that should run; below the other it stands.
_TURNS_RPM, _STANDS_RPM = 150.0, 30.0
_STANDS_SAMPLES = 2
_TURNED_SAMPLES = 5


class Guard:
    """Watches readings against what must not happen.

    Parameters
    ----------
    stop_c
        Channel to the temperature at which the run stops.
    channels
        What the bench can read.
    each
        Whether one watched channel that falls silent stops the run. If not, only the silence of all
        does: so it is where nobody chose the channels.
    rise_k_per_s
        How fast a watched temperature may rise under load, in K/s; None: as fast as it does.
    fans
        Fans that stop the run if they stop after turning under load; None for any.
    """

    def __init__(
        self, stop_c: Mapping[str, float], channels: Sequence[str], *, each: bool = True,
        rise_k_per_s: float | None = None, fans: Sequence[str] | None = (),
    ) -> None:  # fmt: skip
        for name in (*stop_c, *(fans or ())):
            if name not in channels:
                raise InputError(
                    f'the guard cannot watch "{name}": it is not a readable channel here.'
                    + nearest(name, channels)
                )
        self._stop_c = dict(stop_c)
        self._silent = dict.fromkeys(stop_c, 0)
        self._each = each
        self._rise_k_per_s = rise_k_per_s
        self._recent: dict[str, deque[tuple[float, float]]] = {
            name: deque(maxlen=_SLOPE_SAMPLES) for name in stop_c
        }
        if fans is None:
            # Pumps, too; but fans of graphics cards stop by themselves where they have little to do.
            turning = [n for n in channels if n.endswith(".speed_rpm") and "gpu" not in n]
            fans = [n for n in turning if n.startswith(("fan.", "loop."))]
        self._turned = dict.fromkeys(fans, 0)
        self._stands = dict.fromkeys(fans, 0)
        self._loaded_s: float | None = None

    def expect_rise(self, now_s: float) -> None:
        """Be told that the load begins or grows: temperatures rise quickly for a while."""
        self._loaded_s = now_s

    def unloaded(self) -> None:
        """Be told that the load is off: fans may stop, and what rises does not come from us."""
        self._loaded_s = None

    def reason_to_stop(self, values: Mapping[str, float], now_s: float = math.nan) -> str:
        """Return why the run must stop now; empty if it may go on."""
        return self._too_hot(values) or self._too_fast(values, now_s) or self._fan_stands(values)

    def coolest_margin_k(self, values: Mapping[str, float]) -> float:
        """Return how far the nearest watched temperature is below its stop; infinite if unknown."""
        left = [limit - values.get(name, math.nan) for name, limit in self._stop_c.items()]
        return min((k for k in left if not math.isnan(k)), default=math.inf)

    def _too_hot(self, values: Mapping[str, float]) -> str:
        for name, limit_c in self._stop_c.items():
            value = values.get(name, math.nan)
            if math.isnan(value):
                self._silent[name] += 1
                continue
            self._silent[name] = 0
            if value >= limit_c:
                return f"{name} reached {value:.1f} °C; the guard's limit is {limit_c:g} °C"
        blind = [name for name, count in self._silent.items() if count >= _SILENT_SAMPLES]
        if blind and (self._each or len(blind) == len(self._stop_c)):
            return (
                f"{blind[0]} gave no reading {_SILENT_SAMPLES} times in a row; "
                "the machine is not loaded without it"
            )
        return ""

    def _too_fast(self, values: Mapping[str, float], now_s: float) -> str:
        if self._rise_k_per_s is None or math.isnan(now_s):
            return ""
        sets_in = self._loaded_s is None or now_s - self._loaded_s < _SETS_IN_S
        for name, recent in self._recent.items():
            value = values.get(name, math.nan)
            if sets_in or math.isnan(value):
                recent.clear()
                continue
            recent.append((now_s, value))
            # From any of the last samples: a steep rise shows at its second one.
            for since_s, was in list(recent)[:-1]:
                slope = (value - was) / max(now_s - since_s, 1e-9)
                if value - was >= _SLOPE_LEAST_K and slope >= self._rise_k_per_s:
                    return (
                        f"{name} rose by {slope:.1f} K/s, to {value:.1f} °C; the guard allows "
                        f"{self._rise_k_per_s:g} K/s"
                    )
        return ""

    def _fan_stands(self, values: Mapping[str, float]) -> str:
        if self._loaded_s is None:
            self._stands = dict.fromkeys(self._stands, 0)
            self._turned = dict.fromkeys(self._turned, 0)
            return ""
        for name in self._turned:
            speed = values.get(name, math.nan)
            if speed >= _TURNS_RPM:
                self._turned[name] += 1
                self._stands[name] = 0
            elif speed < _STANDS_RPM and self._turned[name] >= _TURNED_SAMPLES:
                self._stands[name] += 1
                if self._stands[name] >= _STANDS_SAMPLES:
                    return (
                        f"{name} stands still ({speed:.0f} rpm); it turned before, under this load"
                    )
        return ""


def stop_temperatures(
    asked: Sequence[str], of_study: Mapping[str, float], names: Sequence[str]
) -> dict[str, float]:
    """Return the guard's limits: those asked for, else the study's, else 105 °C on all chips.

    `asked` are texts such as "cpu.package.temp_c=95".
    """
    limits = {} if asked else dict(of_study)
    for stop in asked:
        name, _, value = stop.partition("=")
        try:
            limits[name.strip()] = float(value)
        except ValueError:
            raise InputError(f'--stop "{stop}": write it like cpu.package.temp_c=95') from None
    for name in limits:
        if name not in names:
            raise InputError(
                f'the guard cannot watch "{name}": it is not a readable channel here.'
                + nearest(name, names)
            )
    if limits:
        return limits
    chips = [n for n in names if n.startswith(("cpu.", "gpu.")) and n.endswith(".temp_c")]
    return dict.fromkeys(chips, _USUAL_STOP_C)
