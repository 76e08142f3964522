"""Gelassen tests how well a computer is cooled, and says how sure the answer is."""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from gelassen.core.errors import GelassenError
    from gelassen.core.recording import Recording
    from gelassen.core.summary import RunSummary, summarise_run
    from gelassen.intake import read_log
    from gelassen.study import Study, open_study, read_run

__version__ = "0.1.0"

__all__ = [
    "GelassenError",
    "Recording",
    "RunSummary",
    "Study",
    "__version__",
    "open_study",
    "read_log",
    "read_run",
    "summarise_run",
]

# Loaded when first asked for: "gelassen --help" must not wait for the whole of SciPy.
_HOMES = {
    "GelassenError": "gelassen.core.errors",
    "Recording": "gelassen.core.recording",
    "RunSummary": "gelassen.core.summary",
    "Study": "gelassen.study",
    "open_study": "gelassen.study",
    "read_log": "gelassen.intake",
    "read_run": "gelassen.study",
    "summarise_run": "gelassen.core.summary",
}


def __getattr__(name: str) -> Any:
    if name not in _HOMES:
        raise AttributeError(f"module 'gelassen' has no attribute '{name}'")
    from importlib import import_module

    return getattr(import_module(_HOMES[name]), name)
