"""One worker process: pinned to one core, it works until told to stop, or until its parent is gone.

Started as ``python -m gelassen.bench.loads.worker CORE FD``. Standard input carries single letters: g
to go, s to stop working, end of file to leave. FD is a shared page: rounds done and wrong results.
"""

import contextlib
import ctypes
import os
import select
import signal
import sys

from gelassen.bench.loads.page import ERRORS, READY, ROUNDS, Page


def _die_with_parent() -> None:
    """Ask the kernel to end this process with its parent; the closed pipe does it elsewhere."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None, use_errno=True).prctl(1, signal.SIGKILL)  # PR_SET_PDEATHSIG


def main() -> None:
    """Work as told."""
    core, fd = int(sys.argv[1]), int(sys.argv[2])
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for the parent, which then stops us
    if sys.platform.startswith("linux"):
        _die_with_parent()
        with contextlib.suppress(OSError):
            os.sched_setaffinity(0, {core})
    from gelassen.bench.loads.matrix import MatrixKernel

    page = Page(fd)
    kernel = MatrixKernel()
    page[READY] = 1
    working = False
    parent = os.getppid()
    while os.getppid() == parent:
        # While working, only look; while resting, wait for the next letter.
        ready, _, _ = select.select([0], [], [], 0.0 if working else 1.0)
        if ready:
            letter = os.read(0, 1)
            if not letter:
                return
            working = letter == b"g"
        if working:
            if not kernel.round():
                page[ERRORS] += 1
            page[ROUNDS] += 1


if __name__ == "__main__":
    main()
