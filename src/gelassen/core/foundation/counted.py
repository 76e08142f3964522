"""Numbers with a noun: "1 run", "3 runs"."""


def counted(number: float, noun: str) -> str:
    """Return the number and the noun, with an "s" unless the number is 1."""
    return f"{number:.0f} {noun}{'' if number == 1 else 's'}"
