"""A file's bytes as text, and back: character set, byte order mark and line ends stay as they were found."""

from __future__ import annotations

import codecs
import re
from dataclasses import dataclass

from nailer.errors import InvalidInput

_MARKS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)
_MARK_OF = {name: mark for mark, name in reversed(_MARKS)}
# What a page says of itself near its top (HTML, CSS, XML).
_DECLARED = re.compile(
    rb"""charset\s*=\s*["']?\s*([\w-]+)|@charset\s+"([\w-]+)"|encoding\s*=\s*["']([\w-]+)["']""", re.I
)
_LOOKED_AT = 2048
_NOT_IN_TEXT = re.compile(rb"[\x00-\x08\x0e-\x1a\x1c-\x1f]")

ENDS = {"\n": "LF", "\r\n": "CRLF", "\r": "CR"}


@dataclass(frozen=True, slots=True)
class TextForm:
    """How a text is stored: its character set by Python's name, whether it begins with a byte order mark, and how its
    lines end. `mixed`: not all of them do; those keep their own."""

    encoding: str = "utf-8"
    mark: bool = False
    line_end: str = "\n"
    mixed: bool = False

    @property
    def words(self) -> str:
        """`UTF-8, LF`, with what is out of the common."""
        name = {"utf-8": "UTF-8", "cp1252": "Windows-1252", "iso8859-1": "ISO 8859-1"}.get(self.encoding, self.encoding)
        ends = "mixed line ends" if self.mixed else ENDS[self.line_end]
        return f"{name}{' with BOM' if self.mark else ''}, {ends}"


def decoded(data: bytes) -> tuple[str, TextForm] | None:
    """Decode a content to text with line feeds; return the text and how it was stored. None where it is no text.

    Where line ends are mixed the text keeps every carriage return, so that what is not edited stays as it is.

    >>> decoded(b"a\\r\\nb\\r\\n")
    ('a\\nb\\n', TextForm(encoding='utf-8', mark=False, line_end='\\r\\n', mixed=False))
    >>> decoded(b"caf\\xe9")[1].encoding
    'cp1252'
    >>> decoded(b"\\x89PNG\\r\\n\\x1a\\n\\x00") is None
    True
    """
    encoding, mark = _encoding_of(data)
    if encoding is None:
        return None
    try:
        text = data[len(mark) :].decode(encoding)
    except (UnicodeDecodeError, LookupError):
        return None
    ends = {"\r\n": text.count("\r\n")}
    ends["\r"] = text.count("\r") - ends["\r\n"]
    ends["\n"] = text.count("\n") - ends["\r\n"]
    found = [end for end, count in ends.items() if count]
    if len(found) > 1:
        return text, TextForm(encoding, bool(mark), max(ends, key=lambda end: ends[end]), mixed=True)
    end = found[0] if found else "\n"
    return text.replace(end, "\n"), TextForm(encoding, bool(mark), end)


def encoded(text: str, form: TextForm) -> bytes:
    """The bytes of a text stored in a form; what `decoded` gave comes out as it was. Raises InvalidInput where the
    character set lacks a letter.

    >>> encoded("a\\nb", TextForm(line_end="\\r\\n"))
    b'a\\r\\nb'
    """
    if not form.mixed:
        text = text.replace("\n", form.line_end)
    try:
        data = text.encode(form.encoding)
    except UnicodeEncodeError as error:
        letter = text[error.start]
        line = text.count("\n", 0, error.start) + 1
        name = form.words.partition(",")[0]
        raise InvalidInput(
            f"Line {line} contains {letter!r}, which {name} cannot represent. Save the file as UTF-8."
        ) from error
    return (_MARK_OF.get(form.encoding, b"") if form.mark else b"") + data


def text_of(data: bytes) -> str | None:
    """A content as text for reading, None where it is none."""
    found = decoded(data)
    return found[0] if found else None


def _encoding_of(data: bytes) -> tuple[str | None, bytes]:
    for mark, name in _MARKS:
        if data.startswith(mark):
            return name, mark
    if _NOT_IN_TEXT.search(data):
        return None, b""
    try:
        data.decode("utf-8")
    except UnicodeDecodeError:
        return _declared(data) or "cp1252", b""
    return "utf-8", b""


def _declared(data: bytes) -> str | None:
    """The set a page says it is in, where that reads it."""
    found = _DECLARED.search(data[:_LOOKED_AT])
    if found is None:
        # Windows-1252 leaves five bytes open; ISO 8859-1 has all.
        return None if _reads(data, "cp1252") else "iso8859-1"
    said = next(one for one in found.groups() if one is not None).decode()
    try:
        name = codecs.lookup(said).name
    except LookupError:
        return None
    # Browsers read what says ISO 8859-1 as Windows-1252 (WHATWG Encoding).
    name = "cp1252" if name == "iso8859-1" and _reads(data, "cp1252") else name
    return name if _reads(data, name) and not name.startswith(("utf", "hz", "idna", "punycode")) else None


def _reads(data: bytes, name: str) -> bool:
    try:
        return data.decode(name).encode(name) == data
    except (UnicodeError, LookupError):
        return False
