"""What a bench offers, as a table. Takes plain values, so that it needs no bench."""

from collections.abc import Sequence

from gelassen.show.tables import aligned


def channels_text(
    rows: Sequence[tuple[str, str, str, str, str]], missing: Sequence[tuple[str, str]]
) -> str:
    """Return channels (name, value, resolution, what, problem), then what is missing and why."""
    good = [(name, value, step, what) for name, value, step, what, problem in rows if not problem]
    bad = [(name, problem) for name, _, _, _, problem in rows if problem]
    parts = []
    if good:
        width = max(len(name) for name, *_ in good)
        values = max(len(value) for _, value, *_ in good)
        steps = max(len("step"), *(len(step) for _, _, step, _ in good))
        header = (
            f"{'channel'.ljust(width)}  {'now'.rjust(values)}  {'step'.rjust(steps)}  what it is"
        )
        lines = [
            f"{name.ljust(width)}  {value.rjust(values)}  {step.rjust(steps)}  {what}"
            for name, value, step, what in good
        ]
        parts.append("\n".join([header, *lines]))
    if bad:
        parts.append("cannot be read\n" + aligned(("channel", "why"), bad))
    if missing:
        parts.append("\n".join(["missing", *(f"  {what}: {why}" for what, why in missing)]))
    return "\n\n".join(parts)
