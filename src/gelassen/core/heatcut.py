"""A governor that cuts the clock at the limit and gives it back once the chip has cooled."""

import numpy as np

from gelassen.core.flags import spans_of, usual_gap_s, within
from gelassen.core.inputs import Bools, Floats

# The clock is cut within this of reaching the limit, and given back no further below it than this: what
# has cooled by more has rested meanwhile.
_AT_CUT_S, _GIVEN_BACK_WITHIN_K, _CUTS_AGAIN_WITHIN_K = 5.0, 20.0, 10.0
# A cut is sudden; a power limit that follows on being held back by heat finds the clock lowered already.
_SUDDEN_SHARE = 0.03


def cut_by_heat(
    times: Floats, temperature: Floats, clock: Floats, slow: Bools, near: Bools, loaded: Bools
) -> Bools:
    """Return the stretches of low clock that began at the temperature limit and ended below it.

    A stretch that lasts to the end of the load counts if others before it were given back.

    Parameters
    ----------
    times, temperature, clock : ndarray, shape (n,)
        Sample times in s, temperature in °C, clock in MHz.
    slow, near, loaded : ndarray of bool, shape (n,)
        Where the clock is below its best, the temperature near its limit, the machine under load.
    """
    cut = np.zeros(times.size, dtype=bool)
    given_back = False
    if not near.any():
        return cut
    reach_s = max(_AT_CUT_S, 1.5 * usual_gap_s(times))
    hottest = float(np.nanmax(temperature))
    for start, end in spans_of(times, slow):
        around = within(times, start - reach_s, start + 2)
        # Once a cut was given back, those that slow readings catch a little later are cuts, too.
        warm = temperature[around] >= hottest - _CUTS_AGAIN_WITHIN_K
        if not (warm if given_back else near[around]).any():
            continue
        before = clock[within(times, start - reach_s, start - 1.5)]
        after = clock[within(times, start, min(start + reach_s, end))]
        if not (np.isfinite(before).any() and np.isfinite(after).any()):
            continue
        if np.nanmedian(after) > (1 - _SUDDEN_SHARE) * np.nanmax(before):
            continue
        works_on = loaded[within(times, end, end + reach_s)][1:].any()
        at_end = temperature[within(times, end - 2, end)]
        given_back |= bool(works_on and (at_end > hottest - _GIVEN_BACK_WITHIN_K).any())
        if given_back:
            cut[within(times, start, end)] = True
    return cut
