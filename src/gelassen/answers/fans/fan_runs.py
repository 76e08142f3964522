"""What the runs of a study show of each setup's fan: cooling over speed, speed over duty, sound."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.answers.rows.known_spread import known_spread
from gelassen.answers.rows.run_row import RunRow, rows_to_table
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.comparing.mounting import mounts_of
from gelassen.core.comparing.priors import Spread
from gelassen.core.fans.cooling import cooling_law
from gelassen.core.fans.operating_point import Fan
from gelassen.core.fans.priors import Loop
from gelassen.core.fans.speed import noise_law, speed_law
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.core.run.quantities import WARM_UP
from gelassen.study.disk.run_file import FAN_STEPS
from gelassen.study.file.levels import (
    FAN_WORDS,
    level_text,
    power_factors,
    takes_cooler_off,
    without_power,
)
from gelassen.study.file.study_file import StudyFile


@dataclass(frozen=True, slots=True, kw_only=True)
class FanRuns:
    """The runs of one setup, fans and power left out of its name; the fan they show; what was followed.

    `runs` has the columns of `Study.table`, without runs at their limit. `limit_c` is the machine's,
    `between_k` what is thought of the spread between mountings.
    """

    setup: str
    runs: pd.DataFrame
    fan: Fan
    follows: str | None
    limit_c: float
    between_k: float


def study_fans(
    study: StudyRuns, *, leave_out: Mapping[str, str] | None = None
) -> tuple[dict[str, FanRuns], tuple[Caution, ...]]:
    """Return what the runs show of each setup's fan, and why it cannot be told of others.

    Raises
    ------
    InputError
        No setup was run at two fan speeds with speed, duty, power and a reference logged.
    """
    rows, left_out = study.usable_rows(0.95, None, leave_out, kinds=("steady", FAN_STEPS))
    told = [caution("left_out", run=run, why=why) for run, why in left_out]
    entries: list[tuple[RunRow, str]] = []
    for row in rows:
        own = row.fan_levels or row.levels
        for entry in [row.at_level(level) for level in own] or [row]:
            why = _unfit(entry)
            if why:
                told.append(caution("left_out", run=row.run, why=why))
            else:
                entries.append((entry, _group(study.file, row.setup)))
    known = known_spread(study.folder, study.file.doubt, rows).spread or Spread.USUAL_K
    found = {}
    for name in dict.fromkeys(name for _, name in entries):
        runs = rows_to_table([entry for entry, group in entries if group == name])
        runs["mount_name"] = _mountings(study.file, runs)
        try:
            found[name] = _fan_runs(study.file, name, runs, known[0])
        except InputError as error:
            told.append(caution("no_fan_law", setup=name, why=str(error)))
    if not found:
        raise InputError(". ".join(["no setup shows its cooling over fan speed", *told[:3]]))
    return found, tuple(dict.fromkeys(told))


def _unfit(row: RunRow) -> str:
    """Return why a run, or one level of it, shows no cooling over fan speed; nothing if it does."""
    if row.at_limit:
        return "at its temperature limit, so its rise is only a lower bound"
    words = {
        "fan_rpm": "fan speed", "power_w": "power", "value": "settled temperature",
        "standard_error": "error of it", "reference_c": "room or case temperature",
    }  # fmt: skip
    lacking = [what for name, what in words.items() if getattr(row, name) is None]
    if lacking:
        return f"it has no {' and no '.join(lacking)}"
    return "" if (row.fan_rpm or 0) > 0 else "its fan stood still"


def _group(file: StudyFile, setup: str) -> str:
    """Return a setup without what moves its fans or its power."""
    levels = file.setups.get(setup, {})
    if not levels:
        return without_power(setup)
    moved = {n for n in file.factors if any(w in n for w in FAN_WORDS)} | set(power_factors(file))
    still = [level_text(level) for name, level in levels.items() if name not in moved]
    return ", ".join(still) or file.machine.name


def one_setup(found: Mapping[str, FanRuns], setup: str | None) -> dict[str, FanRuns]:
    """Return the setup that was named, or all.

    Raises
    ------
    InputError
        A setup that is none of these.
    """
    if setup is None:
        return dict(found)
    if setup not in found:
        raise InputError(
            f'"{setup}" is no setup whose fan is known ({", ".join(found)}).'
            + nearest(setup, found)
        )
    return {setup: found[setup]}


def fan_of(file: StudyFile, setup: str, runs: pd.DataFrame, between_k: float) -> Fan:
    """Return what these runs of one setup show of its fan.

    Raises
    ------
    InputError
        Fewer than two speeds or two duties.
    """
    law = cooling_law(
        runs["fan_rpm"].tolist(), runs["power_w"].tolist(), runs["value"].tolist(),
        runs["standard_error"].tolist(), mounts=pd.factorize(runs["mount_name"])[0].tolist(),
        between_k=between_k,
    )  # fmt: skip
    swept = [one for one in file.fans if one.of in (None, setup)]
    duties = [*runs["duty_pct"], *(x for one in swept for x in one.duty_pct)]
    speeds = [*runs["fan_rpm"], *(x for one in swept for x in one.rpm)]
    levels = [
        *runs["noise_dba"],
        *(x or math.nan for one in swept for x in _noise(one.noise_dba, one.rpm)),
    ]
    warm_up = [float(q[WARM_UP][0]) for q in runs["quantities"] if WARM_UP in (q or {})]
    follows = _followed_channel(runs)
    return Fan(
        cooling=law,
        speed=speed_law([float(x) if x is not None else math.nan for x in duties], speeds),
        noise=noise_law(speeds, [float(x) if x is not None else math.nan for x in levels]),
        follows_share=_follows_share(runs, follows),
        warm_up_s=float(np.median(warm_up)) if warm_up else Loop.USUAL_WARM_UP_S,
    )


def _fan_runs(file: StudyFile, name: str, runs: pd.DataFrame, between_k: float) -> FanRuns:
    limits = runs["limit_c"].dropna()
    return FanRuns(
        setup=name, runs=runs, fan=fan_of(file, name, runs, between_k),
        follows=_followed_channel(runs),
        limit_c=float(limits.iloc[0]) if len(limits) else file.machine.limit_c, between_k=between_k,
    )  # fmt: skip


def _mountings(file: StudyFile, runs: pd.DataFrame) -> list[str]:
    """Return a name for the mounting of each run.

    A run that names none has its own, unless nothing in the study takes the cooler off.
    """
    taken_off = any(takes_cooler_off(file, name) for name in file.factors) or not file.factors
    names = zip(mounts_of(runs), runs["run"], strict=True)
    return [mount or (str(run) if taken_off else "one") for mount, run in names]


def _noise(levels: Sequence[float | str], rpm: Sequence[float]) -> list[float]:
    return [float(x) if x != "" else math.nan for x in levels] or [math.nan] * len(rpm)


def _followed_channel(runs: pd.DataFrame) -> str | None:
    """Return the hottest processor temperature, which firmware and software follow."""
    names = {name for parts in runs["parts"] for name in parts if name.startswith(("cpu.", "gpu."))}
    means = {
        name: float(np.mean([float(p[name][0]) for p in runs["parts"] if name in p and p[name][0]]))
        for name in names
    }
    return max(means, key=lambda name: means[name]) if means else None


def _follows_share(runs: pd.DataFrame, follows: str | None) -> float:
    """Return the rise that is followed over the judged rise."""
    shares = [
        (float(parts[follows][0]) - reference) / value
        for parts, reference, value in zip(
            runs["parts"], runs["reference_c"], runs["value"], strict=True
        )
        if follows in parts and parts[follows][0] and value > 0
    ]
    return float(np.median(shares)) if shares else 1.0
