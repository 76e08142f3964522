"""The page: one HTML file with the answer, what it rests on, and every run, for showing to others.

All it shows comes from result objects; here it is only put into words, tables and a template.
"""

import base64
import hashlib
import io
import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import partial
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING, Any

from gelassen._version import __version__
from gelassen.answers.comparison import StudyComparison
from gelassen.answers.loads import StudyLoads
from gelassen.answers.traces import RunTraces
from gelassen.core.foundation.counted import counted
from gelassen.core.foundation.printable import printable
from gelassen.core.foundation.result import plain
from gelassen.core.recording.channel_words import judged_words
from gelassen.core.recording.channels import slug
from gelassen.figures.comparison_figure import comparison_figure
from gelassen.show import comparison_text as words
from gelassen.show.comparison_answer import sentences
from gelassen.show.loads_text import (
    CAME_AND_WENT,
    loads_answer,
    loads_cautions,
    loads_lines,
    loads_table,
)
from gelassen.show.numbers import fixed, interval
from gelassen.show.page_sections import Section, Table, drawn, rows_of, svg_of
from gelassen.study.file.levels import level_details
from gelassen.study.file.study_file import StudyFile

if TYPE_CHECKING:
    import pandas as pd

_PHOTO_PX, _PHOTO_QUALITY = 640, 80  # longest side of an embedded photo, and its JPEG quality
_DIGITS = 2  # of embedded traces: finer than any sensor
_PHOTOS = (".jpg", ".jpeg", ".png", ".webp")
_METHODS = (
    ("Steady state", "a model of heat flow with several time constants is fitted to each load. Its "
     "interval covers what the log leaves open and what the model leaves out"),
    ("Comparison", "a linear model of setups, days and mountings. Intervals and verdicts allow for the "
     "number of setups compared"),
    ("Scatter", "remounting and repeats scatter runs of one setup. How much is estimated from all setups "
     "together"),
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Page:
    """What the template fills in."""

    title: str
    question: str
    made_up: bool
    made_on: str
    count_words: str
    sentences: Sequence[str]
    figure: str
    figure_alt: str
    tables: Sequence[Table]
    legend: str
    machine: str
    details: Sequence[tuple[str, str, str]]
    photos: Sequence[tuple[str, str]]
    with_traces: Sequence[tuple[str, str]]
    run_header: Sequence[str]
    run_rows: Sequence[Sequence[str]]
    left_out: Sequence[tuple[str, str]]
    sure: Sequence[str]
    unequal: Sequence[str]
    cautions: Sequence[str]
    next_steps: Sequence[str]
    sections: Sequence[Section] = ()
    methods: Sequence[tuple[str, str]] = _METHODS
    version: str = __version__
    runs: Sequence[RunTraces] = field(default=())


def comparison_page(
    comparison: StudyComparison,
    file: StudyFile,
    folder: Path,
    traces: Sequence[RunTraces],
    *,
    made_on: str,
    sections: Sequence[Section] = (),
    also: Sequence[str] = (),
) -> str:
    """Return the page of a comparison as HTML, with more sections, and sentences for its answer."""
    made_up = comparison.made_up
    header, rows = words.table(comparison)
    more_header, more_rows = words.conditions(comparison)
    setups = [str(name) for name in comparison.setups["setup"]]
    marked = [name == comparison.baseline for name in setups]
    tables = [
        Table(title="Ranking", header=header, rows=rows_of(rows, marked)),
    ]
    if more_rows:
        tables.append(
            Table(title="Conditions", header=more_header, rows=rows_of(more_rows, marked))
        )
    runs = comparison.runs
    page = Page(
        title=comparison.title, question=file.question, made_up=made_up, made_on=made_on,
        count_words=f"{counted(len(setups), 'setup')}, {counted(len(runs), 'run')}",
        sentences=[*sentences(comparison), *also],
        figure=svg_of(partial(comparison_figure, comparison)),
        figure_alt=f"Setups sorted, with intervals: {'; '.join(setups)}", tables=tables,
        legend=" ".join(words.legend(comparison).split()), sure=_sure(comparison),
        unequal=words.unequal(comparison), cautions=list(map(str, comparison.cautions)),
        next_steps=words.next_steps(comparison), left_out=comparison.left_out,
        run_header=("run", "setup", _value_header(comparison), "interval", "settled", "W", "ended"),
        run_rows=[_run_row(row) for row in runs.to_dict("records")],
        sections=sections, **_common(file, folder, traces),
    )  # fmt: skip
    return _rendered(page, plain(comparison), comparison.setups)


def loads_page(
    loads: StudyLoads, file: StudyFile, folder: Path, traces: Sequence[RunTraces], *, made_on: str
) -> str:
    """Return the page of setups under several loads as HTML."""
    header, rows = loads_table(loads)
    tables = [Table(title="Setups under each load", header=header, rows=rows_of(rows))]
    answer = loads_answer(loads) or loads_lines(loads)[:6]
    sure = loads_lines(loads)
    others = {judged_words(name): one for name, one in loads.other_parts.items()}
    for part, one in others.items():
        header, rows = loads_table(one)
        tables.append(Table(title=f"The same, {part}", header=header, rows=rows_of(rows)))
        answer += [f"{part}: {line}" for line in loads_answer(one)]
        sure += [f"{part}: {line}" for line in loads_lines(one)]
    said = loads_cautions(loads)
    said += [
        f"{part}: {line}"
        for part, one in others.items() for line in loads_cautions(one) if line not in said
    ]  # fmt: skip
    page = Page(
        title=file.title, question=file.question, made_up=loads.made_up, made_on=made_on,
        count_words=f"{counted(len(set(loads.setups['setup'])), 'setup')}, "
        f"{counted(len(set(loads.setups['load'])), 'load')}, {counted(len(traces), 'run')}",
        sentences=answer, figure=drawn(loads),
        figure_alt=f"Each setup under each load: {'; '.join(loads.comparisons)}", tables=tables,
        legend=f"^: {CAME_AND_WENT}", sure=sure,
        unequal=(),
        cautions=said, next_steps=(), left_out=loads.left_out,
        run_header=("run", "setup", "load", "started", "ended"),
        run_rows=[(one.run, one.setup, one.load, one.started, one.outcome) for one in traces],
        **_common(file, folder, traces),
    )  # fmt: skip
    return _rendered(page, plain(loads), loads.setups)


def _common(file: StudyFile, folder: Path, traces: Sequence[RunTraces]) -> dict[str, Any]:
    """Return what every page has: machine, levels with their details, photos, traces."""
    details, photos = [], []
    for level, factor, known in level_details(file):
        said = "; ".join(f"{name}: {value}" for name, value in known.items() if name != "photo")
        details.append((level, factor, said or "–"))
        if (name := known.get("photo")) and (image := _photo(folder, name)):
            photos.append((f"{level}: {name}", image))
    note = f" {file.machine.note}" if file.machine.note else ""
    machine = f"{file.machine.name}, limit {file.machine.limit_c:g} °C.{note}"
    drawn = [(one.run, f"{one.run}  {one.setup}") for one in traces if one.traces]
    return {
        "details": details,
        "photos": photos,
        "machine": machine,
        "with_traces": drawn,
        "runs": traces,
    }


def _sure(comparison: StudyComparison) -> list[str]:
    """Return in plain words what the intervals hold and what the verdicts rest on."""
    share = f"{100 * comparison.confidence:g} of 100"
    said = [
        f"Each interval is made so that {share} of such intervals hold the true value. It allows for noise "
        "of the sensor, for runs that did not quite settle, for remounting, and for rooms that differed.",
        f"Setups are told apart only if chance alone would hardly show such a difference among all "
        f"{len(comparison.setups)} setups. Those that share a letter are not told apart.",
    ]
    said += [str(one) for one in comparison.spread.caution]
    return said


def _value_header(comparison: StudyComparison) -> str:
    return f"rise {comparison.unit}" if comparison.unit == "K" else comparison.unit


def _run_row(row: dict[Any, Any]) -> list[str]:
    settled = "at its limit" if row["at_limit"] else "yes" if row["reached"] else "extrapolated"
    error = 1.96 * float(row["standard_error"])
    value = float(row["value"])
    return [
        str(row["run"]), str(row["setup"]), fixed(value), interval(value - error, value + error), settled,
        fixed(row["power_w"]), str(row["outcome"]),
    ]  # fmt: skip


def _photo(folder: Path, name: str) -> str:
    """Return a photo of the study, scaled down, as base64; empty if it is not one, or lies outside."""
    path = (folder / name).resolve()
    if not path.is_relative_to(folder.resolve()) or path.suffix.lower() not in _PHOTOS:
        return ""
    from PIL import Image, UnidentifiedImageError

    picture = io.BytesIO()
    try:
        with Image.open(path) as image:
            image.thumbnail((_PHOTO_PX, _PHOTO_PX))
            image.convert("RGB").save(picture, "JPEG", quality=_PHOTO_QUALITY)
    except (OSError, UnidentifiedImageError, Image.DecompressionBombError):
        return ""
    return base64.b64encode(picture.getvalue()).decode()


def _rendered(page: Page, answer: Any, setups: "pd.DataFrame") -> str:
    from jinja2 import Environment

    here = files("gelassen.show.page")
    style = "\n".join(
        here.joinpath(name).read_text("utf-8") for name in ("uPlot.min.css", "page.css")
    )
    library = here.joinpath("uPlot.iife.min.js").read_text("utf-8").strip()
    script = here.joinpath("page.js").read_text("utf-8").strip()
    environment = Environment(
        autoescape=True, trim_blocks=True, lstrip_blocks=True, finalize=_shown
    )
    template = environment.from_string(here.joinpath("page.html.j2").read_text("utf-8"))
    data = {
        "runs": [_run_data(one) for one in page.runs if one.traces], "answer": answer,
        "csv": setups.to_csv(index=False, lineterminator="\n"), "slug": slug(page.title) or "study",
    }  # fmt: skip
    return template.render(
        page=page, style=style, style_hash=_hash(style), library=library, script=script,
        script_hashes=f"{_hash(library)} {_hash(script)}", data=_as_data(data),
    )  # fmt: skip


def _shown(value: Any) -> Any:
    """Make what the template fills in printable; the parts of the page itself are no plain text."""
    return printable(value) if type(value) is str else value


def _run_data(one: RunTraces) -> dict[str, Any]:
    traces = [
        {
            "label": printable(trace.label), "unit": trace.unit,
            "time_s": [round(float(t), 1) for t in trace.time_s],
            "values": [round(float(v), _DIGITS) for v in trace.readings],
        }
        for trace in one.traces
    ]  # fmt: skip
    return {"run": one.run, "setup": one.setup, "traces": traces}


def _as_data(value: Any) -> str:
    """Return JSON that no parser of HTML takes for markup."""
    text = json.dumps(value, ensure_ascii=True, separators=(",", ":"), allow_nan=False)
    return text.replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026")


def _hash(text: str) -> str:
    return f"'sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()}'"
