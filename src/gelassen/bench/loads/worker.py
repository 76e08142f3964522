"""One worker process, pinned to one core. It works until told to stop, or until its parent is gone.

Started as ``python -m gelassen.bench.loads.worker CORE PAGE KERNEL DUTY PERIOD``. Standard input carries
single letters: g to go, s to stop working, end of file to leave. PAGE is the shared page. With a DUTY
below 1, all workers work and rest in step: by the machine's clock, not by their own.
"""

import contextlib
import os
import signal
import sys
import threading
import time
from pathlib import Path

from gelassen.bench.loads.kernels import make_kernel
from gelassen.bench.loads.page import ERRORS, LAST_NS, READY, ROUNDS, Page
from gelassen.system.processes import die_with_parent

_NAP_S = 0.05  # a resting worker checks this often whether it must leave


class _Orders:
    """The parent's last letter. A thread reads it, since pipes cannot be polled on every system."""

    def __init__(self) -> None:
        self.go = threading.Event()
        self.leave = threading.Event()
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        while letter := os.read(0, 1):
            if letter == b"g":
                self.go.set()
            else:
                self.go.clear()
        self.leave.set()
        self.go.set()


def main() -> None:
    """Work as told."""
    core, page = int(sys.argv[1]), Page(Path(sys.argv[2]))
    duty, period_s = float(sys.argv[4]), float(sys.argv[5])
    signal.signal(
        signal.SIGINT, signal.SIG_IGN
    )  # the parent handles Ctrl-C, and then stops this worker
    if sys.platform.startswith("linux"):
        die_with_parent()
        with contextlib.suppress(OSError):
            os.sched_setaffinity(0, {core})
    kernel = make_kernel(sys.argv[3])
    orders = _Orders()
    parent = os.getppid()
    page[READY] = 1
    while not orders.leave.is_set() and os.getppid() == parent:
        if not orders.go.wait(timeout=1.0):
            continue
        if duty < 1 and (rest_s := _rest_s(duty, period_s)) > 0:
            time.sleep(min(rest_s, _NAP_S))
            continue
        if not kernel.round():
            page[ERRORS] += 1
        page[LAST_NS] = time.monotonic_ns()
        page[ROUNDS] += 1


def _rest_s(duty: float, period_s: float) -> float:
    """Return how long to rest now, in s; 0 or less in the working part of the period."""
    at_s = time.monotonic() % period_s
    return period_s - at_s if at_s >= duty * period_s else 0.0


if __name__ == "__main__":
    main()
