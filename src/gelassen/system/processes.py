"""Starts processes of our own, so that no file in the working folder becomes part of them."""

import contextlib
import ctypes
import os
import select
import signal
import subprocess
import sys
import time
from collections.abc import Mapping
from pathlib import Path
from typing import IO, Any

READY = b"ready\n"


def start_own(
    module: str, *arguments: str, extra: Mapping[str, str] | None = None, **options: Any
) -> "subprocess.Popen[Any]":
    """Start ``python -m module`` with a safe path.

    `-P` keeps the working folder off the path of modules. An empty or relative entry of PYTHONPATH would
    bring it back, so these are dropped. `extra` is added to the environment; `options` go to
    `subprocess.Popen`.
    """
    environment = {**os.environ, **(extra or {})}
    if given := environment.pop("PYTHONPATH", ""):
        kept = [entry for entry in given.split(os.pathsep) if Path(entry).is_absolute()]
        if kept:
            environment["PYTHONPATH"] = os.pathsep.join(kept)
    for name in ("PYTHONINSPECT", "PYTHONSTARTUP"):
        environment.pop(name, None)
    command = [sys.executable, "-P", "-m", module, *arguments]
    return subprocess.Popen(command, env=environment, **options)


def announce_ready() -> None:
    """Tell the parent on standard output that this process is ready."""
    os.write(1, READY)


def is_ready(process: "subprocess.Popen[bytes]", within_s: float) -> bool:
    """Wait until a process of ours has announced itself; False if it has not within this time."""
    stream: IO[bytes] | None = process.stdout
    if stream is None:
        raise ValueError("standard output of the process must be a pipe")
    deadline_s = time.monotonic() + within_s
    said = b""
    while not said.endswith(READY):
        left_s = deadline_s - time.monotonic()
        if left_s <= 0 or not select.select([stream], [], [], left_s)[0]:
            return False
        more = os.read(stream.fileno(), 64)
        if not more:  # it has ended
            return False
        said += more
    return True


def die_with_parent() -> None:
    """Ask the kernel to end this process with its parent, where the system can do that."""
    if sys.platform.startswith("linux"):
        with contextlib.suppress(OSError, AttributeError):
            ctypes.CDLL(None, use_errno=True).prctl(1, signal.SIGKILL)  # PR_SET_PDEATHSIG
