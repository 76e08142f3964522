"""Whether a fan curve that was entered by hand shows in the readings of its runs."""

from collections.abc import Iterable

from gelassen.answers.rows.run_row import RunRow
from gelassen.core.fans.curve import FanCurve
from gelassen.core.fans.priors import Entered
from gelassen.core.foundation.caution import Caution, caution
from gelassen.study.file.fan_tables import fan_curve
from gelassen.study.file.levels import level_text
from gelassen.study.file.study_file import StudyFile


def curves_not_shown(file: StudyFile, rows: Iterable[RunRow]) -> tuple[Caution, ...]:
    """Return a caution for each run whose duty is not that of the curve that was to be entered.

    The duty and the temperature that the curve follows are means over the hold. A run that logged no duty,
    or those of several fans, is not judged.
    """
    found = []
    for row in rows:
        for name, factor in file.factors.items():
            level = level_text(row.factors.get(name, file.setups.get(row.setup, {}).get(name)))
            if factor.changed_by != "hand" or level not in factor.curves or row.duty_pct is None:
                continue
            if [one for one in row.sensors if one.endswith(".duty_pct")] != [factor.channel]:
                continue
            curve = fan_curve(factor.curves[level], f'factors.{name}.curves."{level}"')
            temp_c = _followed_c(row, curve)
            if temp_c is None:
                continue
            low, high = _allowed(curve, temp_c)
            if not low <= row.duty_pct <= high:
                found.append(
                    caution(
                        "curve_not_entered",
                        run=row.run,
                        curve=level,
                        temp_c=temp_c,
                        duty_pct=row.duty_pct,
                        wanted_pct=curve.duty_at(temp_c),
                    )
                )
    return tuple(found)


def _followed_c(row: RunRow, curve: FanCurve) -> float | None:
    """Return the mean temperature that the curve follows, °C; None if it was not logged."""
    names = curve.follows or [n for n in row.parts if n.startswith(("cpu.", "gpu."))]
    read = [row.parts[name][0] for name in names if name in row.parts]
    known = [value for value in read if value is not None]
    return max(known) if known and len(known) == len(names) else None


def _allowed(curve: FanCurve, temp_c: float) -> tuple[float, float]:
    """Return the duties that fit: sensors differ, and hysteresis keeps a duty from before."""
    low = curve.duty_at(temp_c - Entered.APART_K - curve.hysteresis_k)
    high = curve.duty_at(temp_c + Entered.APART_K + curve.hysteresis_k)
    return low - Entered.DUTY_PCT, high + Entered.DUTY_PCT
