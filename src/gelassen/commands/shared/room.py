"""The room, stated once for a whole run."""

from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from gelassen.bench import Bench
    from gelassen.core.recording.recording import Recording
    from gelassen.study.disk.run_file import StatedRoom

room_option = click.option(
    "--room",
    default=None,
    metavar="°C",
    help="The room, where it is not logged: 23, or 22.5+-0.3 with its standard error.",
)


def stated_room(text: str | None, bench: "Bench") -> "StatedRoom | None":
    """Return the room that was stated; refuse it where the machine reads the room itself."""
    if text is None:
        return None
    from gelassen.conduct.operator.entering import parse_room
    from gelassen.study.disk.run_file import StatedRoom

    _not_logged([info.name for info in bench.channels() if info.readable])
    room_c, error_k = parse_room(text)
    return StatedRoom(temp_c=room_c, standard_error_k=error_k)


def in_room(recording: "Recording", text: str | None) -> "Recording":
    """Return a log with the room that was stated for it."""
    if text is None:
        return recording
    from dataclasses import replace

    from gelassen.conduct.operator.entering import parse_room

    _not_logged([str(name) for name in recording.frame])
    return replace(recording, stated_room=parse_room(text))


def _not_logged(channels: list[str]) -> None:
    from gelassen.core.foundation.errors import InputError
    from gelassen.study.disk.archive import ROOM

    if ROOM in channels:
        raise InputError(f"--room states the room, and {ROOM} is logged: leave --room out")
