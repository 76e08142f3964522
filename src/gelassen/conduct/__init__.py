"""Carries a plan out on any bench."""

from gelassen.conduct.demo import make_demo
from gelassen.conduct.plan import PlannedPhase, RunPlan, plan_phases
from gelassen.conduct.recording import record, record_run
from gelassen.conduct.run import Progress, RunOutcome, carry_out

__all__ = [
    "PlannedPhase",
    "Progress",
    "RunOutcome",
    "RunPlan",
    "carry_out",
    "make_demo",
    "plan_phases",
    "record",
    "record_run",
]
