"""The settings of the real machine, which are always put back. Few imports, as the guardian loads it."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.bench.actuators.find import find_actuators
    from gelassen.bench.actuators.setting import Setting
    from gelassen.bench.actuators.undo_notes import left_behind, put_back_note

__all__ = ["Setting", "find_actuators", "left_behind", "put_back_note"]

__getattr__ = loader(
    __name__,
    {
        "find": ("find_actuators",),
        "setting": ("Setting",),
        "undo_notes": ("left_behind", "put_back_note"),
    },
)
