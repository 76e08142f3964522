"""``python -m gelassen.watch FOLDER``: serve a socket that was handed over, until the parent ends."""

import os
import socket
import sys
from pathlib import Path

from gelassen.system.processes import announce_ready, die_with_parent
from gelassen.watch.serving import LOCAL, SOCKET, TOKEN


def main() -> None:
    """Serve."""
    die_with_parent()
    os.nice(10)  # the machine is under test: a page may wait
    from gelassen.watch.server import serve

    bound = socket.socket(fileno=int(os.environ[SOCKET]))
    announce_ready()
    serve(Path(sys.argv[1]), bound, os.environ.pop(TOKEN, ""), local=os.environ[LOCAL] == "1")


if __name__ == "__main__":
    main()
