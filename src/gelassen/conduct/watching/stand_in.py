"""Samples and guards in place of the recorder while a disk, a terminal or a program keeps that waiting."""

import contextlib
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping

from gelassen.bench.interface import Bench
from gelassen.core import GelassenError

Sample = tuple[float, Mapping[str, float]]
_PATIENCE = 1.5  # intervals without a sample; the next one then comes within two
_LOOKS = 4  # an interval


class StandIn:
    """Takes a sample whenever the recorder is late, and stores it as soon as the disk takes it.

    Samples queue in the order of their times. One thread at a time stores them: the recorder, or a thread
    of its own here. So a disk that hangs keeps neither sampling nor the guard waiting, and a terminal that
    hangs costs no sample.

    Parameters
    ----------
    bench
        Read by one thread at a time: whoever has `turn`.
    interval_s
        Between samples.
    looked_at
        Called with each sample taken here, to guard the machine.
    store
        Called with each sample, by one thread at a time. A sample whose storing fails stays in the queue.
    """

    def __init__(
        self,
        bench: Bench,
        interval_s: float,
        looked_at: Callable[[Sample], None],
        store: Callable[[Sample], None],
    ) -> None:
        self._bench, self._interval_s, self._start_s = bench, interval_s, 0.0
        self._looked_at, self._store = looked_at, store
        self.turn = threading.Lock()
        self._queue: deque[Sample] = deque()
        self._storing = threading.Lock()
        self._taken_s: list[float] = []  # since the recorder was last here
        self._last_s, self._last_real_s = 0.0, time.monotonic()
        self._done, self._queued = threading.Event(), threading.Event()
        self._threads = [
            threading.Thread(target=work, name="stand-in", daemon=True)
            for work in (self._watch, self._keep_storing)
        ]

    def begin(self, start_s: float) -> None:
        """Begin to watch; `start_s` is the bench's time at the start of the recording."""
        self._start_s, self._last_real_s = start_s, time.monotonic()
        for thread in self._threads:
            thread.start()

    def sampled(self, sample: Sample) -> list[float]:
        """Queue a sample of the recorder; return when others were taken in its place, s.

        The caller has `turn`, and calls `store_all` when it has given that back.
        """
        self._queue.append(sample)
        taken, self._taken_s = self._taken_s, []
        self._last_s, self._last_real_s = sample[0], time.monotonic()
        return taken

    def store_all(self) -> None:
        """Store what is queued. Whatever `store` raises is raised."""
        with self._storing:
            while self._queue:
                self._store(self._queue[0])
                self._queue.popleft()

    def leave(self) -> None:
        """End the watching; what is queued stays for `store_all`."""
        self._done.set()
        self._queued.set()
        for thread in self._threads:
            if thread.is_alive():
                thread.join(timeout=2.0)

    def _watch(self) -> None:
        while not self._done.wait(self._interval_s / _LOOKS):
            if not self._is_late() or not self.turn.acquire(blocking=False):
                continue
            try:
                if self._is_late():
                    self._take()
            finally:
                self.turn.release()

    def _keep_storing(self) -> None:
        while self._queued.wait() and not self._done.is_set():
            self._queued.clear()
            with contextlib.suppress(OSError, GelassenError):  # the recorder meets and tells it
                self.store_all()

    def _is_late(self) -> bool:
        # By both clocks: the time of a simulated bench only passes while the recorder waits for it.
        patience_s = _PATIENCE * self._interval_s
        bench_s = self._bench.now() - self._start_s - self._last_s
        return min(bench_s, time.monotonic() - self._last_real_s) > patience_s

    def _take(self) -> None:
        at_s = self._bench.now() - self._start_s
        sample = (at_s, self._bench.read())
        self._last_s, self._last_real_s = at_s, time.monotonic()
        self._queue.append(sample)
        self._taken_s.append(at_s)
        self._queued.set()
        self._looked_at(sample)
