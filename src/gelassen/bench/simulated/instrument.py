"""A stand-in for an instrument, such as a bench supply or a thermometer: a small SCPI server over TCP."""

import socketserver
import threading
from collections.abc import Callable, Mapping
from types import TracebackType
from typing import Self


class ScpiServer:
    """Answers queries from a table, on a free port of this machine. A context manager.

    Parameters
    ----------
    answers
        Query to a function that returns the answer. Unknown queries get none, as on real ones.
    """

    def __init__(self, answers: Mapping[str, Callable[[], str]]) -> None:
        table = {query.upper(): answer for query, answer in answers.items()}

        class Handler(socketserver.StreamRequestHandler):
            def handle(self) -> None:
                for line in self.rfile:
                    answer = table.get(line.decode("ascii", "replace").strip().upper())
                    if answer is not None:
                        self.wfile.write(f"{answer()}\n".encode())

        self._server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), Handler)
        self._server.daemon_threads = True
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    @property
    def resource(self) -> str:
        """Its VISA resource name."""
        return f"TCPIP::127.0.0.1::{self._server.server_address[1]}::SOCKET"

    def close(self) -> None:
        """Close the server."""
        self._server.shutdown()
        self._server.server_close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()
