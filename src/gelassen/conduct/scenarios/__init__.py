"""Small made-up studies beside the large one: one for each way in which testers test."""

from gelassen.conduct.scenarios.judged_parts import PARTS
from gelassen.conduct.scenarios.recorded import PROGRAMS, SCORE, SINGLE
from gelassen.conduct.scenarios.scenario import Scenario
from gelassen.conduct.scenarios.typed import BY_HAND, LADDER, WORTH

SCENARIOS: dict[str, Scenario] = {
    "by-hand": BY_HAND,
    "single": SINGLE,
    "programs": PROGRAMS,
    "parts": PARTS,
    "score": SCORE,
    "ladder": LADDER,
    "worth": WORTH,
}

__all__ = ["SCENARIOS", "Scenario"]
