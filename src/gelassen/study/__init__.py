"""What is tested and what was recorded, on disk."""

from gelassen.study.analysis import StudyComparison
from gelassen.study.archive import read_run
from gelassen.study.study import Study, open_study
from gelassen.study.studyfile import StudyFile

__all__ = ["Study", "StudyComparison", "StudyFile", "open_study", "read_run"]
