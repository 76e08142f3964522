"""What the runs of a study show of each setup's fan: cooling over speed, speed over duty, sound."""

import math
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import pandas as pd

from gelassen.answers.fans.entered import curves_not_shown
from gelassen.answers.rows.known_spread import known_spread
from gelassen.answers.rows.run_row import RunRow, rows_to_table
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.comparing.mounting import mounts_of
from gelassen.core.comparing.priors import Spread
from gelassen.core.fans.cooling import cooling_law
from gelassen.core.fans.curve import FanCurve
from gelassen.core.fans.loop import Fan
from gelassen.core.fans.priors import Loop
from gelassen.core.fans.speed import noise_law, speed_law
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.core.run.quantities import WARM_UP
from gelassen.study.disk.run_file import FAN_STEPS
from gelassen.study.file.fan_tables import FanTable
from gelassen.study.file.levels import (
    level_text,
    moves_fans,
    power_factors,
    takes_cooler_off,
    without_power,
)
from gelassen.study.file.study_file import StudyFile

NEVER_OFF = "one"  # the name of the mounting where nothing in the study takes the cooler off
_COOLER_DUTY = "fan.cpu.duty_pct"  # the duty that runs step unless a factor names another


@dataclass(frozen=True, slots=True, kw_only=True)
class FanRuns:
    """The runs of one setup, and the fan that they show.

    Attributes
    ----------
    setup
        Its name without what moves fans or power.
    runs
        A row a run, or a row a level of a run, as in `Study.table`; none at the limit.
    limit_c
        The limit of the machine, °C.
    between_k
        What is thought of the spread between mountings, K.
    """

    setup: str
    runs: pd.DataFrame
    fan: Fan
    limit_c: float
    between_k: float

    @property
    def follows(self) -> str | None:
        """The channel that firmware follows: the package, else the hottest of the processor."""
        names = dict.fromkeys(name for parts in self.runs["parts"] for name in parts)
        own = [name for name in names if name.startswith(("cpu.", "gpu."))]
        package = [name for name in own if name.split(".")[1] == "package"]
        return hottest(self.runs, package or own)

    def fan_on(self, curve: FanCurve) -> Fan:
        """Return the fan as this curve sees it: what the curve follows is not what is judged.

        Raises
        ------
        InputError
            The runs have none of the channels that the curve follows.
        """
        if not curve.follows:
            return self.fan
        channel = hottest(self.runs, curve.follows)
        if channel is None:
            raise InputError(f"it follows {', '.join(curve.follows)}, which no run has")
        return replace(self.fan, follows_share=_follows_share(self.runs, channel))


def study_fans(
    study: StudyRuns,
    *,
    confidence: float,
    leave_out: Mapping[str, str] | None = None,
    setups: Collection[str] | None = None,
) -> tuple[dict[str, FanRuns], tuple[Caution, ...]]:
    """Return what the runs show of each setup's fan, and why it cannot be told of others.

    From the runs of some `setups` only, if these are given.

    Raises
    ------
    InputError
        No setup was run at two fan speeds with speed, duty, power and a reference logged.
    """
    rows, left_out = study.usable_rows(leave_out, kinds=("steady", FAN_STEPS))
    rows = [row for row in rows if setups is None or row.setup in setups]
    told = [caution("left_out", run=run, why=why) for run, why in left_out]
    told += curves_not_shown(study.file, rows)
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
            found[name] = fan_runs(study.file, name, runs, known[0])
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
    moved = {*moves_fans(file), *power_factors(file)}
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


