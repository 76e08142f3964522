"""A load on the real processor: one worker process a core."""

import contextlib
import os
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass

from gelassen.bench.loads.page import ERRORS, READY, ROUNDS, SIZE, Page
from gelassen.core.errors import BenchError

_READY_S = 20.0
_LEAVE_S = 0.5


@dataclass(slots=True)
class _Worker:
    process: "subprocess.Popen[bytes]"
    page: Page


class WorkerLoad:
    """The dense floating-point load on some or all cores.

    Workers are started beforehand and wait, so that the load begins on all cores at once.
    """

    def __init__(self, cores: list[int]) -> None:
        self._cores = cores
        self._workers: list[_Worker] = []
        self._problem = ""

    def prepare(self) -> None:
        """Start the workers and wait until all are ready."""
        if self._workers:
            return
        environment = dict(os.environ)
        # One thread each: the workers are the parallelism.
        for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS"):
            environment[name] = "1"
        try:
            for core in self._cores:
                self._workers.append(_start(core, environment))
            deadline = time.monotonic() + _READY_S
            while any(worker.page[READY] == 0 for worker in self._workers):
                if time.monotonic() > deadline or self._dead():
                    raise BenchError("the load's worker processes do not start: is memory short?")
                time.sleep(0.01)
        except BaseException:
            self.stop()
            raise

    def start(self) -> None:
        """Let all workers work."""
        self.prepare()
        self._tell(b"g")

    def stop(self) -> None:
        """End all workers, by force if need be."""
        for worker in self._workers:
            with contextlib.suppress(OSError):
                if worker.process.stdin:
                    worker.process.stdin.close()
        deadline = time.monotonic() + _LEAVE_S
        for worker in self._workers:
            try:
                worker.process.wait(timeout=max(deadline - time.monotonic(), 0.01))
            except subprocess.TimeoutExpired:
                worker.process.kill()
                worker.process.wait()
            worker.page.close()
        self._workers = []

    def problem(self) -> str:
        """Return what is wrong with the load, if anything."""
        dead = self._dead()
        if dead:
            self._problem = f"{dead} of {len(self._cores)} workers of the load have ended"
        return self._problem

    def rounds_and_errors(self) -> tuple[int, int]:
        """Return rounds of work done and wrong results, over all workers."""
        pages = [worker.page for worker in self._workers]
        return sum(page[ROUNDS] for page in pages), sum(page[ERRORS] for page in pages)

    def _dead(self) -> int:
        return sum(worker.process.poll() is not None for worker in self._workers)

    def _tell(self, letter: bytes) -> None:
        for worker in self._workers:
            with contextlib.suppress(OSError):
                if worker.process.stdin:
                    worker.process.stdin.write(letter)
                    worker.process.stdin.flush()


def _start(core: int, environment: dict[str, str]) -> _Worker:
    with tempfile.TemporaryFile() as shared:
        shared.truncate(SIZE)
        page = Page(shared.fileno())
        process = subprocess.Popen(
            [sys.executable, "-m", "gelassen.bench.loads.worker", str(core), str(shared.fileno())],
            stdin=subprocess.PIPE,
            pass_fds=(shared.fileno(),),
            env=environment,
        )
    return _Worker(process, page)
