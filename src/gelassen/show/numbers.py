"""Numbers for people, with no more digits than are known, and words where there is no number."""

import math

CANNOT_TELL = "cannot tell"


def digits_of(unit: str) -> int:
    """Return how many decimals to show for a channel in this unit."""
    if unit in ("mhz", "rpm", "count", "flag", "ms"):
        return 0
    return 2 if unit in ("v", "a") else 1


def fixed(value: float, digits: int = 1, unit: str = "") -> str:
    """Return a number with its unit; a dash where there is none."""
    if value is None or math.isnan(value):
        return "–"
    text = f"{value:.{digits}f}"
    if text.lstrip("-").strip("0.") == "":
        text = text.lstrip("-")  # no "-0.0"
    return f"{text} {unit}".rstrip()


def signed(value: float, digits: int = 1) -> str:
    """Return a difference with its sign; a dash where there is none."""
    if math.isnan(value) or not round(value, digits):
        return fixed(value, digits)
    return f"{value:+.{digits}f}"


def signed_interval(low: float, high: float, digits: int = 1) -> str:
    """Return an interval of differences with their signs, with open ends named."""
    if not (math.isfinite(low) or math.isfinite(high)):
        return CANNOT_TELL
    if not math.isfinite(high):
        return f"{signed(low, digits)} or more"
    if not math.isfinite(low):
        return f"{signed(high, digits)} or less"
    return f"{signed(low, digits)} to {signed(high, digits)}"


def interval(low: float, high: float, digits: int = 1) -> str:
    """Return an interval in words, with open ends named."""
    if math.isfinite(low) and math.isfinite(high):
        return f"{fixed(low, digits)} to {fixed(high, digits)}"
    if math.isfinite(low):
        return f"{fixed(low, digits)} or more"
    if math.isfinite(high):
        return f"{fixed(high, digits)} or less"
    return CANNOT_TELL


def warmer(difference_k: float, digits: int = 1) -> str:
    """Return a difference with its direction in words."""
    if math.isnan(difference_k):
        return "–"
    if round(difference_k, digits) == 0:
        return f"{0:.{digits}f} K apart"
    return f"{abs(difference_k):.{digits}f} K {'warmer' if difference_k > 0 else 'cooler'}"


def warmer_interval(low_k: float, high_k: float, digits: int = 1) -> str:
    """Return an interval of differences with directions in words."""
    if math.isinf(low_k) and math.isinf(high_k):
        return CANNOT_TELL
    if math.isinf(high_k):
        return f"at least {warmer(low_k, digits)}"
    if math.isinf(low_k):
        return f"at least {warmer(high_k, digits)}"
    small, large = sorted((low_k, high_k), key=abs)
    if low_k * high_k > 0:
        return f"{abs(small):.{digits}f} to {warmer(large, digits)}"
    return f"{warmer(low_k, digits)} to {warmer(high_k, digits)}"


def share(value: float) -> str:
    """Return a share as a percentage."""
    return "–" if value is None or math.isnan(value) else f"{100 * value:.0f} %"


def moment(at_s: float) -> str:
    """Return a moment of a run as m:ss."""
    if math.isnan(at_s):
        return "–"
    minutes, rest = divmod(round(at_s), 60)
    return f"{minutes}:{rest:02d}"
