"""What was recorded: channels, units, which part is judged, when it was loaded."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.core.recording.load_span import LoadSpan
    from gelassen.core.recording.recording import Event, Phase, Recording

__all__ = [
    "Event",
    "LoadSpan",
    "Phase",
    "Recording",
]

__getattr__ = loader(
    __name__,
    {
        "load_span": ("LoadSpan",),
        "recording": (
            "Event",
            "Phase",
            "Recording",
        ),
    },
)
