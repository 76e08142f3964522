"""The parts of the page: template, style, script, and the chart library with its licence."""
