"""Samples and guards in place of the recorder while a disk, a terminal or a program keeps that waiting."""

import threading
import time
from collections.abc import Callable, Mapping

from gelassen.bench.interface import Bench

Sample = tuple[float, Mapping[str, float]]
_PATIENCE = 1.5  # intervals without a sample; the next one then comes within two
_LOOKS = 4  # an interval


class StandIn:
    """Takes a sample whenever the recorder is late, and keeps it until the recorder is back.

    Parameters
    ----------
    bench
        Read by one thread at a time: whoever has `turn`.
    interval_s
        Between samples.
    looked_at
        Called with each sample taken here, to guard the machine.
    """

    def __init__(
        self, bench: Bench, interval_s: float, looked_at: Callable[[Sample], None]
    ) -> None:
        self._bench, self._interval_s, self._start_s = bench, interval_s, 0.0
        self._looked_at = looked_at
        self.turn = threading.Lock()
        self._kept: list[Sample] = []
        self._last_s, self._last_real_s = 0.0, time.monotonic()
        self._done = threading.Event()
        self._thread = threading.Thread(target=self._watch, name="stand-in", daemon=True)

    def begin(self, start_s: float) -> None:
        """Begin to watch; `start_s` is the bench's time at the start of the recording."""
        self._start_s, self._last_real_s = start_s, time.monotonic()
        self._thread.start()

    def sampled(self, at_s: float) -> list[Sample]:
        """Note that the recorder took a sample; return those taken in its place. The caller has `turn`."""
        kept, self._kept = self._kept, []
        self._last_s, self._last_real_s = at_s, time.monotonic()
        return kept

    def leave(self) -> list[Sample]:
        """End; return the samples that nobody took over."""
        self._done.set()
        if self._thread.is_alive():
            self._thread.join(timeout=2.0)
        kept, self._kept = self._kept, []
        return kept

    def _watch(self) -> None:
        while not self._done.wait(self._interval_s / _LOOKS):
            if not self._is_late() or not self.turn.acquire(blocking=False):
                continue
            try:
                if self._is_late():
                    self._take()
            finally:
                self.turn.release()

    def _is_late(self) -> bool:
        # By both clocks: the time of a simulated bench only passes while the recorder waits for it.
        patience_s = _PATIENCE * self._interval_s
        bench_s = self._bench.now() - self._start_s - self._last_s
        return min(bench_s, time.monotonic() - self._last_real_s) > patience_s

    def _take(self) -> None:
        at_s = self._bench.now() - self._start_s
        sample = (at_s, self._bench.read())
        self._last_s, self._last_real_s = at_s, time.monotonic()
        self._kept.append(sample)
        self._looked_at(sample)
