"""What the runs of a study show of each setup's fan: cooling over speed, speed over duty, sound."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields

import numpy as np
import pandas as pd

from gelassen.answers.rows.known_spread import known_spread
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
from gelassen.study.file.levels import (
    FAN_WORDS,
    level_text,
    power_factors,
    takes_cooler_off,
    without_power,
)
from gelassen.study.file.study_file import StudyFile

_NEEDED = ("fan_rpm", "power_w", "value", "standard_error", "reference_c")


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
    table = study.table(leave_out=leave_out)
    if table.empty:
        raise InputError("no run to learn from: run each setup at three to five fixed duties")
    groups = setups_without_fans(study.file)
    named = [groups.get(str(s)) or without_power(str(s)) for s in table["setup"]]
    table = table.assign(group=named, mount_name=_mountings(study.file, table))
    table = _one_row_a_duty(table)
    lacking = [name for name in _NEEDED if name not in table or table[name].isna().all()]
    if lacking:
        raise InputError(
            f"cooling over fan speed needs {', '.join(lacking)} in the runs, and none has it"
        )
    free = table[~table["at_limit"].astype(bool) & table[list(_NEEDED)].notna().all(axis=1)]
    free = free[free["fan_rpm"] > 0]
    spread = known_spread(study.folder, study.file.doubt, table).spread or Spread.USUAL_K
    found, cautions = {}, []
    for name, runs in free.groupby("group", sort=False):
        try:
            found[str(name)] = _fan_runs(study.file, str(name), runs, spread[0])
        except InputError as error:
            cautions.append(caution("no_fan_law", setup=str(name), why=str(error)))
    if not found:
        why = cautions[0].sizes["why"] if cautions else "every run sat at its temperature limit"
        raise InputError(f"no setup shows its cooling over fan speed: {why}")
    return found, tuple(cautions)


def setups_without_fans(file: StudyFile) -> dict[str, str]:
    """Return each setup's levels without those that move the fans or the power."""
    powers = power_factors(file)
    still = [n for n in file.factors if not any(w in n for w in FAN_WORDS) and n not in powers]
    return {
        name: ", ".join(level_text(levels[n]) for n in still if n in levels)
        or ("all" if levels else "")
        for name, levels in file.setups.items()
    }


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


def _one_row_a_duty(table: pd.DataFrame) -> pd.DataFrame:
    """Return the table with a row for each duty of a run that went through several."""
    rows: list[dict[str, object]] = []
    for row in table.to_dict("records"):
        levels = row["fan_levels"] if isinstance(row.get("fan_levels"), list) else []
        told = [{one.name: getattr(level, one.name) for one in fields(level)} for level in levels]
        rows += [{**row, **own} for own in told or [{}]]
    return pd.DataFrame(rows)


def _mountings(file: StudyFile, table: pd.DataFrame) -> list[str]:
    """Return a name for the mounting of each run.

    A run that names none has its own, unless nothing in the study takes the cooler off.
    """
    taken_off = any(takes_cooler_off(file, name) for name in file.factors) or not file.factors
    return [name or (f"run {k}" if taken_off else "one") for k, name in enumerate(mounts_of(table))]


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
