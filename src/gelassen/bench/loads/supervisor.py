"""Runs a program repeatedly, and makes sure that nothing it starts outlives the load.

Started as ``python -m gelassen.bench.loads.supervisor ORDER`` with ORDER in JSON. Standard input
carries letters: g to go, s to stop, end of file to leave. Reports go to standard output, one a line:
"ended STATUS" for each run, "score NUMBER", "slow WORDS" if the score's expression is given up, and
"gave up STATUS LAST-LINE" at the end.
"""

import contextlib
import ctypes
import json
import os
import signal
import subprocess
import sys
import threading
import time

import psutil

from gelassen.bench.loads.output import Output
from gelassen.system.matching import MATCHER, Matcher

_AT_ONCE_S, _AT_MOST = 1.0, 3  # after this many quick failures in a row, the program is given up
_GRACE_S = 0.4


def main() -> None:
    """Run the program according to the letters."""
    order = json.loads(sys.argv[1])
    for name in ("SIGINT", "SIGHUP", "SIGTERM"):
        if hasattr(signal, name):  # the closed pipe tells us when to leave
            # A handler, and not "ignore": programs would inherit the latter.
            signal.signal(getattr(signal, name), lambda *_: None)
    if sys.platform.startswith("linux"):
        # Processes that lose their parent become children of this one, so that none escapes.
        with contextlib.suppress(OSError, AttributeError):
            ctypes.CDLL(None, use_errno=True).prctl(36, 1)  # PR_SET_CHILD_SUBREAPER
        if order["cores"]:
            with contextlib.suppress(OSError):
                os.sched_setaffinity(0, order["cores"])
    go, leave = threading.Event(), threading.Event()
    threading.Thread(target=_listen, args=(go, leave), daemon=True).start()
    output = Output(order["score"], _report)
    failures = 0
    while not leave.is_set():
        if not go.wait(timeout=1.0):
            continue
        began_s = time.monotonic()
        status = _run(order["command"], output, go, leave)
        if status is None:
            continue
        _report(f"ended {status}")
        at_once = status != 0 and time.monotonic() - began_s < _AT_ONCE_S
        failures = failures + 1 if at_once else 0
        if failures >= _AT_MOST:
            _report(f"gave up {status} {output.last_line[:120]}")
            go.clear()
    output.close()
    _end_all()


def _listen(go: threading.Event, leave: threading.Event) -> None:
    while letter := os.read(0, 1):
        if letter == b"g":
            go.set()
        else:
            go.clear()
    leave.set()
    go.set()


def _run(
    command: list[str], output: Output, go: threading.Event, leave: threading.Event
) -> int | None:
    """Run the program once; return its status, or None if it was ended."""
    read_end, write_end = os.pipe()
    reading = output.read(read_end)
    try:
        program = subprocess.Popen(
            command,
            stdin=subprocess.DEVNULL,
            stdout=write_end,
            stderr=subprocess.STDOUT,
            start_new_session=True,
        )
    except OSError as error:
        os.write(write_end, f"{error}\n".encode())
        time.sleep(0.1)
        return 127
    finally:
        os.close(write_end)
    keep = output.matcher
    while True:
        with contextlib.suppress(subprocess.TimeoutExpired):
            status = program.wait(timeout=0.05)
            _end_all(keep)  # processes that it left behind end with it
            reading.join(timeout=1.0)  # what it printed last is still in the pipe
            return status
        if leave.is_set() or not go.is_set():
            _end_all(keep)
            program.wait()
            return None


def _end_all(keep: Matcher | None = None) -> None:
    """End every descendant: first by SIGTERM, then by SIGKILL, until none but the matcher is left."""
    kept = None if keep is None else keep.pid
    for one in _descendants(kept):
        with contextlib.suppress(psutil.Error):
            one.terminate()
    psutil.wait_procs(_descendants(kept), timeout=_GRACE_S)
    for _ in range(50):
        left = [c for c in _descendants(kept) if _runs(c)]
        if not left:
            return
        for one in left:
            with contextlib.suppress(psutil.Error):
                one.kill()
        psutil.wait_procs(left, timeout=0.1)


def _descendants(kept: int | None) -> list[psutil.Process]:
    found = psutil.Process().children(recursive=True)
    return [one for one in found if one.pid != kept and not _matches(one)]


def _matches(process: psutil.Process) -> bool:
    """Return whether a process is a matcher of ours; another one may just have been started."""
    try:
        return MATCHER in process.cmdline()
    except psutil.Error:
        return False


def _runs(process: psutil.Process) -> bool:
    try:
        return bool(process.status() != psutil.STATUS_ZOMBIE)
    except psutil.Error:
        return False


def _report(text: str) -> None:
    os.write(1, f"{text}\n".encode())


if __name__ == "__main__":
    main()
