"""Turns the bytes of a log into UTF-8 text, and reports their encoding."""

import codecs
import re
from dataclasses import dataclass
from mmap import mmap

from gelassen.core.foundation.counted import counted
from gelassen.core.foundation.errors import FileError

_MARKS = (
    (codecs.BOM_UTF8, "utf-8", "UTF-8 with mark"),
    (codecs.BOM_UTF32_LE, "utf-32-le", "UTF-32"),
    (codecs.BOM_UTF16_LE, "utf-16-le", "UTF-16"),
    (codecs.BOM_UTF16_BE, "utf-16-be", "UTF-16"),
)
_OTHER_FILES = (
    (b"PK\x03\x04", "a zip archive or spreadsheet workbook: save the table as CSV"),
    (b"\x1f\x8b", "compressed: unpack it first"),
    (b"%PDF", "a PDF: export the log as CSV"),
    (b"SQLite format 3", "a database: export the table as CSV"),
    (b"\xd0\xcf\x11\xe0", "a spreadsheet workbook: save the table as CSV"),
)
_NOT_WESTERN = re.compile(rb"[\x80-\xaf\xb1-\xff]{3}")  # without the degree sign
_HEAD = 1 << 16
_CONTROL = bytes(set(range(32)) - set(b"\t\n\r\f\v\x1a\x00"))


@dataclass(frozen=True, slots=True)
class Decoded:
    """Text as UTF-8 bytes, the name of the encoding it had, and what was noticed."""

    data: "bytes | mmap"
    encoding: str
    cautions: tuple[str, ...] = ()


def is_plain_utf8(head: bytes, tail: bytes) -> bool:
    """Return whether a long log can be read directly from disk: plain UTF-8 without a byte-order mark."""
    if head.startswith(tuple(mark for mark, _, _ in _MARKS)) or b"\x00" in head or b"\x00" in tail:
        return False
    if head.startswith(tuple(start for start, _ in _OTHER_FILES)) or b"\x1a" in tail:
        return False
    try:
        head.decode("utf-8")
    except UnicodeDecodeError as error:
        if error.start < len(head) - 4:
            return False
    return b"\n" in head and b"\r" not in head.replace(b"\r\n", b"")


def decode(data: bytes, name: str, *, encoding: str | None = None) -> Decoded:
    """Return the text of a log.

    Raises
    ------
    FileError
        The file is empty, or no text in any encoding that is known.
    """
    if not data.strip(b" \t\r\n\f\v\x00\xff\xfe\xef\xbb\xbf\x1a"):
        raise FileError(f"{name} is empty")
    if encoding is not None:
        return _as_named(data, name, encoding)
    for start, what in _OTHER_FILES:
        if data.startswith(start):
            raise FileError(f"{name} is not text but {what}")
    for mark, codec, words in _MARKS:
        if data.startswith(mark):
            body = data[len(mark) :]
            if codec == "utf-8":
                return _unmarked(body, name, words)
            return _wide(body, name, codec, words)
    return _unmarked(data, name, "UTF-8")


def _as_named(data: bytes, name: str, encoding: str) -> Decoded:
    try:
        text = data.decode(encoding)
    except LookupError:
        raise FileError(
            f'"{encoding}" is not an encoding that is known. Try utf-8, utf-16, latin-1 or windows-1252'
        ) from None
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise FileError(
            f"{name}, line {line}: not {encoding}. Leave --encoding out to find it"
        ) from None
    return Decoded(text.lstrip("\ufeff").encode("utf-8", "replace"), encoding)


def _wide(data: bytes, name: str, codec: str, words: str) -> Decoded:
    unit = 4 if codec.startswith("utf-32") else 2
    rest = len(data) % unit  # a torn last character
    try:
        text = data[: len(data) - rest].decode(codec)
    except UnicodeDecodeError as error:
        raise FileError(f"{name} is not text: broken {words} at byte {error.start}") from None
    text = text.rstrip("\x00")
    if "\x00" in text:
        raise FileError(f"{name} is not text: {words} with empty characters inside")
    torn = ("the last character is torn",) if rest else ()
    return Decoded(text.encode("utf-8", "replace"), words, torn)


