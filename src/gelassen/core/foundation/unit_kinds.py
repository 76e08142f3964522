"""Values that carry a unit, as libraries of physical quantities make them: converted, never stripped."""

from typing import Any

from gelassen.core.foundation.errors import InputError

# The end of a parameter's name, and the unit it stands for, as such libraries write it.
_UNITS = {
    "_c": "degC", "_k": "kelvin", "_w": "watt", "_mhz": "megahertz", "_s": "second", "_pct": "percent",
    "_rpm": "revolution / minute", "_count": "dimensionless",
}  # fmt: skip


def in_our_unit(name: str, values: Any) -> Any:
    """Return values in the unit that the parameter's name ends with; plain numbers as they are.

    Takes what has `units` and `to`, and a pandas Series of such values.

    Raises
    ------
    InputError
        The unit cannot become ours.
    """
    if hasattr(getattr(values, "dtype", None), "units") and hasattr(values, "pint"):
        values = values.pint.quantity  # a Series
    unit = getattr(values, "units", None) or getattr(values, "unit", None)
    if unit is None or not hasattr(values, "to"):
        return values
    ours = next((unit for end, unit in _UNITS.items() if name.endswith(end)), None)
    if ours is not None:
        if ours == "kelvin" and "delta" in str(unit):
            ours = "delta_degC"
        try:
            converted = values.to(ours)
            return converted.magnitude if hasattr(converted, "magnitude") else converted.value
        except Exception as error:  # every library has errors of its own
            raise InputError(
                f"{name} is in {unit}, which cannot be converted here ({error}): pass plain numbers in "
                f"{ours}"
            ) from None
    raise InputError(f"{name} is in {unit}: pass plain numbers")
