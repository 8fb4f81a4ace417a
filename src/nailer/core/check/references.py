"""What pages and styles refer to, and how their text reads once something they refer to is renamed.

Contents are handled as Latin-1 text: each byte is one letter, so places in the text are places in the file, and nothing
but the addresses changes, whatever the file's own character set.
"""

from __future__ import annotations

import html
import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from urllib.parse import quote_from_bytes, unquote_to_bytes, urljoin, urlsplit

from nailer.core.check.markup import style_addresses, tags
from nailer.core.files.sitepath import DocumentRoot, SitePath, address_of, path_of
from nailer.errors import InvalidInput

_PAGE = re.compile(rb"\.(x?html?|php\d?|phtml|shtml|inc|tpl|svg)$", re.I)
_STYLE = re.compile(rb"\.css$", re.I)

_ONE_ADDRESS = {"src", "href", "poster", "data", "background", "action", "xlink:href"}
_SRCSET_PART = re.compile(r"(?P<address>[^\s,]\S*?)(?=,?\s|,?$)(?:\s+[^,]*)?")
# An address that a program makes is not known before it runs.
_MADE_BY_A_PROGRAM = ("<?", "{{", "{%", "${", "<%")
_SCHEME = re.compile(r"[a-zA-Z][a-zA-Z0-9+.-]*:")


@dataclass(frozen=True, slots=True)
class Reference:
    """An address in a text: from `start` up to `end`, as it is written there, and on which line (from 1)."""

    start: int
    end: int
    written: str
    line: int

    @property
    def address(self) -> str:
        """The address itself: character references of HTML are resolved."""
        return unescaped(self.written).strip()


def refers(name: bytes) -> bool:
    """True for a file whose references are known by its name's ending.

    >>> refers(b"index.HTML"), refers(b"site.css"), refers(b"app.js")
    (True, True, False)
    """
    return bool(_PAGE.search(name) or _STYLE.search(name))


def references(name: bytes, data: bytes) -> list[Reference]:
    """Every address in a page or style, in the order of the text.

    >>> [one.address for one in references(b"a.html", b'<img src="pier.svg"> <a href=fares.html>')]
    ['pier.svg', 'fares.html']
    >>> [one.address for one in references(b"a.css", b"@import 'b.css'; p { background: url( img/a.png ) }")]
    ['b.css', 'img/a.png']
    """
    text = data.decode("latin-1")
    starts = [0, *(found.end() for found in re.finditer("\n", text))]
    spans = _in_style(text, 0) if _STYLE.search(name) else _in_page(text)
    found, line = [], 0
    for start, end in sorted(set(spans)):
        while line < len(starts) and starts[line] <= start:
            line += 1
        written = text[start:end]
        if written.strip() and not any(mark in written for mark in _MADE_BY_A_PROGRAM):
            found.append(Reference(start, end, written, line))
    return found


def _in_style(text: str, at: int) -> Iterator[tuple[int, int]]:
    return ((at + start, at + end) for start, end in style_addresses(text))


def _in_page(text: str) -> Iterator[tuple[int, int]]:
    for tag in tags(text):
        for one in tag.attributes if not tag.is_end else ():
            if one.value is None:
                continue
            if one.name in _ONE_ADDRESS:
                yield one.start, one.end
            elif one.name == "srcset":
                for part in _SRCSET_PART.finditer(one.value):
                    yield one.start + part.start("address"), one.start + part.end("address")
            elif one.name == "style":
                yield from _in_style(one.value, one.start)
        if tag.name == "style" and tag.content is not None:
            yield from _in_style(text[tag.end : tag.content], tag.end)


def unescaped(written: str) -> str:
    """A text with its character references resolved. One with more digits than a number may have stays as it is written.

    >>> unescaped("a&amp;b"), unescaped("&#" + "9" * 5000 + ";")[:4]
    ('a&b', '&#99')
    """
    try:
        return html.unescape(written)
    except ValueError:
        return written


