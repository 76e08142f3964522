"""The live view of a run: what it waits for, what it reads, and where that will settle. Text only."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from gelassen.core.foundation.printable import printable
from gelassen.core.foundation.progress import Progress
from gelassen.core.recording.chips import is_core
from gelassen.study.file.durations import words

if TYPE_CHECKING:
    from rich.console import RenderableType

_BARS = "▁▂▃▄▅▆▇█"
_TRACE = 40
_MOST_ROWS = 8
_MOST_MESSAGES = 5
_KEYS = "n  next phase     s  stop this run, keep it     q  stop all"


def trace(values: Sequence[float], width: int = _TRACE) -> str:
    """Return a course as a row of bars, from its lowest to its highest value."""
    known = [value for value in values if value == value]
    if len(known) < 2:
        return ""
    groups = min(width, len(known))
    means = [
        sum(part) / len(part)
        for k in range(groups)
        if (part := known[k * len(known) // groups : (k + 1) * len(known) // groups])
    ]
    low, high = min(means), max(means)
    if high - low < 0.5:  # flicker of a sensor is not a course
        return _BARS[0] * len(means)
    return "".join(_BARS[min(int(8 * (value - low) / (high - low)), 7)] for value in means)


def temperature_rows(readings: Mapping[str, float]) -> list[tuple[str, float]]:
    """Return the temperatures worth a row: the hottest core for all, then every other part."""
    temps = {n: v for n, v in readings.items() if n.endswith(".temp_c") and v == v}
    cores = [v for n, v in temps.items() if is_core(n)]
    rows = [("hottest core", max(cores))] if cores else []
    order = ("cpu.package", "gpu.", "vrm.", "drive.", "loop.", "case.", "board.")
    ranked = sorted(
        (n for n in temps if not is_core(n) and not n.startswith("room.")),
        key=lambda n: next((k for k, start in enumerate(order) if n.startswith(start)), len(order)),
    )
    named = [(name.removesuffix(".temp_c"), temps[name]) for name in ranked]
    return (rows + named)[:_MOST_ROWS]


def figures(readings: Mapping[str, float]) -> str:
    """Return clock, power, fans and work of a moment in one line."""

    def mean(start: str, end: str, *, turning: bool = False) -> float | None:
        found = [
            v for n, v in readings.items() if n.startswith(start) and n.endswith(end) and v == v
        ]
        if turning:  # a header without a fan reads zero, as in the summary of a run
            found = [v for v in found if v > 0] or found
        return sum(found) / len(found) if found else None

    parts = []
    for name, value, unit in (
        ("clock", mean("cpu.", ".clock_mhz"), "MHz"),
        ("power", readings.get("cpu.package.power_w"), "W"),
        ("limit", readings.get("cpu.package.power_limit_w"), "W"),
        ("fan", mean("fan.", ".speed_rpm", turning=True), "rpm"),
        ("work", readings.get("load.work.rate_per_s"), "/s"),
    ):
        if value is not None and value == value:
            parts.append(f"{name} {value:.0f} {unit}")
    return "   ".join(parts)


def room_of(readings: Mapping[str, float]) -> float | None:
    """Return the room temperature, if one is read."""
    rooms = [
        v for n, v in readings.items() if n.startswith("room.") and n.endswith(".temp_c") and v == v
    ]
    return rooms[0] if rooms else None


class LiveText:
    """Keeps the content of the view, and draws it as one rich renderable."""

    def __init__(self) -> None:
        self._title, self._traces = "", dict[str, list[float]]()
        self._messages: list[str] = []
        self._seen: Progress | None = None

    def begin(self, title: str) -> None:
        """Begin another run."""
        self._title, self._seen = printable(title), None
        self._traces.clear()

    def take(self, seen: Progress) -> None:
        """Add a moment."""
        self._seen = seen
        for name, value in temperature_rows(seen.readings):
            self._traces.setdefault(name, []).append(value)
        for text in seen.events:
            self.message(f"{_clock(seen.elapsed_s)}  {text}")

    def message(self, text: str) -> None:
        """Keep a message; the last few are shown."""
        self._messages = [*self._messages, *printable(text).split("\n")][-_MOST_MESSAGES:]

    def draw(self) -> "RenderableType":
        """Return the view."""
        from rich import box
        from rich.console import Group
        from rich.panel import Panel
        from rich.table import Table
        from rich.text import Text

        parts: list[Any] = []
        seen = self._seen
        if seen is not None:
            parts += [_where(seen), Text(), self._table(seen), Text()]
            parts.append(Text(figures(seen.readings)))
        parts += [Text(f"· {text}") for text in self._messages]
        parts += [Text(), Text(_KEYS, style="dim")]
        grid = Table.grid(expand=True)
        grid.add_row(Group(*parts))
        # A setup may be called anything: its name is text, never markup.
        title = Text(self._title)
        return Panel(grid, title=title, title_align="left", box=box.ROUNDED, padding=(0, 1))

    def _table(self, seen: Progress) -> Any:
        from rich.table import Table

        room = room_of(seen.readings)
        table = Table(box=None, pad_edge=False, header_style="dim")
        table.add_column("temperature")
        table.add_column("now", justify="right")
        table.add_column("over room" if room is not None else "", justify="right")
        table.add_column("since the run began")
        for name, value in temperature_rows(seen.readings):
            over = "" if room is None else f"{value - room:.1f} K"
            table.add_row(name, f"{value:.1f} °C", over, trace(self._traces.get(name, [])))
        if room is not None:
            table.add_row("room air", f"{room:.1f} °C", "", "")
        return table


def _where(seen: Progress) -> Any:
    from rich.text import Text

    text = Text()
    text.append(seen.phase, style="bold")
    text.append(f" for {words(seen.phase_s)}, about {words(seen.left_s)} left in this run\n")
    text.append(seen.waits_for, style="blue")
    return text


def plain(seen: Progress) -> str:
    """Return a moment as one line, for where there is no terminal."""
    rows = temperature_rows(seen.readings)
    room = room_of(seen.readings)
    shown = "no temperature"
    if rows:
        over = "" if room is None else f", {rows[0][1] - room:.1f} K over room"
        shown = f"{rows[0][0]} {rows[0][1]:.1f} °C{over}"
    waits = f"; {seen.waits_for}" if seen.waits_for else ""
    return (
        f"{_clock(seen.elapsed_s)}  {seen.phase}{waits}; about {words(seen.left_s)} left; {shown}; "
        + (figures(seen.readings))
    )


def _clock(at_s: float) -> str:
    minutes, seconds = divmod(int(at_s), 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours}:{minutes:02}:{seconds:02}" if hours else f"{minutes:02}:{seconds:02}"
