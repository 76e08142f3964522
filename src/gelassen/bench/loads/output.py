"""Reads what the tester's program prints, in the supervisor: the last line, and scores in the lines.

However much the program prints, and however long its lines are, memory stays small and the program is
never kept waiting. Lines that come faster than they can be matched are passed over.
"""

import os
import threading
from collections import deque
from collections.abc import Callable

from gelassen.system.matching import LONGEST_LINE, Matcher, TooSlowError

_PIECE = 1 << 16
_MOST_WAITING = 200  # lines
_AT_MOST = 3  # an expression that was too slow this often is given up


class Output:
    """Reads one program after the other.

    Parameters
    ----------
    score
        Regular expression of the score; empty if there is none.
    report
        Told "score NUMBER" for each score and "slow WORDS" if the expression is given up.
    """

    def __init__(self, score: str, report: Callable[[str], None]) -> None:
        self._score, self._report = score, report
        self.matcher = Matcher()
        self._lines: deque[str] = deque(maxlen=_MOST_WAITING)
        self._news = threading.Event()
        self.last_line = ""
        if score:
            threading.Thread(target=self._match, daemon=True).start()

    def close(self) -> None:
        """End the matching; no new process is started for it."""
        self._lines.clear()
        self._score = ""
        self.matcher.close()

    def read(self, descriptor: int) -> threading.Thread:
        """Read a pipe to its end in a thread, which is returned."""
        thread = threading.Thread(target=self._read, args=(descriptor,), daemon=True)
        thread.start()
        return thread

    def _read(self, descriptor: int) -> None:
        rest, too_long = b"", False
        while piece := os.read(descriptor, _PIECE):
            *lines, rest = (rest + piece).split(b"\n")
            if lines and too_long:
                del lines[0]  # the end of a line whose beginning was passed over
                too_long = False
            for line in lines[-_MOST_WAITING:]:
                self._take(line)
            if len(rest) > LONGEST_LINE:
                if not too_long:
                    self._take(rest[:LONGEST_LINE])
                rest, too_long = b"", True
        if rest and not too_long:
            self._take(rest)
        os.close(descriptor)

    def _take(self, line: bytes) -> None:
        text = line[:LONGEST_LINE].decode("utf-8", "replace").strip()
        if text:
            self.last_line = text
            if self._score:
                self._lines.append(text)
                self._news.set()

    def _match(self) -> None:
        slow = 0
        while self._news.wait():
            self._news.clear()
            while self._lines:
                try:
                    found = self.matcher.find(self._score, self._lines.popleft())
                    if found is not None:
                        self._report(f"score {float(found.replace(',', '.'))}")
                except TooSlowError as error:
                    slow += 1
                    if slow == _AT_MOST:
                        self._report(f"slow {error}; no score is read any more")
                        return
                except (ValueError, OSError):
                    continue
