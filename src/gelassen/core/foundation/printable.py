"""Text for people: what a terminal or a page would obey instead of showing is shown as its code."""

import json
import re
import unicodedata

from gelassen.core.foundation.errors import InputError

_ODD = re.compile(r"[^\x20-\x7e\n\t]")
# Joiners are part of words in some scripts, and of pictures.
_HARMLESS = frozenset("\u200c\u200d")
_OBEYED = frozenset(("Cc", "Cf", "Cs", "Zl", "Zp"))


def printable(text: str) -> str:
    r"""Return text with control and format characters as their codes, such as ``\u001b``.

    New lines and tabs stay. The form of the codes is that of JSON, so that JSON stays JSON.
    """
    return text if text.isascii() and text.isprintable() else _ODD.sub(_shown, text)


def _shown(match: re.Match[str]) -> str:
    character = match[0]
    if character in _HARMLESS or unicodedata.category(character) not in _OBEYED:
        return character
    code = ord(character)
    return f"\\u{code:04x}" if code < 0x10000 else json.dumps(character)[1:-1]


def check_new_name(what: str, name: str) -> None:
    """Refuse a name that is empty, or that could not be shown as it is.

    Raises
    ------
    InputError
        Saying what is wrong with it.
    """
    if not name.strip():
        raise InputError(f"the name of a {what} must not be empty")
    if printable(name) != name or "\n" in name or "\t" in name:
        raise InputError(
            f'"{printable(name)!r}" cannot be the name of a {what}: it has characters that are not '
            "printed, such as a line break or a tabulator. Nothing was written"
        )