def _unmarked(data: bytes, name: str, words: str) -> Decoded:
    head = data[:_HEAD]
    if b"\x00" in head:
        codec = _wide_without_mark(head)
        if codec is not None:
            return _wide(data, name, codec, "UTF-16 without mark")
    cautions: list[str] = []
    trimmed = data.rstrip(b"\x00\x1a")
    if b"\x00" in data[len(trimmed) :]:
        cautions.append(
            f"{len(data) - len(trimmed)} empty bytes at the end are left out: the log was cut off"
        )
        data = trimmed
        head = data[:_HEAD]
    controls = len(head) - len(head.translate(None, _CONTROL))
    if head.count(b"\x00") or controls > max(2, len(head) // 200):
        raise FileError(
            f"{name} is not text (byte {_first_odd(head)}): export the log as CSV in UTF-8"
        )
    if data.isascii():
        return Decoded(data, "ASCII" if words == "UTF-8" else words, tuple(cautions))
    whole, bad = _check_utf8(data)
    if bad == 0:
        if whole < len(data):
            cautions.append("the last character is torn: left out")
        return Decoded(data[:whole], words, tuple(cautions))
    valid = _multibyte_count(data)
    if valid > bad:
        cautions.append(f"replaced by a question mark: {counted(bad, 'byte')} that are not UTF-8")
        return Decoded(data.decode("utf-8", "replace").encode("utf-8"), words, tuple(cautions))
    return _single_byte(data, cautions)


def _first_odd(head: bytes) -> int:
    odd = set(_CONTROL) | {0}
    return next((k for k, byte in enumerate(head) if byte in odd), 0)


def _wide_without_mark(head: bytes) -> str | None:
    """Detect UTF-16 by its zero bytes: Latin text has one in every second place."""
    even, uneven = head[0::2], head[1::2]
    if uneven.count(b"\x00") > 0.4 * len(uneven) and even.count(b"\x00") < 0.02 * len(even) + 1:
        return "utf-16-le"
    if even.count(b"\x00") > 0.4 * len(even) and uneven.count(b"\x00") < 0.02 * len(uneven) + 1:
        return "utf-16-be"
    return None


def _check_utf8(data: bytes) -> tuple[int, int]:
    """Return how many bytes are whole, and how many bytes cannot be UTF-8."""
    decoder = codecs.getincrementaldecoder("utf-8")()
    try:
        for start in range(0, len(data), 1 << 24):
            decoder.decode(data[start : start + (1 << 24)])
    except UnicodeDecodeError:
        return len(data), data.decode("utf-8", "replace").count("\ufffd")
    return len(data) - len(decoder.getstate()[0]), 0


def _multibyte_count(data: bytes) -> int:
    """Return how many characters of more than one byte are valid."""
    text = data.decode("utf-8", "ignore")
    return sum(1 for character in text if ord(character) > 127)


def _single_byte(data: bytes, cautions: list[str]) -> Decoded:
    # The degree sign decides: 0xB0 on Windows and in Latin-1, 0xF8 in the code pages of a console.
    if b"\xf8C" in data and b"\xb0" not in data:
        return Decoded(data.decode("cp850").encode("utf-8"), "code page 850", tuple(cautions))
    try:
        text, words = data.decode("cp1252"), "Windows-1252"
    except UnicodeDecodeError:
        text, words = data.decode("latin-1"), "Latin-1"
    if _NOT_WESTERN.search(data):
        cautions.append(
            f"its encoding is not certain: read as {words}, but several letters in a row that are none of "
            "A to Z are rare in that. Name it: --encoding cp1251, gb18030, shift_jis"
        )
    return Decoded(text.encode("utf-8"), words, tuple(cautions))
