"""Numbers with a noun: "1 run", "3 runs"."""


def counted(number: float, noun: str, several: str = "") -> str:
    """Return the number and the noun; its plural ends in "s" unless another is given."""
    return f"{number:.0f} {noun if number == 1 else several or noun + 's'}"
