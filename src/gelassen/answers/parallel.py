"""A pool of processes for work that is independent run by run."""

import os
from concurrent.futures import ProcessPoolExecutor

from gelassen.system.processes import die_with_parent


def process_pool() -> ProcessPoolExecutor:
    """Return a pool with one process a core that may be used, each with one thread of linear algebra.

    Its processes end with the one that made it, however that ends.
    """
    usable = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count()
    return ProcessPoolExecutor(max_workers=usable or 1, initializer=_prepare)


def _prepare() -> None:
    die_with_parent()
    # The matrices here are small: threads of BLAS would only fight over the cores.
    import numpy  # noqa: F401  loads BLAS, so that its threads can be limited
    from threadpoolctl import threadpool_limits

    threadpool_limits(1)
