"""Less power from some moment on: a boost that ended at a power limit, or a lighter load."""

import numpy as np

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.inputs import Floats
from gelassen.core.throttling.chip_log import ChipLog
from gelassen.core.throttling.thresholds import Throttling as At


def lighter_load(log: ChipLog, held: Floats) -> tuple[bool, tuple[Caution, ...]]:
    """Return whether a lighter load would look the same, and what to say of a boost that ended.

    `held` is the probability, at each sample, that a limit other than heat held the chip.
    """
    if log.power is None or log.allowed_w is not None or log.power_flag is not None:
        return False, ()
    limited = log.loaded & (held >= At.SURE)
    if not limited.any():
        return False, ()
    unclear = log.clock is None and log.load is None
    start_s, at_s = float(log.times[log.loaded][0]), float(log.times[limited][0])
    after = limited & np.isfinite(log.power)
    before = log.loaded & (log.times < at_s) & np.isfinite(log.power)
    before &= log.times > start_s + At.RISING_S
    if at_s - start_s > At.BOOST_ENDS_S or before.sum() < At.FEWEST_BOOSTED or not after.any():
        return unclear, ()
    from_w, to_w = (float(np.median(log.power[part])) for part in (before, after))
    if to_w > (1 - At.LOST) * from_w:
        return unclear, ()
    code = "boost_or_lighter_load" if unclear else "boost_ended"
    return unclear, (caution(code, from_w=from_w, to_w=to_w, at_s=float(log.times[before][-1])),)
