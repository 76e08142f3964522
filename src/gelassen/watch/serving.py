"""Starts the server in a process of its own, and ends it."""

import contextlib
import subprocess
from collections.abc import Iterator
from pathlib import Path

from gelassen.core.foundation.errors import InputError
from gelassen.system.processes import is_ready, start_own
from gelassen.watch.access import Address, listening, new_token, url_of

SOCKET, TOKEN, LOCAL = "GELASSEN_WATCH_SOCKET", "GELASSEN_WATCH_TOKEN", "GELASSEN_WATCH_LOCAL"
_STARTS_WITHIN_S = 30.0
_ENDS_WITHIN_S = 3.0


@contextlib.contextmanager
def served(folder: Path, address: Address) -> Iterator[str]:
    """Serve the runs of a study while a ``with`` lasts; give what to open in a browser.

    The token of an address that others can reach is in it, and nowhere else.

    Raises
    ------
    InputError
        The address cannot be used, or the server's package is not installed.
    """
    try:
        import starlette  # noqa: F401
        import uvicorn  # noqa: F401
    except ImportError:
        raise InputError('watching needs a server: pip install "gelassen[watch]"') from None
    token = new_token(address)
    with listening(address) as bound:
        url = url_of(bound, token)
        extra = {SOCKET: str(bound.fileno()), TOKEN: token, LOCAL: str(int(address.local))}
        process = start_own(
            "gelassen.watch", str(folder.resolve()), extra=extra, pass_fds=(bound.fileno(),),
            stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, start_new_session=True,
        )  # fmt: skip
    try:
        if not is_ready(process, _STARTS_WITHIN_S):
            raise InputError("the server of the page did not start")
        yield url
    finally:
        process.terminate()
        try:
            process.wait(_ENDS_WITHIN_S)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
        if process.stdout is not None:
            process.stdout.close()
