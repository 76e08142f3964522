"""When a run must stop by itself: a temperature that must not be passed."""

import math
from collections.abc import Mapping, Sequence

from gelassen.core.errors import InputError
from gelassen.core.spelling import nearest

# A limit that cannot be watched is a limit passed: so many samples without a reading stop the run.
_SILENT_SAMPLES = 5
_USUAL_STOP_C = 105.0


class Guard:
    """Watches readings against stop temperatures.

    Parameters
    ----------
    stop_c
        Channel to the temperature at which the run stops.
    channels
        What the bench can read.
    each
        Whether one watched channel that falls silent stops the run. If not, only the silence of all
        does: so it is where nobody chose the channels.
    """

    def __init__(
        self, stop_c: Mapping[str, float], channels: Sequence[str], *, each: bool = True
    ) -> None:
        for name in stop_c:
            if name not in channels:
                raise InputError(
                    f'the guard cannot watch "{name}": it is no readable channel here.'
                    + nearest(name, channels)
                )
        self._stop_c = dict(stop_c)
        self._silent = dict.fromkeys(stop_c, 0)
        self._each = each

    def reason_to_stop(self, values: Mapping[str, float]) -> str:
        """Return why the run must stop now; empty if it may go on."""
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
                "what cannot be watched is not loaded"
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
                f'the guard cannot watch "{name}": it is no readable channel here.'
                + nearest(name, names)
            )
    if limits:
        return limits
    chips = [n for n in names if n.startswith(("cpu.", "gpu.")) and n.endswith(".temp_c")]
    return dict.fromkeys(chips, _USUAL_STOP_C)
