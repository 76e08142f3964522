"""`gelassen watch`: a run that goes on, as a page for a browser."""

import contextlib
import time
from collections.abc import Iterator
from pathlib import Path

import click

from gelassen.commands.shared.common import emit, say

watch_option = click.option(
    "--watch",
    "watch_at",
    is_flag=False,
    flag_value="",
    default=None,
    metavar="[HOST:PORT]",
    help="Serve a page with the run as it goes: for this machine, or at an address, with a token.",
)


@contextlib.contextmanager
def page_of(folder: Path, watch_at: str | None) -> Iterator[None]:
    """Serve the page of a folder's runs meanwhile, if it was asked for."""
    if watch_at is None:
        yield
        return
    from gelassen.watch.access import parse_address
    from gelassen.watch.serving import served

    folder.mkdir(parents=True, exist_ok=True)
    with served(folder, parse_address(watch_at)) as url:
        say(f"watch it: {url}")
        yield


@click.command()
@click.argument("folder", type=click.Path(path_type=Path))
@click.option(
    "--at", default="", metavar="HOST:PORT", help="Where others can reach it, with a token."
)
def watch(folder: Path, at: str) -> None:
    """Show the run that goes on in FOLDER, a study or a run, as a page. Ctrl-C ends it."""
    from gelassen.watch.access import parse_address
    from gelassen.watch.live_state import LiveRuns
    from gelassen.watch.serving import served

    LiveRuns(folder)  # a folder that is not there is said here
    with served(folder, parse_address(at)) as url:
        emit(f"open {url}")
        with contextlib.suppress(KeyboardInterrupt):
            while True:
                time.sleep(3600)
