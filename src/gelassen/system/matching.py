"""Matches regular expressions of the tester in a process of its own, with a time limit.

An expression such as ``(a+)+b`` can take years on a short text, and Python cannot do anything else
meanwhile. The recorder must never wait for one.
"""

import contextlib
import json
import subprocess
import threading
from queue import Empty, SimpleQueue

from gelassen.system.processes import start_own

MATCHER = "gelassen.system.matcher"
LIMIT_S = 0.5  # a sensible expression needs microseconds
LONGEST_LINE = 4096  # characters; scores and readings stand on short lines
_ENDED = b""  # in place of an answer: the process has ended
_START_S = 20.0  # starting Python takes a second or two on a machine under full load


class TooSlowError(ValueError):
    """An expression did not come to an end within the time limit."""


class Matcher:
    """Answers one match at a time; usable from several threads. The process starts when it is needed."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        self._answers: SimpleQueue[bytes] = SimpleQueue()
        self._lock = threading.Lock()

    def find(self, pattern: str, text: str) -> str | None:
        """Return the first group of the first match, the whole match if there is no group, or None.

        Raises
        ------
        TooSlowError
            The expression takes too long on this text.
        OSError
            The matching process does not start.
        """
        request = json.dumps([pattern, text[:LONGEST_LINE]]).encode() + b"\n"
        with self._lock:
            if self._process is None or self._process.poll() is not None:
                self._start()
            if self._process is None or self._process.stdin is None:
                raise OSError("the process that matches did not start")
            self._process.stdin.write(request)
            self._process.stdin.flush()
            try:
                answer = self._answers.get(timeout=LIMIT_S)
            except Empty:
                self._end()
                raise TooSlowError(
                    f'the expression "{pattern[:60]}" takes more than {LIMIT_S:g} s on one line'
                ) from None
            if answer == _ENDED:
                self._end()
                raise OSError("the process that matches has ended")
        found: str | None = json.loads(answer)
        return found

    def _start(self) -> None:
        self._end()
        self._process = start_own(
            MATCHER,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            start_new_session=True,  # Ctrl-C is for the recorder
        )
        self._answers = SimpleQueue()
        threading.Thread(target=_pass_on, args=(self._process, self._answers), daemon=True).start()
        try:
            ready = self._answers.get(timeout=_START_S) != _ENDED  # its first line says so
        except Empty:
            ready = False
        if not ready:
            self._end()

    def _end(self) -> None:
        process, self._process = self._process, None
        if process is None:
            return
        process.kill()
        process.wait()
        if process.stdin is not None:
            with contextlib.suppress(OSError):
                process.stdin.close()

    def close(self) -> None:
        """End the process."""
        with self._lock:
            self._end()

    @property
    def pid(self) -> int | None:
        """Number of the process; None while there is none."""
        return None if self._process is None else self._process.pid


def _pass_on(process: "subprocess.Popen[bytes]", answers: "SimpleQueue[bytes]") -> None:
    if process.stdout is not None:
        with process.stdout:
            for line in process.stdout:
                answers.put(line)
    answers.put(_ENDED)
