"""A level of a factor as people write it."""


def shown_level(level: str | float) -> str:
    """Return a level as it stands in a study file: 65, not 65.0; words as they are."""
    return level if isinstance(level, str) else f"{level:g}"