def _fan_of(file: StudyFile, setup: str, runs: pd.DataFrame, between_k: float) -> Fan:
    law = cooling_law(
        runs["fan_rpm"].tolist(), runs["power_w"].tolist(), runs["value"].tolist(),
        runs["standard_error"].tolist(), mounts=pd.factorize(runs["mount_name"])[0].tolist(),
        runs=pd.factorize(runs["run"])[0].tolist(),
        between_k=between_k,
    )  # fmt: skip
    swept = [one for one in file.fans if one.of in (None, setup) and _is_stepped(file, one)]
    duties = [*_numbers(runs["duty_pct"]), *(x for one in swept for x in one.duty_pct)]
    speeds = [*_numbers(runs["fan_rpm"]), *(x for one in swept for x in one.rpm)]
    levels = [*_numbers(runs["noise_dba"]), *(x for one in swept for x in _metered(one))]
    warm_up = [float(q[WARM_UP][0]) for q in runs["quantities"] if WARM_UP in (q or {})]
    return Fan(
        cooling=law, speed=speed_law(duties, speeds), noise=noise_law(speeds, levels),
        warm_up_s=float(np.median(warm_up)) if warm_up else Loop.USUAL_WARM_UP_S,
    )  # fmt: skip


def _is_stepped(file: StudyFile, swept: FanTable) -> bool:
    """Return whether a sweep is of the fan that the study steps, where several were swept."""
    of_factors = [
        factor.channel
        for factor in file.factors.values()
        if factor.channel is not None and factor.channel.endswith(".duty_pct")
    ]
    only = len({one.channel for one in file.fans if one.channel is not None}) == 1
    return swept.channel is None or only or swept.channel in (of_factors or [_COOLER_DUTY])


def fan_runs(file: StudyFile, name: str, runs: pd.DataFrame, between_k: float) -> FanRuns:
    """Return the runs of one setup with the fan that they show.

    Raises
    ------
    InputError
        Fewer than two speeds or two duties.
    """
    limits = runs["limit_c"].dropna()
    limit_c = float(limits.iloc[0]) if len(limits) else file.machine.limit_c
    fan = _fan_of(file, name, runs, between_k)
    one = FanRuns(setup=name, runs=runs, fan=fan, limit_c=limit_c, between_k=between_k)
    return replace(one, fan=replace(fan, follows_share=_follows_share(runs, one.follows)))


def _mountings(file: StudyFile, runs: pd.DataFrame) -> list[str]:
    """Return a name for the mounting of each run.

    A run that names none has its own, unless nothing in the study takes the cooler off.
    """
    taken_off = any(takes_cooler_off(file, name) for name in file.factors) or not file.factors
    names = zip(mounts_of(runs), runs["run"], strict=True)
    return [mount or (str(run) if taken_off else NEVER_OFF) for mount, run in names]


def _numbers(column: pd.Series) -> list[float]:
    return [float(x) for x in pd.to_numeric(column)]


def _metered(sweep: FanTable) -> list[float]:
    """Return the sound at each duty of a sweep, dB(A); NaN where it was not metered."""
    levels = sweep.noise_dba or [""] * len(sweep.rpm)
    return [math.nan if x == "" else float(x) for x in levels]


def hottest(runs: pd.DataFrame, channels: Iterable[str]) -> str | None:
    """Return which of these channels is the hottest under load; None if the runs have none."""
    means: dict[str, float] = {}
    for name in channels:
        read = [float(parts[name][0]) for parts in runs["parts"] if _is_read(parts, name)]
        if read:
            means[name] = float(np.mean(read))
    return max(means, key=lambda name: means[name]) if means else None


def _is_read(parts: Mapping[str, Sequence[object]], name: str) -> bool:
    return name in parts and parts[name][0] is not None


def _follows_share(runs: pd.DataFrame, channel: str | None) -> float:
    """Return the rise that is followed over the judged rise, of settled runs if there are any.

    Both as they were read: what runs that did not settle had not reached was not read either.
    """
    settled = runs[runs["reached"].astype(bool)]
    chosen = settled if len(settled) else runs
    read_k = chosen["value"] - (0.0 if len(settled) else chosen["missing_k"].fillna(0.0))
    shares = [
        (float(parts[channel][0]) - reference) / judged
        for parts, reference, judged in zip(
            chosen["parts"], chosen["reference_c"], read_k, strict=True
        )
        if channel is not None and _is_read(parts, channel) and judged > 0
    ]
    return float(np.median(shares)) if shares else 1.0
