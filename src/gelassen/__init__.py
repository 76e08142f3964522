"""Gelassen tests how well a computer is cooled, and says how sure the answer is."""

import logging
from typing import TYPE_CHECKING

from gelassen._lazy import loader, shown
from gelassen._version import __version__

if TYPE_CHECKING:
    from gelassen.answers.archive import open_archive
    from gelassen.core.foundation.errors import GelassenError
    from gelassen.core.recording.recording import Recording
    from gelassen.core.run.summary import RunSummary, summarise_run
    from gelassen.intake import read_log
    from gelassen.show.shown_study import Study, open_study
    from gelassen.study import read_run

__all__ = [
    "GelassenError",
    "Recording",
    "RunSummary",
    "Study",
    "__version__",
    "open_archive",
    "open_study",
    "read_log",
    "read_run",
    "summarise_run",
]

logging.getLogger(__name__).addHandler(logging.NullHandler())  # silent unless asked
__dir__ = shown(globals())
__getattr__ = loader(
    __name__,
    {
        "core": ("GelassenError", "Recording", "RunSummary", "summarise_run"),
        "intake": ("read_log",),
        "answers.archive": ("open_archive",),
        "show.shown_study": ("Study", "open_study"),
        "study": ("read_run",),
    },
)
