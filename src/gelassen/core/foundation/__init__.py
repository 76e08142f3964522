"""What every wing stands on: errors, checks of input, results, spelling, progress."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.core.foundation.errors import BenchError, FileError, GelassenError, InputError
    from gelassen.core.foundation.inputs import as_confidence, as_positive, as_series, as_time
    from gelassen.core.foundation.progress import Progress
    from gelassen.core.foundation.result import Result, plain
    from gelassen.core.foundation.spelling import nearest

__all__ = [
    "BenchError",
    "FileError",
    "GelassenError",
    "InputError",
    "Progress",
    "Result",
    "as_confidence",
    "as_positive",
    "as_series",
    "as_time",
    "nearest",
    "plain",
]

__getattr__ = loader(
    __name__,
    {
        "errors": (
            "BenchError",
            "FileError",
            "GelassenError",
            "InputError",
        ),
        "inputs": (
            "as_confidence",
            "as_positive",
            "as_series",
            "as_time",
        ),
        "progress": ("Progress",),
        "result": (
            "Result",
            "plain",
        ),
        "spelling": ("nearest",),
    },
)
