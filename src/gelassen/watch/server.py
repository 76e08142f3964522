"""The server of the page: read-only, one page and a stream of events."""

import asyncio
import json
import secrets
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from dataclasses import dataclass, field
from pathlib import Path
from socket import socket
from typing import Any

import uvicorn
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.middleware import Middleware
from starlette.middleware.trustedhost import TrustedHostMiddleware
from starlette.requests import Request
from starlette.responses import HTMLResponse, PlainTextResponse, Response, StreamingResponse
from starlette.routing import Route

from gelassen.watch.access import LOOPBACK
from gelassen.watch.live_state import LiveRuns, as_page_data
from gelassen.watch.page import page_and_policy

_EVERY_S = 2.0
# Reading a long run takes longer, and is done less often then: watching costs a few per cent of a core.
_READ_SHARE, _AT_LEAST_EVERY_S = 0.05, 10.0
_HEADERS = {
    "Cache-Control": "no-store",
    "Referrer-Policy": "no-referrer",  # the token stands in the address
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
}


@dataclass(slots=True)
class _Latest:
    """The state as text, read now and then however many look."""

    runs: LiveRuns
    _text: str = ""
    _again_s: float = -1e9
    _lock: asyncio.Lock = field(default_factory=asyncio.Lock)

    async def text(self) -> str:
        async with self._lock:
            began_s = time.monotonic()
            if began_s >= self._again_s:
                self._text = await run_in_threadpool(self._read)
                took_s = time.monotonic() - began_s
                self._again_s = began_s + min(
                    max(took_s / _READ_SHARE, _EVERY_S), _AT_LEAST_EVERY_S
                )
            return self._text

    def _read(self) -> str:
        return json.dumps(as_page_data(self.runs.state()), allow_nan=False)


def application(runs: LiveRuns, token: str = "", *, local: bool = True) -> Starlette:
    """Return the application that shows these runs.

    Parameters
    ----------
    runs : LiveRuns
        What is shown.
    token : str
        What every request must carry; nothing if empty.
    local : bool
        Whether only names of this machine are answered, so that no foreign page can ask in its place.
    """
    latest = _Latest(runs)
    page, policy = page_and_policy()

    def guarded(
        answer: Callable[[Request], Awaitable[Response]],
    ) -> Callable[[Request], Awaitable[Response]]:
        async def checked(request: Request) -> Response:
            given = request.query_params.get("token", "")
            if token and not secrets.compare_digest(given.encode(), token.encode()):
                return PlainTextResponse("the token is missing or wrong", 403, _HEADERS)
            return await answer(request)

        return checked

    async def shown(request: Request) -> Response:
        return HTMLResponse(page, headers={**_HEADERS, "Content-Security-Policy": policy})

    async def state(request: Request) -> Response:
        return Response(await latest.text(), media_type="application/json", headers=_HEADERS)

    async def events(request: Request) -> Response:
        async def stream() -> AsyncIterator[str]:
            while not await request.is_disconnected():
                yield f"data: {await latest.text()}\n\n"
                await asyncio.sleep(_EVERY_S)

        return StreamingResponse(stream(), media_type="text/event-stream", headers=_HEADERS)

    names = [f"[{name}]" if ":" in name else name for name in LOOPBACK] if local else ["*"]
    return Starlette(
        routes=[
            Route("/", guarded(shown)),
            Route("/state", guarded(state)),
            Route("/events", guarded(events)),
        ],
        middleware=[Middleware(TrustedHostMiddleware, allowed_hosts=names)],
    )


def serve(folder: Path, bound: socket, token: str = "", *, local: bool = True) -> None:
    """Serve the page of a study's runs on a socket that listens, until the process is ended."""
    options: dict[str, Any] = {"log_level": "critical", "access_log": False, "lifespan": "off"}
    application_ = application(LiveRuns(folder), token, local=local)
    server = uvicorn.Server(
        uvicorn.Config(application_, timeout_graceful_shutdown=1, server_header=False, **options)
    )
    server.run(sockets=[bound])
