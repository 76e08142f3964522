"""Puts settings back when the process that changed them is killed.

Started as ``python -m gelassen.bench.actuators.guardian NOTE``, with a pipe as standard input that only
its parent holds open. It says "ready" on standard output. When the pipe closes, the parent is gone: what
the note still says is put back.
"""

import contextlib
import os
import signal
import sys
from pathlib import Path

from gelassen.bench.actuators.undo_notes import put_back_note
from gelassen.system.processes import announce_ready


def main() -> None:
    """Wait for the parent to end."""
    for name in ("SIGINT", "SIGTERM", "SIGHUP", "SIGQUIT"):
        if hasattr(signal, name):  # a signal that ends the parent must not end this process first
            signal.signal(getattr(signal, name), signal.SIG_IGN)
    announce_ready()
    while os.read(0, 64):
        pass
    with contextlib.suppress(OSError, ValueError):
        put_back_note(
            Path(sys.argv[1])
        )  # what fails stays in the note, and is reported at the next start


if __name__ == "__main__":
    main()