def target_of(address: str, page: SitePath, roots: tuple[DocumentRoot, ...]) -> SitePath | None:
    """The path that an address on a page leads to; None where it leads elsewhere, or nowhere in particular.

    >>> roots = (DocumentRoot(SitePath.parse(b"/htdocs"), "https://skerryferries.example/"),)
    >>> str(target_of("../img/pier%20end.svg?v=2#top", SitePath.parse(b"/htdocs/fares/index.html"), roots))
    '/htdocs/img/pier end.svg'
    >>> target_of("https://gannet.example/a.css", SitePath.parse(b"/htdocs/index.html"), roots)
    """
    own = address_of(page, roots)
    if own is None or not address or address.startswith("#"):
        return None
    if _SCHEME.match(address) and not address.lower().startswith(("http:", "https:")):
        return None
    # A raw byte stands for itself, as it does in a browser that reads the page in that set.
    raw = quote_from_bytes(address.encode("latin-1", "replace"), safe="~!$&'()*+,;=:@/?#%[]-._")
    try:
        return path_of(urljoin(own, raw), roots)
    except (InvalidInput, ValueError):
        return None


def renamed(path: SitePath, renames: Mapping[SitePath, bytes]) -> SitePath:
    """A path after names on the way to it, or its own, were changed. `renames` holds old paths and new last names.

    >>> str(renamed(SitePath((b"a", b"b")), {SitePath((b"a",)): b"x"}))
    '/x/b'
    """
    names = [renames.get(SitePath(path.names[: depth + 1]), name) for depth, name in enumerate(path.names)]
    return SitePath(tuple(names))


def rewritten(
    name: bytes, data: bytes, page: SitePath, renames: Mapping[SitePath, bytes], roots: tuple[DocumentRoot, ...]
) -> tuple[bytes, int]:
    """A file's content once what it refers to is renamed, and how many of its references that changed.

    >>> roots = (DocumentRoot(SitePath.parse(b"/htdocs"), "https://skerryferries.example/"),)
    >>> old = SitePath.parse(b"/htdocs/Pier 1.svg")
    >>> rewritten(b"a.html", b'<img src="Pier%201.svg?2">', SitePath.parse(b"/htdocs/a.html"), {old: b"pier-1.svg"}, roots)
    (b'<img src="pier-1.svg?2">', 1)
    """
    new: list[tuple[Reference, str]] = []
    for one in references(name, data):
        target = target_of(one.address, page, roots)
        if target is None or (goal := renamed(target, renames)) == target:
            continue
        written = _with_names(one.written, target, goal)
        if written is not None:
            new.append((one, written))
    return written_anew(data, new), len(new)


def written_anew(data: bytes, new: Iterable[tuple[Reference, str]]) -> bytes:
    """A content with other words for some of its references, which are in the order of the text."""
    text, at = data.decode("latin-1"), 0
    parts: list[str] = []
    for one, written in new:
        if one.start >= at:  # two that overlap cannot both be written
            parts += [text[at : one.start], written]
            at = one.end
    return "".join([*parts, text[at:]]).encode("latin-1")


def _with_names(written: str, old: SitePath, new: SitePath) -> str | None:
    """An address as written with the names that differ put in; None where none of them is spelled out in it."""
    plain = unescaped(written)
    cut = min((at for at in (plain.find("?"), plain.find("#")) if at >= 0), default=len(plain))
    path, rest = plain[:cut], plain[cut:]
    begins = len(path) - len(urlsplit(path).path) if "//" in path else 0
    parts = path[begins:].rstrip("/").split("/")
    changed = False
    for back, (before, after) in enumerate(zip(reversed(old.names), reversed(new.names), strict=True), start=1):
        if before == after or back > len(parts):
            continue
        if unquote_to_bytes(parts[-back].strip().encode("latin-1", "replace")) == before:
            parts[-back] = quote_from_bytes(after, safe="~!$'()*+,;=:@-._")
            changed = True
    if not changed:
        return None
    tail = "/" if path.endswith("/") else ""
    return (
        html.escape(path[:begins] + "/".join(parts) + tail + rest, quote=True)
        if "&" in written
        else (path[:begins] + "/".join(parts) + tail + rest)
    )
