"""Carries a plan out on any bench."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.conduct.demo import make_demo
    from gelassen.conduct.planning.plan import PlannedPhase, RunPlan, Stair, plan_phases, staircase
    from gelassen.conduct.recording import record, record_run
    from gelassen.conduct.run import RunOutcome, carry_out
    from gelassen.conduct.study_run import MadeRun, conduct_study
    from gelassen.core.foundation.progress import Progress

__all__ = [
    "MadeRun",
    "PlannedPhase",
    "Progress",
    "RunOutcome",
    "RunPlan",
    "Stair",
    "carry_out",
    "conduct_study",
    "make_demo",
    "plan_phases",
    "record",
    "record_run",
    "staircase",
]

__getattr__ = loader(
    __name__,
    {
        "demo": ("make_demo",),
        "planning.plan": ("PlannedPhase", "RunPlan", "Stair", "plan_phases", "staircase"),
        "recording": ("record", "record_run"),
        "run": ("Progress", "RunOutcome", "carry_out"),
        "study_run": ("MadeRun", "conduct_study"),
    },
)
