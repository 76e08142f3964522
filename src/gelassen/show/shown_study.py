"""A study that is shown to others: its report, its figures, and what a notebook shows of it."""

import contextlib
import math
import time
from collections.abc import Callable
from dataclasses import dataclass
from html import escape
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from gelassen import answers
from gelassen.core.foundation.errors import FileError, InputError
from gelassen.core.foundation.printable import printable

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from gelassen.answers.comparison import StudyComparison
    from gelassen.answers.loads import StudyLoads
    from gelassen.show.page_sections import Section


@dataclass(frozen=True, slots=True, repr=False)
class Study(answers.Study):
    """A study: its runs, the questions they can answer together, and what is shown of it.

    Attributes
    ----------
    folder
        Where it lives.
    file
        What `study.toml` says.
    """

    def report(
        self,
        out: str | Path | None = None,
        *,
        form: Literal["html", "markdown"] | None = None,
        baseline: str | None = None,
        confidence: float = 0.95,
    ) -> Path:
        """Write what the study found as one page to show to others, and return where.

        Parameters
        ----------
        out : path, optional
            Where to write it; report.html or report.md in the study if not given.
        form : {"html", "markdown"}, optional
            One HTML file that needs no network, or Markdown with a picture beside it. By the ending of
            `out` if not given.
        baseline : str, optional
            Setup to compare against; the study's own if not given.
        confidence : float
            Share of intervals that should cover the truth.

        Raises
        ------
        InputError
            There is nothing to compare.
        FileError
            The file cannot be written.
        """
        as_markdown = form == "markdown" or (form is None and str(out).lower().endswith(".md"))
        path = Path(out or self.folder / ("report.md" if as_markdown else "report.html"))
        if as_markdown:
            self._markdown(path, baseline, confidence)
        else:
            _write(path, self._page(baseline, confidence))
        return path

    def figures(self) -> "dict[str, Axes]":
        """Return the figures that this study has answers for, by name, as Matplotlib axes.

        "setups", "differences", "order" and "unlike", or "loads"; "effects", "repeatability", "capacity"
        and "fan curves" where the runs tell them. Each has a Matplotlib figure of its own.
        """
        from gelassen.answers.fans.curves import fan_curves_of
        from gelassen.figures import differences, order, plot
        from gelassen.figures.canvas import footer, study_footer

        if self.has_programs():
            return {"loads": plot(self.loads())}
        comparison = self.compare()
        drawn = {"setups": plot(comparison), "differences": differences(comparison)}
        drawn["order"] = order(comparison)
        if comparison.comparability is not None:
            drawn["unlike"] = plot(comparison.comparability)
        asked: dict[str, Callable[[], object]] = {
            "effects": self.effects, "repeatability": self.repeatability, "capacity": self.capacity,
        }  # fmt: skip
        for name, ask in asked.items():
            try:
                drawn[name] = plot(ask())
            except InputError:  # these runs do not tell it
                continue
        if curves := fan_curves_of(self):
            drawn["fan curves"] = plot(curves)
        runs = comparison.runs
        below = study_footer(
            self.file.title, runs["started"], len(runs), made_up=comparison.made_up
        )
        for axes in drawn.values():
            footer(axes, below)
        return drawn

    def _repr_html_(self) -> str:
        """Return it for a notebook."""
        return f"<pre>{escape(printable(repr(self)[1:-1]))}</pre>"

    def _page(self, baseline: str | None, confidence: float) -> str:
        from gelassen.answers.traces import study_traces
        from gelassen.show.findings_text import judged_lines
        from gelassen.show.page_sections import judged_section
        from gelassen.show.report import comparison_page, loads_page

        made_on, traces = time.strftime("%Y-%m-%d"), list(study_traces(self))
        if self.has_programs():
            loads = self.loads(baseline=baseline, confidence=confidence)
            return loads_page(loads, self.file, self.folder, traces, made_on=made_on)
        sections, also = self._sections(confidence), []
        if len(self.file.judge) > 1:
            judged = self.judged(baseline=baseline, confidence=confidence)
            sections, also = [judged_section(judged), *sections], judged_lines(judged)
        return comparison_page(
            self.compare(baseline=baseline, confidence=confidence), self.file, self.folder, traces,
            made_on=made_on, sections=sections, also=also,
        )  # fmt: skip

    def _sections(self, confidence: float) -> "list[Section]":
        """Return the sections of the page on what these runs tell besides."""
        from gelassen.answers.fans.curves import fan_curves_of
        from gelassen.show.page_sections import capacity_section, effects_section, fans_section

        sections = []
        if len(self.file.factors) > 1:  # of one factor, effects are the differences that were told
            with contextlib.suppress(InputError):  # these runs do not tell it
                sections.append(effects_section(self.effects(confidence=confidence)))
        with contextlib.suppress(InputError):
            capacity = self.capacity(confidence=confidence)
            if capacity.setups["high_w"].map(math.isfinite).any():  # one power tells none
                sections.append(capacity_section(capacity))
        if curves := fan_curves_of(self, confidence):
            sections.append(fans_section(curves))
        return sections

    def _markdown(self, path: Path, baseline: str | None, confidence: float) -> None:
        """Write the page as Markdown, with its main figure beside it."""
        from gelassen.figures.plots import save_plot
        from gelassen.show.comparison_text import comparison_markdown
        from gelassen.show.findings_text import judged_lines, judged_text
        from gelassen.show.loads_text import loads_text
        from gelassen.show.tables import in_markdown

        found: StudyLoads | StudyComparison
        picture = path.with_suffix(".png")
        if self.has_programs():
            found = self.loads(baseline=baseline, confidence=confidence)
            shows = "Setups under each load, with intervals"
            with in_markdown(True):
                words = loads_text(found)
        else:
            found = self.compare(baseline=baseline, confidence=confidence)
            shows, beside, also = "Setups sorted, with intervals", "", []
            if len(self.file.judge) > 1:
                judged = self.judged(baseline=baseline, confidence=confidence)
                with in_markdown(True):
                    beside = "\n\n" + judged_text(judged, lines=False)
                also = judged_lines(judged)
            words = comparison_markdown(found, also) + beside
        save_plot(found, picture)
        image = f"![{shows}]({picture.name})"
        question = f"{self.file.question}\n\n" if self.file.question else ""
        _write(path, f"# {self.file.title}\n\n{question}{image}\n\n{words}\n")


def open_study(path: str | Path) -> Study:
    """Open a study by its folder.

    Raises
    ------
    FileError
        The folder is not a study, or its `study.toml` is wrong; the message says where.
    """
    found = answers.open_study(path)
    return Study(found.folder, found.file)


def _write(path: Path, text: str) -> None:
    from gelassen.system.files import write_out

    try:
        write_out(path, text)
    except OSError as error:
        raise FileError(f"{path} cannot be written ({error.strerror or error})") from None
