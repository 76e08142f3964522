"""A pool of processes on this machine, and what counts as an executor."""

import os
from concurrent.futures import Executor, ProcessPoolExecutor
from typing import Any, overload

from gelassen.core.foundation.errors import InputError
from gelassen.system.processes import die_with_parent


def process_pool() -> ProcessPoolExecutor:
    """Return a pool with one process a core that may be used, each with one thread of linear algebra.

    Its processes end with the one that made it, however that ends.
    """
    usable = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count()
    return ProcessPoolExecutor(max_workers=usable or 1, initializer=_prepare)


@overload
def as_executor(given: None) -> None: ...


@overload
def as_executor(given: Executor) -> Executor: ...


def as_executor(given: Any) -> Executor | None:
    """Return an executor as it is, and that of a Dask client for the client.

    Raises
    ------
    InputError
        It is neither.
    """
    if given is None or isinstance(given, Executor):
        return given
    if callable(getattr(given, "get_executor", None)):
        made: Executor = given.get_executor()
        return made
    raise InputError(
        f"executor is a {type(given).__name__}: one of concurrent.futures is meant, or a Dask client"
    )


def _prepare() -> None:
    die_with_parent()
    # The matrices here are small: threads of BLAS would only fight over the cores.
    import numpy  # noqa: F401  loads BLAS, so that its threads can be limited
    from threadpoolctl import threadpool_limits

    threadpool_limits(1)
