"""Who may look: anybody on this machine, or whoever has the token."""

import re
import secrets
import socket
from dataclasses import dataclass

from gelassen.core.foundation.errors import InputError

LOOPBACK = ("127.0.0.1", "localhost", "::1")
_ADDRESS = re.compile(r"(?:\[([^\]]+)\]|([^:]+)):(\d{1,5})")
_TOKEN_BYTES = 18


@dataclass(frozen=True, slots=True)
class Address:
    """Where the page is served; port 0 means any that is free."""

    host: str = "127.0.0.1"
    port: int = 0

    @property
    def local(self) -> bool:
        """Whether only this machine can reach it."""
        return self.host in LOOPBACK


def parse_address(text: str) -> Address:
    """Return the address that "0.0.0.0:8080" or "[::1]:8080" means; "" is any free port of this machine.

    Raises
    ------
    InputError
        It is not of that form.
    """
    if not text:
        return Address()
    match = _ADDRESS.fullmatch(text)
    if match is None or int(match[3]) > 65535:
        raise InputError(
            f'"{text}" is no address: write a host and a port, like 0.0.0.0:8080 or [::1]:8080'
        )
    return Address(match[1] or match[2], int(match[3]))


def new_token(address: Address) -> str:
    """Return a token for an address that others can reach; empty for one that they cannot."""
    return "" if address.local else secrets.token_urlsafe(_TOKEN_BYTES)


def listening(address: Address) -> socket.socket:
    """Return a socket that listens there.

    Raises
    ------
    InputError
        The address is taken, or not one of this machine.
    """
    family = socket.AF_INET6 if ":" in address.host else socket.AF_INET
    try:
        return socket.create_server((address.host, address.port), family=family)
    except OSError as error:
        raise InputError(
            f"{address.host}:{address.port} cannot be listened on ({error.strerror or error}). Choose "
            "another port, or none"
        ) from None


def url_of(bound: socket.socket, token: str) -> str:
    """Return what to open in a browser."""
    host, port = bound.getsockname()[:2]
    shown = {"0.0.0.0": socket.gethostname(), "::": socket.gethostname()}.get(host, host)  # noqa: S104
    shown = f"[{shown}]" if ":" in shown else shown
    return f"http://{shown}:{port}/" + (f"?token={token}" if token else "")
