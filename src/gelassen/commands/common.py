"""Options and small helpers that several commands share."""

import shlex
from pathlib import Path
from typing import Any

import click

FAILED, WRONG_INPUT = 1, 2


def say(text: str) -> None:
    """Tell the user something that is no result: to standard error."""
    click.echo(text, err=True)


format_option = click.option(
    "--format", "form", type=click.Choice(["text", "json", "csv", "markdown"]), default="text",
    help="How to print the numbers.",
)  # fmt: skip
confidence_option = click.option(
    "--confidence", type=click.FloatRange(0.5, 0.999), default=0.95, show_default=True,
    help="Share of intervals that should cover the truth.",
)  # fmt: skip


class Duration(click.ParamType):  # type: ignore[type-arg,unused-ignore]
    """A length of time: "20 min", "90 s", "1 h", or seconds."""

    name = "duration"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        """Return seconds."""
        from gelassen.core.errors import InputError
        from gelassen.study.durations import seconds

        try:
            return seconds(value)
        except InputError as error:
            self.fail(str(error), param, ctx)


sysfs_option = click.option(
    "--sysfs", type=click.Path(path_type=Path), default=None, metavar="ROOT",
    help="Read a captured tree instead of /sys.",
)  # fmt: skip


def shell(path: Path) -> str:
    """Return a path as one would type it."""
    return shlex.quote(str(path))
