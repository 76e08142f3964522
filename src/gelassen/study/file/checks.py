"""Checks that the factors, levels and setups of a study file fit together."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from gelassen.core.fans.curve import reaches
from gelassen.core.foundation.errors import FileError, InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.core.recording.channels import parse_channel
from gelassen.study.file.fan_tables import CurveTable, fan_curve
from gelassen.study.file.level_text import shown_level
from gelassen.study.file.toml_place import line_of

if TYPE_CHECKING:
    from gelassen.study.file.study_file import Factor, StudyFile


def check_factors(path: Path, text: str, study: "StudyFile") -> None:
    """Refuse impossible factors, and factors that contradict each other.

    Raises
    ------
    FileError
        Naming file, line and key, what was found, and what is allowed.
    """

    def refuse(keys: Sequence[str], said: str) -> None:
        where = f"{path.name}, line {line_of(text, keys)}, {'.'.join(keys)}"
        raise FileError(f"{where}: {said}")

    set_by: dict[str, str] = {}
    for name, factor in study.factors.items():
        key = ["factors", name]
        shown = [shown_level(level) for level in factor.levels]
        twice = next((level for level in shown if shown.count(level) > 1), None)
        if twice is not None:
            refuse([*key, "levels"], f"the level {twice} is there twice; each is named once")
        _check_what_it_sets(key, factor, refuse)
        target = factor.channel or factor.sets
        if target is not None and target in set_by:
            refuse(key, f"it sets {target}, and so does factors.{set_by[target]}: one of them may")
        if target is not None:
            set_by[target] = name
        for level in factor.curves:
            if level not in shown:
                refuse(
                    [*key, "curves", level],
                    f'"{level}" is not a level here ({", ".join(shown)}).{nearest(level, shown)}',
                )
        for level, entry in factor.curves.items():
            check_curve_of(study, refuse, [*key, "curves", level], entry)
            _check_it_turns(study, refuse, [*key, "curves", level], entry, factor.channel)
        _check_words(study, refuse, key, factor)
    climb = study.protocol.climb
    if study.protocol.kind == "capacity" and climb.channel in set_by:
        refuse(
            ["factors", set_by[climb.channel]],
            f'protocol.kind = "capacity" climbs with {climb.channel} by itself, and this factor sets '
            "it, too: leave the factor out",
        )
    if climb.from_w is not None and climb.to_w is not None and climb.from_w >= climb.to_w:
        refuse(
            ["protocol", "climb", "from_w"],
            f"{climb.from_w:g} W is not below to_w, {climb.to_w:g} W",
        )
    limit_c = study.machine.limit_c
    if study.comfort_c is not None and study.comfort_c >= limit_c:
        refuse(
            ["comfort_c"],
            f"{study.comfort_c:g} °C is not below machine.limit_c, {limit_c:g} °C: the comfort line is the "
            "tester's own, below the limit",
        )


def _check_words(
    study: "StudyFile",
    refuse: Callable[[Sequence[str], str], None],
    key: list[str],
    factor: "Factor",
) -> None:
    """Refuse a detail in words that are not on the scale of this detail, and a scale that is none."""
    for level, details in factor.details.items():
        for detail, word in details.items():
            scale = study.scales.get(detail)
            if scale is not None and str(word) not in scale:
                refuse(
                    [*key, "details", level],
                    f'{detail} = "{word}" is not on its scale ({", ".join(scale)}).'
                    + nearest(str(word), scale),
                )
    for name, scale in study.scales.items():
        if len(set(scale)) != len(scale) or len(scale) < 2:
            refuse(["scales", name], "a scale has two words or more, each once, from the best on")


def _check_what_it_sets(
    key: list[str], factor: "Factor", refuse: Callable[[Sequence[str], str], None]
) -> None:
    words = [level for level in factor.levels if isinstance(level, str)]
    if factor.channel is not None and factor.sets is not None:
        refuse(key, f"it sets {factor.channel} and {factor.sets} of the load: one of them is meant")
    if factor.changed_by == "hand" and factor.sets:
        refuse(key, 'it says what software sets, but is changed_by = "hand": write "software"')
    if factor.channel is not None and factor.changed_by == "software":
        lacking = [level for level in words if level not in factor.curves]
        if lacking and factor.curves:
            refuse([*key, "curves"], f'the level "{lacking[0]}" has no curve')
        if lacking:
            symbol = parse_channel(factor.channel).symbol
            refuse(
                [*key, "levels"],
                f'software sets {factor.channel} to a number ({symbol}), and "{lacking[0]}" is none. '
                f'Levels without units, such as 65; or say in curves."{lacking[0]}" which fan curve it is',
            )
    if factor.curves and not (factor.channel or "").endswith(".duty_pct"):
        refuse(
            [*key, "curves"], "a fan curve needs channel = a fan's duty, such as fan.cpu.duty_pct"
        )
    if factor.sets == "workers" and any(
        isinstance(level, str) or level < 1 or level != int(level) for level in factor.levels
    ):
        refuse([*key, "levels"], "workers are whole numbers from 1, such as [1, 2, 4]")
    if factor.sets == "load":
        allowed = ("matrix", "integer", "memory", "command")
        wrong = next((level for level in factor.levels if level not in allowed), None)
        if wrong is not None:
            refuse([*key, "levels"], f'"{wrong}" is not a load ({", ".join(allowed)}).')


def check_setups(path: Path, text: str, study: "StudyFile") -> None:
    """Refuse setups with unknown factors or levels, and a baseline that is not a setup."""
    for setup, levels in study.setups.items():
        for factor, level in levels.items():
            line = line_of(text, ["setups", setup, factor])
            where = f"{path.name}, line {line}, setups.{setup}.{factor}"
            if factor not in study.factors:
                known = ", ".join(study.factors) or "none"
                raise FileError(
                    f'{where}: "{factor}" is not a factor here ({known}).{nearest(factor, study.factors)}'
                )
            allowed = study.factors[factor].levels
            if level not in allowed:
                shown = [str(item) for item in allowed]
                raise FileError(
                    f'{where}: "{level}" is not a level here ({", ".join(shown)}).'
                    + nearest(str(level), shown)
                )
    for name, entry in study.factors.items():
        shown = [f"{item:g}" if isinstance(item, float) else str(item) for item in entry.levels]
        for level in entry.details:
            if level not in shown:
                line = line_of(text, ["factors", name, "details", level])
                raise FileError(
                    f'{path.name}, line {line}, factors.{name}.details: "{level}" is not a level here '
                    f"({', '.join(shown)}).{nearest(level, shown)}"
                )
    if study.baseline is not None and study.baseline not in study.setups:
        raise FileError(
            f"{path.name}, line {line_of(text, ['baseline'])}, baseline: "
            f'"{study.baseline}" is not a setup here ({", ".join(study.setups) or "none"}).'
            + nearest(study.baseline, study.setups)
        )
    seen: dict[tuple[tuple[str, str], ...], str] = {}
    for setup, levels in study.setups.items():
        same = tuple(sorted((factor, shown_level(level)) for factor, level in levels.items()))
        if same and same in seen:
            raise FileError(
                f"{path.name}, line {line_of(text, ['setups', setup])}, setups.{setup}: it has the same "
                f'levels as setups."{seen[same]}": say in a factor how they differ'
            )
        seen[same] = setup


def check_curve_of(
    study: "StudyFile",
    refuse: Callable[[Sequence[str], str], None],
    key: Sequence[str],
    entry: CurveTable,
) -> None:
    """Refuse a fan curve that contradicts itself, or has not reached its top where the guard stops."""
    try:
        curve = fan_curve(entry, f'the curve "{key[-1]}"')
        stops = [
            stop
            for channel, stop in study.guard.stop_c.items()
            if channel.startswith(("cpu.", "gpu."))
        ]
        if stops:
            reaches(curve, min(stops), f'the curve "{key[-1]}"')
    except InputError as error:
        refuse(key, str(error))


def _check_it_turns(
    study: "StudyFile",
    refuse: Callable[[Sequence[str], str], None],
    key: Sequence[str],
    entry: CurveTable,
    channel: str | None,
) -> None:
    """Refuse a curve with a duty at which a sweep of this fan found that it stands still."""
    curve = fan_curve(entry, f'the curve "{key[-1]}"')
    for swept in study.fans:
        stalls = swept.stalls_pct if swept.channel == channel else None
        lowest = min(max(duty, curve.least_pct) for duty in curve.duties_pct)
        if stalls is not None and 0 < lowest <= stalls:
            needed = min(swept.duty_pct)
            refuse(
                key,
                f"it asks for {lowest:g} %, and the fan stands still at {stalls:g} % (swept, [[fans]]): "
                f"begin at {needed:g} %, or write least_pct = {needed:g}",
            )
