"""A page shown under another address than its own: what leads to the site's root leads to below that address instead."""

from __future__ import annotations

import re
from urllib.parse import urlsplit

from nailer.core.check.markup import tags
from nailer.core.check.references import references, written_anew

_NAMES = {"text/html": b"a.html", "application/xhtml+xml": b"a.xhtml", "text/css": b"a.css", "image/svg+xml": b"a.svg"}


def within(data: bytes, media_type: str, address: str, prefix: str) -> bytes:
    """The content of a page or style with its addresses led to below `prefix`, where they lead into the site at `address`
    (the one of its document root). Other contents, and addresses of other sites, stay as they are.

    >>> within(b'<img src="/pier.svg"> <a href="b.html">', "text/html", "https://a.example/", "/x/live")
    b'<img src="/x/live/pier.svg"> <a href="b.html">'
    >>> within(b"p { background: url(https://www.a.example/i.png) }", "text/css", "https://a.example/", "/x/live")
    b'p { background: url(/x/live/i.png) }'
    """
    name = _NAMES.get(media_type.partition(";")[0].strip().lower())
    if name is None:
        return data
    base = urlsplit(address)
    new = []
    data = _without_hints(data) if name != b"a.css" else data
    for one in references(name, data):
        led = _led(one.address, base.netloc, base.path.rstrip("/"), prefix)
        if led is not None:
            new.append((one, led.replace('"', "%22").replace("'", "%27").encode("utf-8", "replace").decode("latin-1")))
    return written_anew(data, new)


def with_first(data: bytes, media_type: str, more: bytes) -> bytes | None:
    """A page with something before its first tag, and no frames with a text of their own; None for what is no such page.

    >>> with_first(b"<!doctype html><html><iframe srcdoc='x'>", "text/html; charset=utf-8", b"<script></script>")
    b"<!doctype html><script></script><html><iframe srcd0c='x'>"
    >>> with_first(b"<svg>", "image/svg+xml", b"<script></script>")
    """
    if media_type.partition(";")[0].strip().lower() != "text/html":
        return None
    text = data.decode("latin-1")
    first = next(iter(tags(text)), None)
    if first is None or "\0" in text:
        return None  # another character set, or no page at all: a browser may find tags where this reader finds none
    return text[: first.start].encode("latin-1") + more + _SRCDOC.sub(b"srcd0c", data[first.start :])


# Wherever it stands: a name that means nothing leaves scripts whole, and no reading of tags can differ from a browser's.
_SRCDOC = re.compile(rb"srcdoc", re.I)

# What a browser would fetch, or look up, ahead of anybody's wish, past what the page may load.
_HINTS = frozenset({"preconnect", "dns-prefetch", "prefetch", "prerender", "preload", "modulepreload"})


def _without_hints(data: bytes) -> bytes:
    """A page with blanks, one for one, for its hints to fetch something ahead.

    >>> _without_hints(b'<link rel="dns-prefetch" href="//a.example"><p>')[-6:]
    b'   <p>'
    """
    text, at = data.decode("latin-1"), 0
    parts: list[str] = []
    for tag in tags(text):
        relations = next((one.value or "" for one in tag.attributes if one.name == "rel"), "").lower().split()
        if tag.name == "link" and not _HINTS.isdisjoint(relations):
            parts += [text[at : tag.start], " " * (tag.end - tag.start)]
            at = tag.end
    return "".join([*parts, text[at:]]).encode("latin-1")


def _led(address: str, host: str, base: str, prefix: str) -> str | None:
    """Where an address leads below the prefix; None where it stays as it is."""
    try:
        parts = urlsplit(address)
    except ValueError:
        return None
    if parts.scheme not in ("", "http", "https") or (parts.scheme and not parts.netloc):
        return None
    if parts.netloc and parts.netloc.lower().removeprefix("www.") != host.lower().removeprefix("www."):
        return None
    if not parts.netloc and not parts.path.startswith("/"):
        return None
    path = parts.path or "/"
    if base and path != base and not path.startswith(base + "/"):
        return None
    rest = (f"?{parts.query}" if parts.query else "") + (f"#{parts.fragment}" if parts.fragment else "")
    return prefix + (path[len(base) :] or "/") + rest
