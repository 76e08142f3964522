"""The command line: parses, calls, prints. Nothing heavy is imported before it is needed."""

import os
import shutil
import sys
from importlib import import_module
from pathlib import Path
from typing import NoReturn

import click

from gelassen.commands.leftovers import settings_left_behind
from gelassen.commands.shared.common import FAILED, WRONG_INPUT, say
from gelassen.commands.shared.everywhere import with_shared_options

# In the order in which they are used.
_HOMES = {
    "demo": ("demo", "demo"),
    "channels": ("channels", "channels"),
    "new": ("new", "new"),
    "run": ("run", "run"),
    "record": ("record", "record"),
    "note": ("note", "note"),
    "import": ("import_logs", "import_logs"),
    "enter": ("enter", "enter"),
    "show": ("show", "show"),
    "compare": ("compare", "compare"),
    "archive": ("archive", "archive"),
    "capacity": ("capacity", "capacity"),
    "curve": ("curve", "curve"),
    "report": ("report", "report"),
    "watch": ("watch", "watch"),
}
# Commands that start no program of the user, which would inherit this. The matrices here are small: threads
# of BLAS would only wait for each other, for a fifth of the processor time.
_ONLY_COMPUTE = ("archive", "capacity", "compare", "curve", "import", "report", "show")
_THREADS = ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS")
_FIRST_STEPS = """\
Gelassen tests how well a computer is cooled, and says how sure the answer is.

First steps:
  gelassen demo                    see the whole job on made-up sample data (half a minute)
  gelassen channels                see what this machine offers
  gelassen new cooling             describe what is to be tested, from a few questions
  gelassen run cooling             make the runs: it sets what it can, and asks for the rest
  gelassen record --study cooling --setup tower
                                   or a single run: idle, load and cool this machine
  gelassen note cooling/runs/001-tower --at 05:10 room.air.temp_c=21.3
                                   add what you read or did by hand
  gelassen enter cooling --setup tower --highest 81 --room 22 --minutes 20
                                   results that you read off a screen, without a log
  gelassen show cooling/runs/001-tower
                                   what that run says
  gelassen compare cooling         which setup is cooler, and how sure that is
  gelassen capacity cooling        how much power each setup sustains
  gelassen curve cooling --quietest --below 80
                                   the quietest fan curve that keeps 80 °C
  gelassen report cooling          all of it on one page, to show to others
  gelassen --help                  all commands
"""


def main() -> NoReturn:
    """Run the command line; errors a user can cause become a message and an exit status."""
    _open_what_is_closed()
    try:
        status = cli.main(standalone_mode=False)
    except click.exceptions.Exit as leave:
        status = leave.exit_code
    except click.ClickException as error:
        error.show()
        status = WRONG_INPUT
    except (click.Abort, KeyboardInterrupt):
        click.echo("stopped", err=True)
        status = FAILED
    except BrokenPipeError:  # the reader of our output has left, as `head` does
        sys.stderr.close()
        status = 0
    except OSError as error:
        what = error.filename or "the output cannot be written"
        say(f"gelassen: {what}: {error.strerror}" if error.strerror else f"gelassen: {error}")
        status = WRONG_INPUT
    except Exception as error:
        from gelassen.core.foundation.errors import GelassenError

        if not isinstance(error, GelassenError):
            raise
        say(f"gelassen: {error}")
        status = WRONG_INPUT
    sys.exit(status if isinstance(status, int) else 0)


def _open_what_is_closed() -> None:
    """Open the standard streams that were closed (`>&-`), so that no file takes their place."""
    for stream, mode in (("stdin", "r"), ("stdout", "w"), ("stderr", "w")):
        if getattr(sys, stream) is None:
            setattr(sys, stream, Path(os.devnull).open(mode))  # noqa: SIM115


class _Commands(click.Group):
    """Loads a command when it is asked for: nothing heavy comes before it is needed."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_HOMES)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _HOMES:
            return None
        module, name = _HOMES[cmd_name]
        if cmd_name in _ONLY_COMPUTE:
            os.environ.update({variable: os.environ.get(variable, "1") for variable in _THREADS})
        found: click.Command = getattr(import_module(f"gelassen.commands.{module}"), name)
        return with_shared_options(cmd_name, found)


@click.group(
    cls=_Commands,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"]},
)
@click.version_option(package_name="gelassen")
@click.option(
    "--put-back", is_flag=True, help="Put back settings that a run which was cut off left changed."
)
@click.pass_context
def cli(context: click.Context, put_back: bool) -> None:
    """Test how well a computer is cooled, and say how sure the answer is."""
    if sys.stdout.isatty():
        from gelassen.show.layout import fitted_to

        context.with_resource(fitted_to(shutil.get_terminal_size().columns))
    settings_left_behind(put_back=put_back)
    if context.invoked_subcommand is None and not put_back:
        click.echo(_FIRST_STEPS, nl=False)


with_shared_options("gelassen", cli)
