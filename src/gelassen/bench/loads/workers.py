"""A load on the real processor, with one worker process for each core."""

import contextlib
import subprocess
import tempfile
import threading
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from gelassen.bench.loads.page import ERRORS, LAST_NS, READY, SIZE, Page
from gelassen.core.foundation.errors import BenchError
from gelassen.system.processes import start_own

# One thread each, since the workers are the parallelism.
_ONE_THREAD = dict.fromkeys(("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "MKL_NUM_THREADS"), "1")
_READY_S = 20.0
_LEAVE_S = 0.5


@dataclass(slots=True)
class _Worker:
    process: "subprocess.Popen[bytes]"
    page: Page
    last: tuple[int, int] = (0, 0)  # rounds, and when the last one ended, at the last reading
    working: bool = False


class WorkerLoad:
    """One kernel on some or all cores.

    Workers are started beforehand and wait, so that the load begins on all cores at once.

    Parameters
    ----------
    cores
        Logical processors, one worker each.
    kernel
        What they do; see `gelassen.bench.loads.kernels`.
    duty_pct, period_s
        Share of each period they work in; all rest at the same time.
    """

    def __init__(
        self,
        cores: Sequence[int],
        *,
        kernel: str = "matrix",
        duty_pct: float = 100.0,
        period_s: float = 1.0,
    ) -> None:
        self._cores = list(cores)
        self._kernel = kernel
        self._duty, self._period_s = duty_pct / 100, period_s
        self._workers: list[_Worker] = []
        self._active = len(self._cores)
        self._errors = 0
        self._problem = ""
        self._stopping = threading.RLock()
        # A sample may be taken while another thread stops the load.
        self._counting = threading.Lock()

    @property
    def workers(self) -> int:
        """How many workers there are."""
        return len(self._cores)

    def prepare(self) -> None:
        """Start the workers and wait until all are ready."""
        if self._workers:
            return
        try:
            with tempfile.TemporaryDirectory(prefix="gelassen-") as shared:
                for core in self._cores:
                    self._workers.append(self._start(core, Path(shared)))
                deadline = time.monotonic() + _READY_S
                while any(worker.page[READY] == 0 for worker in self._workers):
                    if time.monotonic() > deadline or self._dead():
                        raise BenchError(
                            "the load's worker processes do not start: is memory short?"
                        )
                    time.sleep(0.01)
        except BaseException:
            self.stop()
            raise

    def _start(self, core: int, shared: Path) -> _Worker:
        path = shared / f"{len(self._workers)}.page"
        path.write_bytes(bytes(SIZE))
        page = Page(path)
        arguments = [str(core), str(path), self._kernel, str(self._duty), str(self._period_s)]
        process = start_own(
            "gelassen.bench.loads.worker", *arguments, extra=_ONE_THREAD, stdin=subprocess.PIPE
        )
        return _Worker(process, page)

    def start(self) -> None:
        """Let the workers work: all, or as many as `use` said."""
        self.prepare()
        self.use(self._active)

    def use(self, workers: int) -> None:
        """Let only this many of them work; 0 is a pause."""
        self._active = workers
        for number, worker in enumerate(self._workers):
            working = number < workers
            if working == worker.working:
                continue
            if working:  # a pause is not slow work
                worker.page[LAST_NS] = time.monotonic_ns()
                worker.last = worker.page.rounds()
            worker.working = working
            with contextlib.suppress(OSError):
                if worker.process.stdin:
                    worker.process.stdin.write(b"g" if working else b"s")
                    worker.process.stdin.flush()

    def stop(self) -> None:
        """End all workers, by force if need be; two threads may ask for it."""
        with self._stopping:
            self._stop()

    def _stop(self) -> None:
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
        with self._counting:
            self._errors += sum(worker.page[ERRORS] for worker in self._workers)
            self._workers = []

    def problem(self) -> str:
        """Return what is wrong with the load, if anything."""
        dead = self._dead()
        if dead:
            self._problem = f"{dead} of {len(self._cores)} workers of the load have ended"
        return self._problem

    def readings(self) -> Mapping[str, float]:
        """Return work per second since the last reading, and wrong results so far.

        Each worker's work is divided by the time its rounds took, from end to end, so that only whole
        rounds count.
        """
        rate_per_s = 0.0
        for worker in self._workers:
            last, worker.last = worker.last, worker.page.rounds()
            done, passed_ns = worker.last[0] - last[0], worker.last[1] - last[1]
            if last[1] > 0 and done > 0 and passed_ns > 0:
                rate_per_s += 1e9 * done / passed_ns
        return {
            "load.work.rate_per_s": rate_per_s,
            "load.work.errors_count": float(self.rounds_and_errors()[1]),
        }

    def rounds_and_errors(self) -> tuple[int, int]:
        """Return rounds of work done by the present workers, and wrong results so far."""
        with self._counting:
            rounds = sum(worker.page.rounds()[0] for worker in self._workers)
            return rounds, self._errors + sum(worker.page[ERRORS] for worker in self._workers)

    def _dead(self) -> int:
        return sum(worker.process.poll() is not None for worker in self._workers)
