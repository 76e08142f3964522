"""Which other part held a chip back, from the temperatures and powers of all parts."""

from collections.abc import Iterator, Mapping

import numpy as np
import pandas as pd

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.recording.part_series import part_level
from gelassen.core.throttling.other_part import OtherPart
from gelassen.core.throttling.thresholds import OtherParts
from gelassen.core.throttling.throttling_result import Throttling

_AIR = ("room", "case", "loop")  # temperatures of what cools: they hold nothing back


def find_other_part(
    times: Floats,
    frame: pd.DataFrame,
    loaded: Bools,
    throttling: Throttling,
    limits_c: Mapping[str, float],
    *,
    processor: bool,
    stated_limit: bool,
) -> OtherPart | None:
    """Return which other part explains that the chip was held back; None if none does.

    Parameters
    ----------
    times, frame, loaded
        Sample times in s, all channels, and which samples lie under load.
    throttling
        When something other than heat held the chip back.
    limits_c
        Temperature channel to its own limit in °C.
    processor
        Whether the chip is the processor, and not the graphics chip.
    stated_limit
        Whether a stated power limit of the chip is known: power at that limit needs no other cause.

    Notes
    -----
    There are three kinds of cause. First, a part with a stated limit that is near this limit while the
    chip is held back, and was not near it before. Second, another chip whose power rises at the moment at
    which this chip's power falls, by at least half as much. Third, a part without a stated limit that
    warmed until that moment, and has kept its temperature since.
    """
    held = throttling.power & loaded
    if held.sum() < OtherParts.FEWEST or (stated_limit and not throttling.mostly_other):
        return None
    own, other = ("cpu", "gpu") if processor else ("gpu", "cpu")
    names = [
        name for name in frame.columns
        if name.endswith(".temp_c") and name.split(".")[0] not in (own, *_AIR)
    ]  # fmt: skip
    at_limit = next(_at_their_limit(times, frame[names], held, loaded, limits_c), None)
    found = at_limit or _taking_power(times, frame, held, own, other)
    if found is None and throttling.mostly_other:
        return next(_staying(times, frame[names], held, loaded), None)
    return found


def _at_their_limit(
    times: Floats, frame: pd.DataFrame, held: Bools, loaded: Bools, limits_c: Mapping[str, float]
) -> Iterator[OtherPart]:
    """Yield the parts that are at their stated limit while the chip is held back, and not before."""
    before = loaded & (times < times[held][0])
    for name in frame.columns:
        if name not in limits_c:
            continue
        series = frame[name].to_numpy(dtype=float)
        near = series >= limits_c[name] - OtherParts.NEAR_K
        read = held & np.isfinite(series)  # it may be read less often than the chip
        if not read.any() or near[before].sum() > near.sum() / 2:
            continue
        if near[read].mean() >= OtherParts.MOSTLY:
            yield OtherPart(
                channel=name, at_c=float(np.median(series[read])), limit_c=limits_c[name],
                took_w=np.nan, from_s=float(times[held][0]),
            )  # fmt: skip


def _staying(times: Floats, frame: pd.DataFrame, held: Bools, loaded: Bools) -> Iterator[OtherPart]:
    """Yield the parts that warmed until the chip was held back, and stayed at that temperature since."""
    onset_s = float(times[held][0])
    before = loaded & (times < onset_s) & (times >= onset_s - OtherParts.WARMS_S)
    last = before & (times >= onset_s - OtherParts.AROUND_S)
    for name in frame.columns:
        series = frame[name].to_numpy(dtype=float)
        then = series[held & np.isfinite(series)]
        if not np.isfinite(series[last]).any() or not then.size:
            continue
        at_c = float(np.median(then))
        still = np.abs(then - at_c) <= OtherParts.STILL_K
        arrived = abs(float(np.nanmean(series[last])) - at_c) <= OtherParts.STILL_K / 2
        warmed = at_c - float(np.nanmin(series[before])) >= OtherParts.WARMS_K
        if still.mean() >= OtherParts.MOSTLY and arrived and warmed:
            yield OtherPart(channel=name, at_c=at_c, limit_c=np.nan, took_w=np.nan, from_s=onset_s)


def _taking_power(
    times: Floats, frame: pd.DataFrame, held: Bools, own: str, other: str
) -> OtherPart | None:
    """Return the other chip if its power rose by what this one lost, at the same moment."""
    power, theirs = part_level(frame, own, "power_w"), part_level(frame, other, "power_w")
    if power is None or theirs is None:
        return None
    onset_s, around_s = float(times[held][0]), OtherParts.AROUND_S
    before = (times >= onset_s - around_s) & (times < onset_s)
    after = held & (times >= onset_s) & (times <= onset_s + around_s)
    if not all(np.isfinite(one[when]).any() for one in (power, theirs) for when in (before, after)):
        return None
    took_w = float(np.nanmean(theirs[after]) - np.nanmean(theirs[before]))
    lost_w = float(np.nanmean(power[before]) - np.nanmean(power[after]))
    if not took_w >= max(OtherParts.TAKES * lost_w, OtherParts.TAKES_W) or lost_w <= 0:
        return None
    return OtherPart(
        channel=f"{other}.package.power_w", at_c=np.nan, limit_c=np.nan, took_w=took_w,
        from_s=onset_s,
    )  # fmt: skip
