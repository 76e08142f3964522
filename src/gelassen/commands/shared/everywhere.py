"""Options that every command has: how much is said, and where the answer goes."""

import contextlib
import io
import logging
from collections.abc import Iterator
from pathlib import Path

import click

from gelassen.core.foundation.printable import printable

_ANSWERS = ("archive", "capacity", "compare", "curve")  # they print a result; `show` has its own -o


def with_shared_options(name: str, command: click.Command) -> click.Command:
    """Return a command that also takes -q and -v, and -o if it prints a result."""
    own = {text for param in command.params for text in param.opts}
    shared = [
        click.Option(
            ["-q", "--quiet"], is_flag=True, expose_value=False, is_eager=True, callback=_quiet,
            help="Print results, questions and errors only.",
        ),
        click.Option(
            ["-v", "--verbose"], count=True, expose_value=False, is_eager=True, callback=_verbose,
            help="Tell what is done; twice for all of it.",
        ),
    ]  # fmt: skip
    if name in _ANSWERS:
        shared.append(
            click.Option(
                ["-o", "--out"], type=click.Path(dir_okay=False, path_type=Path), expose_value=False,
                callback=_to_file, metavar="FILE", help="Write the result there instead of printing it.",
            )
        )  # fmt: skip
    help_last = len(command.params)
    command.params[help_last:] = [one for one in shared if not own & set(one.opts)]
    return command


def is_quiet() -> bool:
    """Return whether only results, questions and errors are wanted."""
    context = click.get_current_context(silent=True)
    return bool(context is not None and context.meta.get(__name__))


def _quiet(context: click.Context, _: click.Parameter, wanted: bool) -> None:
    if wanted:
        context.meta[__name__] = True


def _verbose(_: click.Context, __: click.Parameter, times: int) -> None:
    if times:
        told = logging.getLogger("gelassen")
        told.setLevel(logging.INFO if times == 1 else logging.DEBUG)
        handler = logging.StreamHandler()
        handler.setFormatter(logging.Formatter("%(asctime)s %(name)s: %(message)s", "%H:%M:%S"))
        told.handlers = [handler]


def _to_file(context: click.Context, _: click.Parameter, path: Path | None) -> None:
    if path is not None:
        context.with_resource(written_to(path))


@contextlib.contextmanager
def written_to(path: Path) -> Iterator[None]:
    """Take what is printed, and write it to a file at the end, whatever the end is: it was the answer."""
    from gelassen.core.foundation.errors import FileError
    from gelassen.system.files import write_out

    printed = io.StringIO()
    try:
        with contextlib.redirect_stdout(printed):
            yield
    finally:
        if printed.getvalue():
            try:
                write_out(path, printed.getvalue())
            except OSError as error:
                raise FileError(f"{path} cannot be written ({error.strerror or error})") from None
            if not is_quiet():
                click.echo(printable(f"written: {path}"), err=True)
