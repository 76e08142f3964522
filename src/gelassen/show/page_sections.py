"""Sections of the page for judged parts, effects, capacity and fan curves. Some studies lack them."""

import base64
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from gelassen.answers.capacities import StudyCapacity
from gelassen.answers.fans.curves import StudyCurves
from gelassen.answers.judged import StudyJudged
from gelassen.core.comparing.effects import Effects
from gelassen.figures.canvas import save
from gelassen.figures.plots import plot
from gelassen.show import capacity_text, curve_text, findings_text


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """One row of a table; `marked` is the baseline's."""

    cells: Sequence[str]
    marked: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Table:
    """One table of the page."""

    title: str
    header: Sequence[str]
    rows: Sequence[Row]


@dataclass(frozen=True, slots=True, kw_only=True)
class Section:
    """One more part of the page: sentences, a figure as SVG in base64, tables."""

    anchor: str
    title: str
    sentences: Sequence[str]
    figure: str
    figure_alt: str
    tables: Sequence[Table]


def rows_of(cells: Sequence[Sequence[str]], marked: Sequence[bool] = ()) -> list[Row]:
    """Return rows of a table, of which some are the baseline's."""
    marks = marked or [False] * len(cells)
    return [Row(cells=row, marked=mark) for row, mark in zip(cells, marks, strict=True)]


def svg_of(draw: Callable[[Path], object]) -> str:
    """Return a figure as SVG in base64."""
    with TemporaryDirectory(prefix="gelassen-") as place:
        path = Path(place) / "figure.svg"
        draw(path)
        return base64.b64encode(path.read_bytes()).decode()


def drawn(result: Any) -> str:
    """Return the figure of a result as SVG in base64."""
    return svg_of(lambda path: save(plot(result), path))


def fans_section(curves: StudyCurves) -> Section:
    """Return what is known of fan curves."""
    tables = [
        Table(title=head[:1].upper() + head[1:], header=header, rows=rows_of(rows))
        for head, (header, rows), _ in curve_text.tables(curves)
    ]
    setups = ", ".join(curves.pays_until)
    return Section(
        anchor="fans", title="Fan curves", sentences=curve_text.sentences(curves),
        figure=drawn(curves), figure_alt=f"Cooling over fan speed: {setups}", tables=tables,
    )  # fmt: skip


def judged_section(found: StudyJudged) -> Section:
    """Return the setups by each judged temperature."""
    header, rows = findings_text.judged_table(found)
    return Section(
        anchor="parts", title="Judged parts", sentences=findings_text.judged_lines(found),
        figure=drawn(found), figure_alt=f"Setups by {', '.join(found.comparisons)}",
        tables=[Table(title="Each judged part", header=header, rows=rows_of(rows))],
    )  # fmt: skip


def effects_section(found: Effects) -> Section:
    """Return what each factor does."""
    header, rows = findings_text.effects_table(found)
    return Section(
        anchor="effects", title="Effects of factors", sentences=findings_text.effects_lines(found),
        figure=drawn(found), figure_alt="What each factor does, with intervals",
        tables=[Table(title="Effects", header=header, rows=rows_of(rows))],
    )  # fmt: skip


def capacity_section(found: StudyCapacity) -> Section:
    """Return how much power each setup sustains."""
    header, rows = capacity_text.table(found)
    return Section(
        anchor="capacity", title="Capacity",
        sentences=[
            f"For a room of {found.room_c:g} °C and a limit of {found.limit_c:g} °C.",
            *capacity_text.sentences(found),
        ],
        figure=drawn(found), figure_alt="Rise over power, and the power at the limit",
        tables=[Table(title="Power sustained", header=header, rows=rows_of(rows))],
    )  # fmt: skip
