"""What is tested and what was recorded, on disk."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.study.analysis import StudyComparison
    from gelassen.study.archive import read_run
    from gelassen.study.study import Study, open_study
    from gelassen.study.studyfile import StudyFile

__all__ = ["Study", "StudyComparison", "StudyFile", "open_study", "read_run"]

__getattr__ = loader(
    __name__,
    {
        "analysis": ("StudyComparison",),
        "archive": ("read_run",),
        "study": ("Study", "open_study"),
        "studyfile": ("StudyFile",),
    },
)
