"""A pool of processes for work that is independent run by run."""

import os
from concurrent.futures import ProcessPoolExecutor


def process_pool() -> ProcessPoolExecutor:
    """Return a pool with one process a core, each with one thread of linear algebra."""
    return ProcessPoolExecutor(max_workers=min(os.cpu_count() or 1, 8), initializer=_one_thread)


def _one_thread() -> None:
    # The matrices here are small: threads of BLAS would only fight over the cores.
    import numpy  # noqa: F401  loads BLAS, so that its threads can be limited
    from threadpoolctl import threadpool_limits

    threadpool_limits(1)
