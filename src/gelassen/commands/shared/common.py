"""Options and small helpers that several commands share."""

import shlex
import shutil
import sys
import textwrap
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from gelassen.commands.shared.everywhere import is_quiet
from gelassen.core.foundation.printable import printable

if TYPE_CHECKING:
    from gelassen.conduct import Progress
    from gelassen.study.file.gate import Gate

Command = TypeVar("Command", bound=Callable[..., Any])
FAILED, WRONG_INPUT = 1, 2


def say(text: str) -> None:
    """Print a message that is not a result to standard error."""
    emit(text, err=True)


def hint(text: str) -> None:
    """Print how far something is, or what to do next, to standard error, unless -q was given."""
    if not is_quiet():
        say(text)


def emit(text: object = "", *, nl: bool = True, err: bool = False) -> None:
    """Print text; a character that a terminal would obey is shown as its code."""
    if _listener is not None and not err:
        _listener.printed.append((str(text), nl))
    click.echo(printable(str(text)), nl=nl, err=err)


@dataclass(slots=True)
class Heard:
    """What a command printed as its result, and the figures that it drew."""

    printed: list[tuple[str, bool]] = field(default_factory=list)
    figures: list[Path] = field(default_factory=list)


_listener: Heard | None = None


@contextmanager
def listen() -> Iterator[Heard]:
    """Note what is printed and drawn within."""
    global _listener
    _listener = heard = Heard()
    try:
        yield heard
    finally:
        _listener = None


def tell(text: str) -> None:
    """Print a result; on a terminal, long lines of prose are broken between words."""
    if sys.stdout.isatty():
        width = shutil.get_terminal_size().columns
        text = "\n".join(_broken(line, width) for line in text.split("\n"))
    emit(text)


def _broken(line: str, width: int) -> str:
    words = line.strip()
    if len(line) <= width or "  " in words.removeprefix("- "):  # the second: a row of a table
        return line
    indent = " " * (len(line) - len(line.lstrip()))
    after = indent + ("  " if words.startswith("- ") else "")
    return textwrap.fill(words, width, initial_indent=indent, subsequent_indent=after)


def give_figure(draw: Callable[[Path], object], asked: Path | None, study: Path, name: str) -> None:
    """Draw a figure where the user asked for it, else among the figures of the study.

    A figure that nobody asked for is not worth an error: the answer was given, and a study may be
    read-only, or somebody else's with a link that leads out of it.
    """
    from gelassen.core.foundation.errors import FileError

    path = asked or study / "figures" / name
    try:
        if asked is None and not path.parent.resolve().is_relative_to(study.resolve()):
            raise FileError(f"{path.parent} leads out of the study")
        draw(path)
    except FileError as error:
        if asked is not None:
            raise
        say(f"no figure: {error}")
    else:
        if _listener is not None:
            _listener.figures.append(path)
        hint(f"figure: {path}")


def pair(option: str, text: str, like: str, *, last: bool = False) -> tuple[str, str]:
    """Return both sides of KEY=VALUE. With `last`, the last equals sign divides them.

    Raises
    ------
    InputError
        One side is missing.
    """
    from gelassen.core.foundation.errors import InputError

    key, _, value = text.rpartition("=") if last else text.partition("=")
    if not (key.strip() and value.strip()):
        raise InputError(f'{option} "{text}": write it like {like}')
    return key.strip(), value.strip()


format_option = click.option(
    "--format", "form", type=click.Choice(["text", "json", "csv", "markdown"]), default="text",
    help="How to print the numbers.",
)  # fmt: skip
confidence_option = click.option(
    "--confidence", type=click.FloatRange(0.5, 0.999), default=0.95, show_default=True,
    help="Share of intervals that should cover the truth.",
)  # fmt: skip


def figure_option(command: Command) -> Command:
    """Let a command be told where to draw its figure, or to draw none."""
    command = click.option("--no-figure", is_flag=True, help="Draw nothing.")(command)
    where = click.Path(path_type=Path)
    return click.option("--figure", type=where, default=None, help="Where to draw it.")(command)


class Numbers(click.ParamType):  # type: ignore[type-arg]
    """Several numbers, with spaces or commas between them."""

    name = "numbers"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> tuple[float, ...]:
        """Return the numbers."""
        if not isinstance(value, str):
            return tuple(value)
        try:
            return tuple(float(word) for word in value.replace(",", " ").replace("%", " ").split())
        except ValueError:
            self.fail(f'"{value}" are no numbers, such as "100 80 60"')


class Duration(click.ParamType):  # type: ignore[type-arg,unused-ignore]
    """A length of time: "20 min", "90 s", "1 h", or seconds."""

    name = "duration"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        """Return seconds."""
        from gelassen.core.foundation.errors import InputError
        from gelassen.study.file.durations import seconds

        try:
            return seconds(value)
        except InputError as error:
            self.fail(str(error), param, ctx)


class PhaseLength(click.ParamType):  # type: ignore[type-arg,unused-ignore]
    """The length of a phase: a duration, or "until known" or "until rested"."""

    name = "duration"

    def __init__(self, phase: str) -> None:
        self._phase = phase

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> "float | Gate":
        """Return seconds, or what ends the phase."""
        from gelassen.core.foundation.errors import InputError
        from gelassen.study.file.gate import phase_length

        try:
            found: float | Gate = phase_length(self._phase, value)
        except InputError as error:
            self.fail(str(error), param, ctx)
        return found


sysfs_option = click.option(
    "--sysfs", type=click.Path(path_type=Path), default=None, metavar="ROOT",
    help="Read a captured tree instead of /sys.",
)  # fmt: skip


def study_at(path: Path) -> Path | None:
    """Return the study that a path names, its folder or its file; None if it is none."""
    folder = path.parent if path.name == "study.toml" else path
    return folder if (folder / "study.toml").is_file() else None


def shell(path: Path) -> str:
    """Return a path as a user would type it."""
    return shlex.quote(str(path))


@contextmanager
def progress_bar(what: str, wanted: bool) -> Iterator[Callable[[int, int], None]]:
    """Show how far something is, on a terminal; elsewhere, and where it is not wanted, nothing."""
    if not wanted or is_quiet() or not sys.stderr.isatty():
        yield lambda done, all_: None
        return
    from rich.console import Console
    from rich.progress import Progress as Bar

    with Bar(console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task(what, total=None)
        yield lambda done, all_: bar.update(task, completed=done, total=all_)


@contextmanager
def status_line() -> Iterator[Any]:
    """Show where the run is: one line that changes on a terminal, one line a minute elsewhere."""
    live = sys.stderr.isatty()
    last = -60.0

    def show(progress: "Progress") -> None:
        nonlocal last
        if not live and progress.elapsed_s - last < 60:
            return
        last = progress.elapsed_s
        readings = progress.readings
        temps = {n: v for n, v in readings.items() if n.endswith(".temp_c") and v == v}
        hottest = max(temps, key=lambda n: temps[n], default="")
        shown = f"  {hottest} {temps[hottest]:.1f} °C" if hottest else "  no temperature"
        rate = readings.get("load.work.rate_per_s", 0.0)
        text = f"{progress.phase:8}  {progress.left_s / 60:5.1f} min left{shown}  work {rate:.0f}/s"
        click.echo(f"\r\033[K{text}" if live else text, nl=not live, err=True)

    try:
        yield show
    finally:
        if live:
            click.echo("\r\033[K", nl=False, err=True)
