"""When conditions changed during a run, and by how much two clocks differ."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.core.changes.changes import find_changes
    from gelassen.core.changes.steps import Step, find_steps

__all__ = [
    "Step",
    "find_changes",
    "find_steps",
]

__getattr__ = loader(
    __name__,
    {
        "changes": ("find_changes",),
        "steps": (
            "Step",
            "find_steps",
        ),
    },
)
