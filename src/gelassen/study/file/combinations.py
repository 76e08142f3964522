"""The setups of a study, where they are not all listed."""

from collections.abc import Mapping
from itertools import product
from typing import TYPE_CHECKING

from gelassen.core.foundation.errors import FileError
from gelassen.core.recording.channels import parse_channel

if TYPE_CHECKING:
    from gelassen.study.file.study_file import Factor

Levels = dict[str, str | float]


def combined(
    combine: str,
    factors: Mapping[str, "Factor"],
    listed: Mapping[str, Levels],
    baseline: str | None,
) -> dict[str, Levels]:
    """Return the setups: those listed, and those that follow from the factors.

    "full": every combination of levels. "baseline": for each factor, every other level in place of the
    baseline's. A combination that is listed keeps its name; the others are named by their levels.

    Raises
    ------
    FileError
        "baseline" without a baseline that is listed and has a level of every factor.
    """
    setups = {name: dict(levels) for name, levels in listed.items()}
    if combine == "list" or not factors:
        return setups
    if combine == "full":
        wanted = [
            dict(zip(factors, levels, strict=True))
            for levels in product(*(factor.levels for factor in factors.values()))
        ]
    else:
        if baseline is None or baseline not in listed:
            raise FileError(
                'study.toml, combine: "baseline" needs a setup to start from: give baseline = "NAME" and '
                "[setups.NAME] with a level of every factor"
            )
        base = listed[baseline]
        lacking = [name for name in factors if name not in base]
        if lacking:
            raise FileError(
                f'study.toml, setups."{baseline}": with combine = "baseline" it needs a level of every '
                f"factor; {', '.join(lacking)} is missing"
            )
        wanted = [
            {**base, name: level}
            for name, factor in factors.items()
            for level in factor.levels
            if level != base[name]
        ]
    for levels in wanted:
        if levels not in setups.values():
            setups[_named(levels, factors)] = levels
    return setups


def _named(levels: Levels, factors: Mapping[str, "Factor"]) -> str:
    return ", ".join(_worded(name, level, factors[name].channel) for name, level in levels.items())


def _worded(name: str, level: str | float, channel: str | None) -> str:
    if isinstance(level, str):
        return level
    symbol = parse_channel(channel).symbol if channel else ""
    if symbol:
        return f"{level:g} {symbol}"
    for ending, unit in (("_w", "W"), ("_pct", "%"), ("_rpm", "rpm"), ("_c", "°C")):
        if name.endswith(ending):
            return f"{level:g} {unit}"
    return f"{level:g} {name.replace('_', ' ')}"
