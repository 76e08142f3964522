"""Several temperatures judged in one study: each by itself, side by side, and where they disagree."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import partial
from itertools import combinations

import pandas as pd

from gelassen.answers.comparison import ComparisonAsked, StudyComparison, compare_runs
from gelassen.answers.rows.known_spread import known_spread
from gelassen.answers.rows.power_steps import at_one_power
from gelassen.answers.rows.run_row import RunRow
from gelassen.answers.study_runs import StudyRuns
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.result import Result
from gelassen.core.recording.channels import is_channel
from gelassen.core.recording.judging import HOTTEST_CORE
from gelassen.study.file.levels import expected_quantities


@dataclass(frozen=True, slots=True, kw_only=True)
class StudyJudged(Result):
    """The setups by each judged temperature.

    Attributes
    ----------
    comparisons
        Judged temperature to its whole comparison; one that no run can answer is in `left_out`.
    first : DataFrame
        setup, part, at_s, runs: which judged temperature reached its limit first, and when after load
        start, on average over the runs in which one did.
    conflicts : DataFrame
        setup, versus, cooler, warmer: pairs told apart in opposite directions, and by which temperatures.
    only_elsewhere : DataFrame
        setup, versus, part, cooler_k: pairs that the first judged temperature does not tell apart, and
        which others do, one row each.
    left_out
        Judged temperature to the reason why it is not compared.
    """

    comparisons: dict[str, StudyComparison]
    first: pd.DataFrame
    conflicts: pd.DataFrame
    only_elsewhere: pd.DataFrame
    left_out: dict[str, str]
    title: str
    made_up: bool

    def __str__(self) -> str:
        return "\n".join(f"{name}\n{found}" for name, found in self.comparisons.items())


def study_judged(
    study: StudyRuns,
    *,
    baseline: str | None = None,
    confidence: float = 0.95,
    leave_out: Mapping[str, str] | None = None,
) -> StudyJudged:
    """Compare the setups by each judged temperature; see `Study.judged`."""
    names = list(study.file.judge)
    if len(names) < 2:
        raise InputError(
            "one temperature is judged in this study. Name several in study.toml: "
            'judge = ["hottest core", "gpu.hotspot.temp_c"]'
        )
    if study.has_programs(leave_out):
        raise InputError(
            "the runs of this study are of several programs, which are not one load. Study.loads, or "
            "gelassen compare --loads, tells each judged temperature under each of them"
        )
    against = study.checked_baseline(baseline)
    comparisons: dict[str, StudyComparison] = {}
    without: dict[str, str] = {}
    limited: list[tuple[str, RunRow]] = []
    made_up = study.file.made_up
    for name in names:
        try:
            present, lacking = study.rows(leave_out=leave_out, judge=name)
            if not present:
                without[name] = "; ".join(dict.fromkeys(why for _, why in lacking)) or "no runs"
                continue
            rows, left_out = study.compared_rows(leave_out, judge=name)
            rows, left_out, _ = at_one_power(rows, left_out)
            asked = ComparisonAsked(
                title=f"{study.file.title}: {name}", baseline=against, confidence=confidence,
                made_up=study.is_made_up(rows), expected=expected_quantities(study.file),
                spread_of=partial(known_spread, study.folder, study.file.doubt),
                reference=study.named_reference(), room_k=study.file.doubt.room_k,
                matters_k=study.file.doubt.matters_k,
            )  # fmt: skip
            part = _as_read(name, rows)
            comparisons[part] = compare_runs(rows, left_out, asked)
        except InputError as error:
            without[name] = str(error)
            continue
        made_up = made_up or asked.made_up
        limited += [(part, row) for row in rows if row.limit_at_s is not None]
    verdicts = _verdicts(comparisons)
    return StudyJudged(
        comparisons=comparisons,
        first=_first(limited),
        conflicts=_conflicts(verdicts),
        only_elsewhere=_only_elsewhere(verdicts, next(iter(comparisons), "")),
        left_out=without,
        title=study.file.title,
        made_up=made_up,
    )


def _as_read(name: str, rows: Iterable[RunRow]) -> str:
    """Return the name of what was judged: the package where no run logged single cores."""
    read = {row.measured for row in rows}
    alone = next(iter(read)) if len(read) == 1 else ""
    return alone if name == HOTTEST_CORE and is_channel(alone) else name


def _first(limited: list[tuple[str, RunRow]]) -> pd.DataFrame:
    """Return which part reached its limit first in each setup."""
    columns = ["setup", "part", "at_s", "runs"]
    if not limited:
        return pd.DataFrame(columns=columns)
    table = pd.DataFrame(
        [(row.setup, row.run, name, row.limit_at_s) for name, row in limited],
        columns=["setup", "run", "part", "at_s"],
    )
    earliest = table.loc[table.groupby("run")["at_s"].idxmin()]
    found = (
        earliest.groupby(["setup", "part"], sort=False)["at_s"].agg(["mean", "size"]).reset_index()
    )
    found.columns = pd.Index(columns)
    return found


# Judged temperature, setup and the setup it is compared with -> difference in K.
Verdicts = Mapping[tuple[str, str, str], float]


def _verdicts(comparisons: Mapping[str, StudyComparison]) -> Verdicts:
    """Return the differences that were told apart, each in both directions."""
    told = {
        (name, row["setup"], row["versus"]): float(row["difference"])
        for name, found in comparisons.items()
        for row in found.differences.to_dict("records")
        if row["distinguishable"]
    }
    return told | {(name, b, a): -size for (name, a, b), size in told.items()}


def _only_elsewhere(verdicts: Verdicts, first: str) -> pd.DataFrame:
    """Return pairs of setups that other judged temperatures tell apart, and the first one does not."""
    rows = [
        (setup, versus, name, -size)
        for (name, setup, versus), size in verdicts.items()
        if size < 0 and (first, setup, versus) not in verdicts
    ]
    return pd.DataFrame(rows, columns=["setup", "versus", "part", "cooler_k"])


def _conflicts(verdicts: Verdicts) -> pd.DataFrame:
    """Return pairs of setups that two judged temperatures tell apart in opposite directions."""
    rows = []
    seen: set[frozenset[str]] = set()
    for (first, second), (setup, versus) in (
        (parts, pair)
        for parts in combinations(dict.fromkeys(name for name, _, _ in verdicts), 2)
        for pair in dict.fromkeys((a, b) for _, a, b in verdicts)
    ):
        sizes = verdicts.get((first, setup, versus)), verdicts.get((second, setup, versus))
        if sizes[0] is None or sizes[1] is None or sizes[0] >= 0 or sizes[1] <= 0:
            continue
        key = frozenset((first, second, setup, versus))
        if key not in seen:
            seen.add(key)
            rows.append((setup, versus, first, -sizes[0], second, sizes[1]))
    return pd.DataFrame(
        rows, columns=["setup", "versus", "cooler", "cooler_k", "warmer", "warmer_k"]
    )
