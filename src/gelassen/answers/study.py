"""The front door of a study. Each method is one question, answered in a module of its own.

A module is loaded when its question is asked: a short command must not wait for all of them. Each
question takes an `executor`, where new runs are analysed side by side: one of `concurrent.futures`, or a
Dask client.
"""

from collections.abc import Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from gelassen.answers.study_runs import StudyRuns
from gelassen.study.file.reader import read_study_folder

if TYPE_CHECKING:
    import pandas as pd

    from gelassen.answers.capacities import StudyCapacity
    from gelassen.answers.comparison import StudyComparison
    from gelassen.answers.fans.curves import CurveQuestion, StudyCurves
    from gelassen.answers.judged import StudyJudged
    from gelassen.answers.ladder import Ladder
    from gelassen.answers.loads import StudyLoads
    from gelassen.core.comparing.along.response import Response
    from gelassen.core.comparing.comparability import Comparability
    from gelassen.core.comparing.effects import Effects
    from gelassen.core.comparing.machine_drift import MachineDrift
    from gelassen.core.comparing.repeatability import Repeatability
    from gelassen.core.comparing.tradeoff import Tradeoff


@dataclass(frozen=True, slots=True, repr=False)
class Study(StudyRuns):
    """A study: its runs, and the questions they can answer together.

    Attributes
    ----------
    folder
        Where it lives.
    file
        What `study.toml` says.
    """

    def compare(
        self,
        *,
        baseline: str | None = None,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
        room_c: float | None = None,
        correct_drift: bool = False,
        by: str = "rise",
    ) -> "StudyComparison":
        """Compare the setups by steady rise over the reference, or by another quantity.

        Parameters
        ----------
        baseline : str, optional
            Setup to compare against; the study's own if not given, else every pair.
        confidence : float
            Share of intervals that should cover the truth.
        executor : concurrent.futures.Executor, optional
            Where to analyse the runs side by side.
        leave_out : mapping, optional
            Run (its folder or number) to the reason why it is not compared.
        room_c : float, optional
            A room temperature to which all setups are brought, beside their rise.
        correct_drift : bool
            Take a drift of the machine that the baseline's repeats show out of all values.
        by : str
            "rise" (where runs settle), "rest", "highest", "highest 99", "mean", "score", "work", "clock",
            "power", "score per watt" or "work per watt".

        Raises
        ------
        InputError
            An unknown baseline or run, or a study without a run to compare.
        """
        from gelassen.answers.setups import compare_setups_of

        return compare_setups_of(
            self.analysed_by(executor),
            baseline=baseline,
            confidence=confidence,
            leave_out=leave_out,
            room_c=room_c,
            correct_drift=correct_drift,
            by=by,
        )

    def ladder(
        self,
        factor: str,
        *,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> "Ladder":
        """Find how far each setup holds along a factor with numbers: a power, a clock, a voltage.

        Raises
        ------
        InputError
            The study has no such factor, or no run has a number for it.
        """
        from gelassen.answers.ladder import study_ladder

        return study_ladder(self.analysed_by(executor), factor, leave_out=leave_out)

    def judged(
        self,
        *,
        baseline: str | None = None,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> "StudyJudged":
        """Compare the setups by each temperature that the study judges, and say where these disagree.

        Raises
        ------
        InputError
            The study judges one temperature only.
        """
        from gelassen.answers.judged import study_judged

        return study_judged(
            self.analysed_by(executor),
            baseline=baseline,
            confidence=confidence,
            leave_out=leave_out,
        )

    def comparability(
        self, *, executor: Executor | None = None, leave_out: Mapping[str, str] | None = None
    ) -> "Comparability":
        """Find what differed between runs and between setups apart from the factors."""
        from gelassen.answers.setups import study_comparability

        return study_comparability(self.analysed_by(executor), leave_out=leave_out)

    def repeatability(
        self,
        *,
        confidence: float = 0.95,
        store: bool = False,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> "Repeatability":
        """Find how much the rig scatters between runs of one setup; `store` keeps it with the study."""
        from gelassen.answers.repeatability import study_repeatability

        return study_repeatability(
            self.analysed_by(executor), confidence=confidence, store=store, leave_out=leave_out
        )

    def effects(
        self,
        factors: Sequence[str] | None = None,
        *,
        value: str = "value",
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> "Effects":
        """Find the effect of each factor, and whether it depends on another factor.

        Raises
        ------
        InputError
            Unknown factors, or factors with one level.
        """
        from gelassen.answers.effects import study_effects

        return study_effects(
            self.analysed_by(executor),
            factors,
            value=value,
            confidence=confidence,
            leave_out=leave_out,
        )

    def along(
        self,
        factor: str,
        *,
        where: Mapping[str, str | float] | None = None,
        worth: float = 0.0,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> "Response":
        """Find how the rise falls along a factor with numbers, and where more stops paying.

        Parameters
        ----------
        factor : str
            A factor whose levels are numbers, or a logged quantity such as "fan_rpm" or "power_w".
        where : mapping, optional
            Levels of other factors that runs must have.
        worth : float
            A step pays if it lowers the rise by more than this, K.
        """
        from gelassen.answers.scale import study_along

        return study_along(
            self.analysed_by(executor),
            factor,
            where=where or {},
            worth=worth,
            confidence=confidence,
            leave_out=leave_out,
        )

    def tradeoff(
        self,
        against: str = "noise_dba",
        *,
        of: str = "rise",
        room_c: float = 25.0,
        where: Mapping[str, str | float] | None = None,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> "Tradeoff":
        """Compare the rise, or the capacity, with noise, price, fan speed or another quantity.

        Parameters
        ----------
        against : str
            "noise", "fan", "power", "work" (of which more is better), or a detail that levels have in the
            study file, such as "price": those of a setup's levels are added. Names of columns do as well
            ("noise_dba").
        of : str
            "rise" (less is better), "capacity" (more is better), or what `compare` takes as `by`: means,
            intervals and verdicts are those of that comparison.
        room_c : float
            The room that capacities are for.
        where : mapping, optional
            Levels of factors that setups must have.
        """
        from gelassen.answers.tradeoffs import study_tradeoff

        return study_tradeoff(
            self.analysed_by(executor),
            against,
            of=of,
            room_c=room_c,
            where=where or {},
            confidence=confidence,
            leave_out=leave_out,
        )

    def at_equal(
        self,
        quantity: str,
        at: float | None = None,
        *,
        where: Mapping[str, str | float] | None = None,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> "pd.DataFrame":
        """Compare setups at the same noise, fan speed or duty.

        Each setup's cooling over fan speed is used where the runs tell it (see `curves`). Setups under
        curves that react then need no fan speed in common. Elsewhere, a smooth course between the levels
        of each setup is used.

        Parameters
        ----------
        quantity : str
            A logged quantity, such as "noise_dba", "fan_rpm" or "duty_pct".
        at : float, optional
            Where to compare; the middle of what all setups cover if not given.
        where : mapping, optional
            Only runs with these levels of factors.

        Returns
        -------
        DataFrame
            setup, at, rise_k, low_k, high_k, levels, difference_k, difference_low_k, difference_high_k,
            distinguishable, power_w, passes_limit, method: the difference is to the coolest of them under
            the same power limit and load; its interval holds for all pairs together. NaN where a setup does
            not reach that far. `passes_limit`: it would be held back by its temperature limit there.
            Setups are grouped by all factors but those that move fans.
        """
        from gelassen.answers.equal import study_at_equal

        return study_at_equal(
            self.analysed_by(executor),
            quantity,
            at,
            where=where or {},
            confidence=confidence,
            leave_out=leave_out,
        )

    def drift(
        self,
        setup: str | None = None,
        *,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> "MachineDrift":
        """Look for a trend in repeats of one setup over time: the baseline, if none is named."""
        from gelassen.answers.drift import study_drift

        return study_drift(
            self.analysed_by(executor), setup, confidence=confidence, leave_out=leave_out
        )

    def drifts(
        self,
        setup: str | None = None,
        *,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> "pd.DataFrame":
        """Look for trends of rest, clock, voltage, power, work and score in repeats of one setup.

        Returns
        -------
        DataFrame
            quantity, unit, runs, over_all (from the first run to the last), low, high (its interval),
            distinguishable. Of fewer than four runs nothing is told: infinite ends.
        """
        from gelassen.answers.drift import study_drifts

        return study_drifts(
            self.analysed_by(executor), setup, confidence=confidence, leave_out=leave_out
        )

    def loads(
        self,
        *,
        baseline: str | None = None,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
        by: str = "rise",
    ) -> "StudyLoads":
        """Compare the setups under each load by itself, and over all loads.

        The load is what a factor with `sets = "load"` or `"workers"` says, else what each run recorded.
        `by` is as in `compare`.

        Raises
        ------
        InputError
            A study whose runs have one load only, or an unknown baseline.
        """
        from gelassen.answers.loads import study_loads

        return study_loads(
            self.analysed_by(executor),
            baseline=baseline,
            confidence=confidence,
            leave_out=leave_out,
            by=by,
        )

    def curves(
        self,
        asked: "CurveQuestion | None" = None,
        *,
        setup: str | None = None,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> "StudyCurves":
        """Predict where fan curves settle, or choose one.

        Parameters
        ----------
        asked : CurveQuestion, optional
            A curve to predict, or what a curve is chosen for; the curves of the study file if not given.
        setup : str, optional
            One setup, its fan and power factors left out; all if not given.

        Raises
        ------
        InputError
            Runs that do not show cooling over fan speed, an unknown setup, or a temperature or sound
            level that cannot be kept.
        """
        from gelassen.answers.fans.curves import CurveQuestion, study_curves

        return study_curves(
            self.analysed_by(executor),
            asked or CurveQuestion(),
            setup=setup,
            confidence=confidence,
            leave_out=leave_out,
        )

    def parts(
        self, *, executor: Executor | None = None, leave_out: Mapping[str, str] | None = None
    ) -> "pd.DataFrame":
        """Return each part's temperature under load by setup, and its headroom.

        Columns: setup, part, hold_mean_c, hold_peak_c, limit_c, headroom_k (below its own limit),
        comfort_k (below the tester's comfort line), first: whether it is nearest to its limit.
        """
        from gelassen.answers.parts import study_parts

        return study_parts(self.analysed_by(executor), leave_out=leave_out)

    def capacity(
        self,
        *,
        limit_c: float | None = None,
        room_c: float = 25.0,
        at_power_w: float | None = None,
        confidence: float = 0.95,
        executor: Executor | None = None,
        leave_out: Mapping[str, str] | None = None,
    ) -> "StudyCapacity":
        """Find the power that each setup sustains.

        Parameters
        ----------
        limit_c : float, optional
            Limit temperature; the machine's own if not given.
        room_c : float
            The room to answer for.
        at_power_w : float, optional
            A power to say of whether each setup passes at it.

        Raises
        ------
        InputError
            A limit below the room, or no run with power and rise.
        """
        from gelassen.answers.capacities import study_capacity

        return study_capacity(
            self.analysed_by(executor),
            limit_c=limit_c,
            room_c=room_c,
            at_power_w=at_power_w,
            confidence=confidence,
            leave_out=leave_out,
        )


def open_study(path: str | Path) -> Study:
    """Open a study by its folder.

    Raises
    ------
    FileError
        The folder is not a study, or its `study.toml` is wrong; the message says where.
    """
    return Study(*read_study_folder(Path(path)))
