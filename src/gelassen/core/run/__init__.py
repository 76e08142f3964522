"""What one run says, all together."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.core.run.summary import RunSummary, summarise_run

__all__ = [
    "RunSummary",
    "summarise_run",
]

__getattr__ = loader(
    __name__,
    {
        "summary": (
            "RunSummary",
            "summarise_run",
        ),
    },
)
