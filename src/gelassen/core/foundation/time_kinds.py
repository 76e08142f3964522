"""Time as callers have it: seconds, stamps, time differences, whole numbers since 1970."""

from typing import Any

import numpy as np

from gelassen.core.foundation.errors import InputError

_NS_PER_S = 1e9
# Whole numbers of at least this size are stamps since 1970 in this unit, from 1973 on: as seconds, they
# would be thousands of years.
_STAMPS = ((10**17, "ns"), (10**14, "us"), (10**11, "ms"))
_LONGEST_S = 20 * 366 * 86_400.0  # a log of more than twenty years has its time in another unit


def seconds_of(values: Any) -> Any:
    """Return times in s if they are stamps or time differences; numbers as they are.

    Stamps are counted from the first one that is not missing.

    Raises
    ------
    InputError
        Texts, or numbers that cannot be seconds.
    """
    found = np.asarray(_plain(values))
    if found.dtype.kind == "M":
        return _since_first(found)
    if found.dtype.kind == "m":
        return _seconds(found)
    if found.dtype.kind in "iu" and found.size and found.ndim == 1:
        low = int(found.min())
        unit = next((unit for least, unit in _STAMPS if low >= least), None)
        if unit is not None and int(found.max()) < 2**63:
            return _since_first(found.astype("int64").astype(f"datetime64[{unit}]"))
    if found.dtype.kind in "US":
        raise InputError(
            "time_s holds texts: make them times first, as pandas.to_datetime does, or pass seconds"
        )
    if found.dtype.kind in "iuf" and found.size > 1 and found.ndim == 1:
        finite = found[np.isfinite(found)]
        length = float(finite.max()) - float(finite.min()) if finite.size else 0.0
        if length > _LONGEST_S:
            raise InputError(
                f"time_s spans {length:.3g} s, which is more than twenty years: is it in ms, µs or ns? "
                "Pass seconds"
            )
    return values


def _plain(values: Any) -> Any:
    """Return stamps with a time zone, and datetimes among objects, as NumPy knows them."""
    if getattr(getattr(values, "dtype", None), "tz", None) is not None:  # pandas, with a time zone
        import pandas as pd

        return pd.DatetimeIndex(values).tz_convert("UTC").tz_localize(None)
    found = np.asarray(values)
    if found.dtype.kind != "O" or not found.size:
        return found
    first = next((one for one in found.flat if one is not None and one == one), None)
    if not (hasattr(first, "total_seconds") or hasattr(first, "isoformat")):
        return values
    import pandas as pd

    try:
        if hasattr(first, "total_seconds"):
            return pd.to_timedelta(found).to_numpy()
        return pd.to_datetime(found, utc=True).tz_localize(None).to_numpy()
    except (TypeError, ValueError, OverflowError) as error:
        raise InputError(f"time_s holds something that is no time: {error}") from None


def _since_first(stamps: Any) -> Any:
    there = stamps[~np.isnat(stamps)]
    return _seconds(stamps - there[0]) if there.size else np.full(stamps.shape, np.nan)


def _seconds(differences: Any) -> Any:
    numbers = differences.astype("timedelta64[ns]").astype("int64") / _NS_PER_S
    numbers[np.isnat(differences)] = np.nan
    return numbers
