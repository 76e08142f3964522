"""What is tested and what was recorded, on disk."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.study.disk.archive import read_run
    from gelassen.study.file.study_file import StudyFile

__all__ = ["StudyFile", "read_run"]

__getattr__ = loader(__name__, {"disk.archive": ("read_run",), "file.study_file": ("StudyFile",)})
