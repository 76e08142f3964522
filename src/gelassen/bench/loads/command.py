"""The tester's own program as the load: run again and again, its score read from what it prints."""

import contextlib
import json
import math
import re
import shutil
import subprocess
import threading
import time
from collections.abc import Mapping, Sequence
from typing import IO

from gelassen.core.foundation.errors import InputError
from gelassen.system.processes import start_own

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
            re.compile(score)
        except re.error as error:
            raise InputError(f'the score\'s expression "{score}" is none: {error}') from None
        self._score_pattern = score
        self._command = list(command)
        self._cores = list(cores or [])
        self._supervisor: subprocess.Popen[str] | None = None
        self._reader: threading.Thread | None = None
        self._lock = threading.Lock()
        self._score = math.nan
        self._told_slow = ""
        self._runs = self._failed = 0
        self._before: tuple[float, int] | None = None
        self._problem = ""

    workers = 1

    def prepare(self) -> None:
        """Start the supervisor, which waits."""
        if self._supervisor is not None:
            return
        order = json.dumps(
            {"command": self._command, "cores": self._cores, "score": self._score_pattern}
        )
        self._supervisor = start_own(
            "gelassen.bench.loads.supervisor",
            order,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
            errors="replace",
            start_new_session=True,  # this process handles Ctrl-C and tells the supervisor
        )
        self._reader = threading.Thread(
            target=self._read_reports, args=(self._supervisor.stdout,), daemon=True
        )
        self._reader.start()

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
        if self._reader is not None:
            self._reader.join(timeout=1.0)
        if supervisor.stdout is not None:
            supervisor.stdout.close()

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
        if self._score_pattern:
            found["load.program.score_count"] = score
        return found

    def news(self) -> str:
        """Return once that the score is no longer read, and why; empty otherwise."""
        with self._lock:
            said, self._told_slow = self._told_slow, ""
        return said

    def _read_reports(self, stream: IO[str]) -> None:
        """Take the supervisor's reports."""
        for line in stream:
            said, _, rest = line.strip().partition(" ")
            with self._lock:
                if said == "ended":
                    self._runs += 1
                    self._failed += rest != "0"
                elif said == "score":
                    self._score = float(rest)
                elif said == "slow":
                    self._told_slow = f"score: {rest}"
                elif said == "gave":  # "gave up STATUS LAST-LINE"
                    _, status, *words = rest.split(" ", 2)
                    self._problem = f"the load's program ends at once, with status {status}" + (
                        f': "{words[0]}"' if words else ""
                    )
