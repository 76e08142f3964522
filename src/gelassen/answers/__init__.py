"""Answers from all runs of a study. They take runs and return frozen results."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.answers.capacities import StudyCapacity
    from gelassen.answers.comparison import StudyComparison
    from gelassen.answers.fans.curves import CurveQuestion, StudyCurves
    from gelassen.answers.loads import StudyLoads
    from gelassen.answers.study import Study, open_study

__all__ = [
    "CurveQuestion",
    "Study",
    "StudyCapacity",
    "StudyComparison",
    "StudyCurves",
    "StudyLoads",
    "open_study",
]

__getattr__ = loader(
    __name__,
    {
        "capacities": ("StudyCapacity",),
        "comparison": ("StudyComparison",),
        "fans.curves": ("CurveQuestion", "StudyCurves"),
        "loads": ("StudyLoads",),
        "study": (
            "Study",
            "open_study",
        ),
    },
)
