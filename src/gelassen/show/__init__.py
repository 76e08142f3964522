"""Tables, texts and figures made from results."""

from gelassen.show.comparison_text import comparison_text
from gelassen.show.figures import comparison_figure, run_figure
from gelassen.show.run_text import run_text

__all__ = ["comparison_figure", "comparison_text", "run_figure", "run_text"]
