"""`gelassen note`: readings and events by hand, while a run goes on and afterwards."""

from pathlib import Path

import click

from gelassen.commands.shared.common import emit


@click.command()
@click.argument("run", type=click.Path(path_type=Path))
@click.argument("entries", nargs=-1, required=True, metavar="[CHANNEL=VALUE]... [TEXT]")
@click.option(
    "--at", default=None, metavar="TIME",
    help="When: 05:10 or 1:05:10 since the start of the recording, 310 s, 5 min, or a time of day "
    "with its date, 2026-03-02T14:05. Now, for a run that is being recorded.",
)  # fmt: skip
def note(run: Path, entries: tuple[str, ...], at: str | None) -> None:
    """Add readings (room.air.temp_c=21.3) and words ("side panel off") to a RUN."""
    from gelassen.conduct.operator.noting import add_by_hand

    done = add_by_hand(run, entries, at=at)
    emit(done)
