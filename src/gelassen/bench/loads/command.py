"""The tester's own program as the load: run again and again, its score read from what it prints."""

import contextlib
import json
import math
import re
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Mapping, Sequence
from typing import IO

from gelassen.core.foundation.errors import InputError

_LEAVE_S = 3.0


class CommandLoad:
    """A command, restarted for as long as the load lasts.

    Parameters
    ----------
    command
        Program and arguments. No shell is involved.
    score
        Regular expression; its first group, or the whole match, is the score. Lines of both
        standard output and standard error are looked at.
    cores
        Logical processors it may use; all if not given.

    Raises
    ------
    InputError
        There is no such program, or the expression is none.
    """

    def __init__(
        self, command: Sequence[str], *, score: str = "", cores: Sequence[int] | None = None
    ) -> None:
        if not command or shutil.which(command[0]) is None:
            raise InputError(
                f'the load\'s program "{command[0] if command else ""}" is not found or not executable'
            )
        try:
            self._score_pattern = re.compile(score) if score else None
        except re.error as error:
            raise InputError(f'the score\'s expression "{score}" is none: {error}') from None
        self._command = list(command)
        self._cores = list(cores or [])
        self._supervisor: subprocess.Popen[str] | None = None
        self._readers: list[threading.Thread] = []
        self._lock = threading.Lock()
        self._score = math.nan
        self._last_line = ""
        self._runs = self._failed = 0
        self._before: tuple[float, int] | None = None
        self._problem = ""

    workers = 1

    def prepare(self) -> None:
        """Start the supervisor, which waits."""
        if self._supervisor is not None:
            return
        order = json.dumps({"command": self._command, "cores": self._cores})
        self._supervisor = subprocess.Popen(
            [sys.executable, "-m", "gelassen.bench.loads.supervisor", order],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            errors="replace",
            start_new_session=True,  # this process handles Ctrl-C and tells the supervisor
        )
        self._readers = [
            threading.Thread(target=work, args=(stream,), daemon=True)
            for work, stream in (
                (self._read_output, self._supervisor.stdout),
                (self._read_reports, self._supervisor.stderr),
            )
        ]
        for reader in self._readers:
            reader.start()

    def start(self) -> None:
        """Let the program run."""
        self.prepare()
        self._tell("g")

    def use(self, workers: int) -> None:
        """Let the program run, or with 0 pause it: it is ended, and started again later."""
        self._tell("g" if workers else "s")

    def _tell(self, letter: str) -> None:
        supervisor = self._supervisor
        if supervisor is not None and supervisor.stdin is not None:
            with contextlib.suppress(OSError):
                supervisor.stdin.write(letter)
                supervisor.stdin.flush()

    def stop(self) -> None:
        """End the program and all it has started."""
        supervisor, self._supervisor = self._supervisor, None
        if supervisor is None:
            return
        with contextlib.suppress(OSError):
            if supervisor.stdin is not None:
                supervisor.stdin.close()
        try:
            supervisor.wait(timeout=_LEAVE_S)
        except subprocess.TimeoutExpired:
            supervisor.kill()
            supervisor.wait()
        for reader in self._readers:
            reader.join(timeout=1.0)
        for stream in (supervisor.stdout, supervisor.stderr):
            if stream is not None:
                stream.close()

    def problem(self) -> str:
        """Return why the program no longer runs; empty while it does."""
        return self._problem

    def readings(self) -> Mapping[str, float]:
        """Return runs ended per second since the last reading, failed runs, and a score if one came."""
        now_s = time.monotonic()
        with self._lock:
            before, self._before = self._before, (now_s, self._runs)
            score, self._score = self._score, math.nan
            runs, failed = self._runs, self._failed
        rate = (runs - before[1]) / (now_s - before[0]) if before and now_s > before[0] else 0.0
        found = {"load.work.rate_per_s": rate, "load.work.errors_count": float(failed)}
        if self._score_pattern is not None:
            found["load.program.score_count"] = score
        return found

    def _read_output(self, stream: IO[str]) -> None:
        for line in stream:
            with self._lock:
                self._last_line = line.strip() or self._last_line
                match = self._score_pattern.search(line) if self._score_pattern else None
                if match:
                    with contextlib.suppress(ValueError, TypeError):
                        text = match[1] if match.re.groups else match[0]
                        self._score = float(text.replace(",", "."))

    def _read_reports(self, stream: IO[str]) -> None:
        """Read the supervisor's reports: "ended STATUS" for each run, "gave up STATUS" at the end."""
        for line in stream:
            said, _, status = line.strip().rpartition(" ")
            if said == "ended":
                with self._lock:
                    self._runs += 1
                    self._failed += status != "0"
            elif said == "gave up":
                time.sleep(0.1)  # its last report may still be on the way
                self._problem = f"the load's program ends at once, with status {status}" + (
                    f': "{self._last_line[:120]}"' if self._last_line else ""
                )
