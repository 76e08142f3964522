"""Computes beside the sampling, so that no sample is late."""

import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Generic, TypeVar

from gelassen.bench.interface import Bench

_T = TypeVar("_T")
# A bench whose clock is this far ahead of the real one since a question was asked has virtual time. There
# the answer is waited for, since computing takes no time on such a bench.
_AHEAD_S = 0.2


class Background(Generic[_T]):
    """Answers one question at a time in a thread of its own."""

    def __init__(self, bench: Bench) -> None:
        self._bench = bench
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="gelassen-thinks")
        self._future: Future[_T] | None = None
        self._asked = (0.0, 0.0)

    @property
    def busy(self) -> bool:
        """Whether a question is open."""
        return self._future is not None

    def ask(self, question: Callable[[], _T]) -> None:
        """Begin to answer."""
        self._asked = (self._bench.now(), time.monotonic())
        self._future = self._pool.submit(question)

    def answer(self) -> _T | None:
        """Return the answer once, as soon as it is there; until then None."""
        if self._future is None:
            return None
        bench_s, real_s = self._asked
        ahead = (self._bench.now() - bench_s) - (time.monotonic() - real_s)
        if not self._future.done() and ahead < _AHEAD_S:
            return None
        future, self._future = self._future, None
        return future.result()

    def close(self) -> None:
        """Release the thread without waiting for its present computation."""
        self._pool.shutdown(wait=False, cancel_futures=True)
