"""A study opened with its new runs analysed, and the options that say how."""

from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from gelassen.commands.shared.common import hint, pair, progress_bar
from gelassen.core.foundation.counted import counted

if TYPE_CHECKING:
    from gelassen.answers import Study

Command = TypeVar("Command", bound=Callable[..., Any])
_FEW = 4  # fewer runs are analysed before a pool of processes has started

leave_out_option = click.option(
    "--leave-out",
    "left",
    multiple=True,
    metavar="RUN=WHY",
    help="Leave a run out, with the reason.",
)
scheduler_option = click.option(
    "--scheduler",
    default=None,
    metavar="ADDRESS",
    help="Analyse new runs on the workers of this Dask scheduler, such as tcp://10.0.0.5:8786.",
)


def opened(
    folder: Path,
    left: tuple[str, ...],
    scheduler: str | None = None,
    *,
    baseline: str | None = None,
) -> "tuple[Study, dict[str, str]]":
    """Open a study, analyse its new runs side by side, and return the runs left out."""
    from gelassen.study.file.reader import read_study_folder
    from gelassen.study.file.study_file import check_setup_name

    # A mistyped name is told before the libraries that analyse are loaded, which takes a second.
    _, file = read_study_folder(folder)
    if baseline is not None and file.setups:
        check_setup_name(file, baseline)
    from gelassen.answers import open_study

    study = open_study(folder)
    out: dict[str, str] = {}
    for text in left:
        run, why = pair("--leave-out", text, '"7=its fans ran faster"')
        out[run] = why
    new = study.unanalysed()
    many = new >= _FEW
    if many:
        hint(f"analysing {counted(new, 'run')}")
    with workers(scheduler, folder, wanted=many) as pool, progress_bar("analysing", many) as told:
        study.rows(executor=pool, leave_out=out, progress=told)
    return study, out


@contextmanager
def workers(
    scheduler: str | None, folder: Path | None, *, wanted: bool = True
) -> Iterator[Executor | None]:
    """Give the workers of a scheduler, if one was named; else processes here, if they are wanted."""
    if scheduler is not None:
        from gelassen.answers.workers.cluster import cluster

        with cluster(scheduler, folder if folder is None else folder.resolve()) as executor:
            yield executor
    elif wanted:
        from gelassen.answers.workers.pool import process_pool

        with process_pool() as pool:
            yield pool
    else:
        yield None
