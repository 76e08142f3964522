"""Shows a run while it goes on: a live view and keys on a terminal, plain lines elsewhere."""

import contextlib
import sys
import threading
import time
from collections.abc import Callable, Iterator
from functools import partial
from queue import SimpleQueue
from typing import TYPE_CHECKING, Literal

from gelassen.commands.shared.common import emit

if TYPE_CHECKING:
    from rich.live import Live

    from gelassen.conduct import Progress

_REDRAWN_S = 0.2
_MOST_WAITING = 200  # messages
_SETTLES_S = 5.0
_LINE_EVERY_S = 60.0
_WISHES: dict[str, Literal["phase", "run", "all"]] = {"n": "phase", "s": "run", "q": "all"}


class Watcher:
    """Shows a run while it goes on. Writing to the terminal never delays the run."""

    def __init__(self, live: "Live | None") -> None:
        from gelassen.show.live import LiveText

        self._live, self._text = live, LiveText()
        self._drawn_s, self._line_s, self._phase = 0.0, 0.0, ""
        self._keys = Keys() if live is not None else None
        self._screen = Screen()

    def begin(self, title: str) -> None:
        """Begin another run."""
        self._text.begin(title)
        self._phase = ""
        if self._live is None:
            self.say(title)
        else:
            self._screen.do(self._live.start)
            if self._keys is not None:
                self._keys.listen()

    def progress(self, seen: "Progress") -> None:
        """Show a moment."""
        self._text.take(seen)
        if self._live is not None:
            now = time.monotonic()
            if now - self._drawn_s >= _REDRAWN_S and self._screen.idle:
                self._drawn_s = now
                self._draw()
            return
        from gelassen.show.live import plain

        for text in seen.events:
            self._line(text)
        if seen.phase != self._phase or seen.elapsed_s - self._line_s >= _LINE_EVERY_S:
            self._phase, self._line_s = seen.phase, seen.elapsed_s
            self._line(plain(seen))

    def say(self, text: str) -> None:
        """Print a message that is not a result."""
        if self._live is not None and self._live.is_started:
            self._text.message(text)
            self._draw()
        else:
            self._line(text)

    def _draw(self) -> None:
        if self._live is not None:
            self._screen.do(partial(self._live.update, self._text.draw(), refresh=True))

    def _line(self, text: str) -> None:
        self._screen.do(partial(emit, text, err=True))

    def wish(self) -> Literal["", "phase", "run", "all"]:
        """Return what was asked for by a key since the last call."""
        return self._keys.wish() if self._keys is not None else ""

    def rest(self) -> None:
        """Give the terminal back, for questions and results."""
        if self._keys is not None:
            self._keys.let_go()
        if self._live is not None:
            self._screen.do(self._cleared)
        self._screen.settle()

    def _cleared(self) -> None:
        if self._live is not None and self._live.is_started:
            self._live.update("", refresh=True)
            self._live.stop()


class Screen:
    """Writes in a thread of its own: a terminal that was stopped with Ctrl-S keeps only that waiting."""

    def __init__(self) -> None:
        self._todo: SimpleQueue[Callable[[], object]] = SimpleQueue()
        self._waiting = 0
        self._lock = threading.Lock()
        threading.Thread(target=self._work, name="screen", daemon=True).start()

    @property
    def idle(self) -> bool:
        """Whether nothing waits to be written."""
        return self._waiting == 0

    def do(self, job: Callable[[], object]) -> None:
        """Write soon; while the terminal stands still, what comes after the first lines is left out."""
        with self._lock:
            if self._waiting >= _MOST_WAITING:
                return
            self._waiting += 1
        self._todo.put(job)

    def settle(self) -> None:
        """Wait until all is written, for as long as a working terminal may need."""
        done = threading.Event()
        self._todo.put(done.set)
        with self._lock:
            self._waiting += 1
        done.wait(_SETTLES_S)

    def _work(self) -> None:
        while True:
            job = self._todo.get()
            try:
                job()
            except (OSError, ValueError):  # the terminal is gone: the run goes on
                pass
            finally:
                with self._lock:
                    self._waiting -= 1


class Keys:
    """Single keys from the terminal, without waiting for them."""

    def __init__(self) -> None:
        self._before: list[object] | None = None

    def listen(self) -> None:
        """Let single keys through; where that is not possible, there are none."""
        if self._before is not None or not sys.stdin.isatty():
            return
        try:
            import termios
            import tty

            self._before = termios.tcgetattr(sys.stdin)
            tty.setcbreak(sys.stdin)
        except (ImportError, OSError):
            self._before = None

    def let_go(self) -> None:
        """Give the keyboard back as it was."""
        if self._before is not None:
            import termios

            termios.tcsetattr(sys.stdin, termios.TCSADRAIN, self._before)  # type: ignore[arg-type]
            self._before = None

    def wish(self) -> Literal["", "phase", "run", "all"]:
        """Return what the last key asks for."""
        if self._before is None:
            return ""
        import os
        import select

        found: Literal["", "phase", "run", "all"] = ""
        while select.select([sys.stdin], [], [], 0)[0]:
            pressed = os.read(sys.stdin.fileno(), 16).decode(errors="replace")
            if not pressed:
                break
            for key in pressed:
                found = _WISHES.get(key.lower(), found)
        return found


@contextlib.contextmanager
def watching() -> Iterator[Watcher]:
    """Watch runs; whatever happens, the terminal is given back as it was."""
    live = None
    if sys.stderr.isatty():
        from rich.console import Console
        from rich.live import Live

        live = Live(console=Console(stderr=True), auto_refresh=False, transient=True)
    watcher = Watcher(live)
    try:
        yield watcher
    finally:
        watcher.rest()
