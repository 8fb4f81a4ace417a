"""A path as somebody types or pastes it: what it may mean, the likeliest first."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable
from dataclasses import dataclass
from urllib.parse import unquote_to_bytes, urlsplit

from nailer.core.files.sitepath import SitePath, shown_name
from nailer.errors import InvalidInput

_INVISIBLE = "\u200b\u200c\u200d\u2060\ufeff\u00ad"
_QUOTES = {'"': '"', "'": "'", "`": "`", "“": "”", "„": "“", "‘": "’", "«": "»", "<": ">"}
_LINE = re.compile(r"^(?P<path>.+?):(?P<line>[0-9]{1,9})(?::[0-9]{1,9})?:?$", re.DOTALL)
_MOST_CHARACTERS = 4096
_ALIKE = 0.6


@dataclass(frozen=True, slots=True)
class Meaning:
    """One thing that typed text may mean: a path, and the line of a file (from 1; 0: none was named)."""

    path: SitePath
    line: int = 0


def meanings(typed: str, folder: SitePath) -> list[Meaning]:
    """What typed text may mean as a path, the likeliest first: as it stands, then without what clings to a pasted path,
    from the top and from `folder`. Raises InvalidInput where it can mean nothing.

    Blanks, quotes, backslashes and percent signs can be parts of names, so what stands there is tried as it is first.

    >>> [one.path.shown for one in meanings(" '~/htdocs/news/' ", SitePath())][-1:]
    ['/htdocs/news']
    >>> meanings("site.css:41", SitePath.parse(b"/htdocs"))[-1]
    Meaning(path=SitePath(names=(b'htdocs', b'site.css')), line=41)
    """
    if len(typed) > _MOST_CHARACTERS:
        raise InvalidInput("The path is too long.")
    texts: dict[tuple[str, int], None] = {}
    for text in dict.fromkeys((typed, typed.strip(), _cleaned(typed))):
        texts[(text, 0)] = None
        if found := _LINE.match(text):
            texts[(found["path"], int(found["line"]))] = None
    decoded = [(_percent_decoded(text), line) for text, line in texts if "%" in text]
    found_readings: dict[Meaning, None] = {}
    refused: InvalidInput | None = None
    for text, line in [*texts, *decoded]:
        raw = text.encode("utf-8", "surrogateescape")
        try:
            path = SitePath.parse(raw)
        except InvalidInput as error:
            refused = error
            continue
        found_readings[Meaning(path, line)] = None
        if not raw.startswith(b"/"):
            found_readings[Meaning(folder.join(path.names), line)] = None
    if not found_readings and refused is not None:
        raise refused
    return list(found_readings)


def meant(typed: str, folder: SitePath) -> SitePath:
    """The one path that text stands for where none of its meanings is there: what may be made, or looked for near by.
    Raises InvalidInput.

    >>> meant("'nwes/' ", SitePath.parse(b"/htdocs")).shown
    '/htdocs/nwes'
    """
    text = _cleaned(typed)
    path = SitePath.parse(text.encode("utf-8", "surrogateescape"))
    return path if text.startswith("/") else folder.join(path.names)


def is_web_address(typed: str) -> bool:
    """True for what a browser's address bar holds."""
    return _cleaned(typed).lower().startswith(("http://", "https://"))


def web_address(typed: str) -> str:
    """The address without what clings to it, and without query and fragment: they name no file."""
    return urlsplit(_cleaned(typed))._replace(query="", fragment="").geturl()


def alike(name: bytes, names: Iterable[bytes], most: int = 3) -> list[bytes]:
    """Those names that a person may have meant by one that is not there, the likeliest first.

    >>> alike(b"htdcos", [b"htdocs", b"logs", b"HTDOCS"])
    [b'htdocs', b'HTDOCS']
    """
    wanted = shown_name(name).casefold()
    rated = [(difflib.SequenceMatcher(None, wanted, shown_name(one).casefold()).ratio(), one) for one in names]
    near = [(-rate, place, one) for place, (rate, one) in enumerate(rated) if rate >= _ALIKE]
    return [one for _, _, one in sorted(near)[:most]]


def _cleaned(typed: str) -> str:
    """Without blanks and invisible characters round it, quotes, the scheme of another program, `~`, and with slashes."""
    text = typed.strip().strip(_INVISIBLE).strip()
    while len(text) > 1 and _QUOTES.get(text[0]) == text[-1]:
        text = text[1:-1].strip()
    if "\\" in text and "/" not in text:
        text = text.replace("\\", "/")
    split = urlsplit(text) if re.match(r"^(sftp|ftps?|ftpes|file)://", text, re.IGNORECASE) else None
    if split is not None:
        text = split.path or "/"
    if text == "~" or text.startswith("~/"):
        text = text[1:] or "/"
    return text


def _percent_decoded(text: str) -> str:
    return unquote_to_bytes(text.encode("utf-8", "surrogateescape")).decode("utf-8", "surrogateescape")
