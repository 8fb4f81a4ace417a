"""Tags and styles of a text with their places, read from left to right once.

Every letter is looked at a fixed number of times, whatever the text is: what is begun and never ended ends the reading, as
it does in a browser (HTML, 13.2.5), and no search begins again where another has been. `nailer.core.site.links` reads pages
as a browser does; this reads where in the file something stands, which a tree does not tell.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

_NAME = re.compile(r"[a-zA-Z][^\s/>]*")
_BLANK = re.compile(r"[\s/]*")
_SPACE = re.compile(r"\s*")
_ATTRIBUTE = re.compile(r"[^\s=>/][^\s=>/]*")
_BARE = re.compile(r"[^\s>]*")
# Elements whose content holds no tags (HTML, 13.2.5.2 to 13.2.5.4).
_RAW = frozenset({"script", "style", "textarea", "title", "xmp", "iframe", "noembed", "noframes"})
_RAW_ENDS = {name: re.compile(rf"</{name}(?=[\s/>])", re.I) for name in _RAW}


@dataclass(frozen=True, slots=True)
class Attribute:
    """One attribute of a tag: its name in small letters, and its value from `start` up to `end`; None without a value."""

    name: str
    start: int
    end: int
    value: str | None


@dataclass(frozen=True, slots=True)
class Tag:
    """A tag from `start` up to `end`. `content` is where the raw text after it ends, for elements that hold no tags."""

    start: int
    end: int
    name: str
    is_end: bool
    closes_itself: bool
    attributes: tuple[Attribute, ...]
    content: int | None = None


def tags(text: str) -> Iterator[Tag]:
    """The tags of a page in order. Comments, declarations and what programs write are passed over.

    >>> [(one.name, one.is_end) for one in tags("<!-- <b> --><p class=x>1 < 2</p><script>'<i>'</script>")]
    [('p', False), ('p', True), ('script', False), ('script', True)]
    """
    at = 0
    while (at := text.find("<", at)) >= 0:
        after = _passed_over(text, at)
        if after is not None:
            if after < 0:
                return
            at = after
            continue
        is_end = text.startswith("</", at)
        name = _NAME.match(text, at + 1 + is_end)
        if name is None:
            at += 1
            continue
        tag = _tag(text, at, name[0].lower(), name.end(), is_end=is_end)
        if tag is None:
            return  # a tag that is never ended swallows the rest
        yield tag
        at = tag.content if tag.content is not None else tag.end


def _passed_over(text: str, at: int) -> int | None:
    """Where what is no tag ends, -1 where it never does; None for what may be a tag."""
    if text.startswith("<!--", at):
        return _after(text, "-->", at + 4)
    if text.startswith("<?", at):
        return _after(text, "?>", at + 2)
    if text.startswith("<!", at):
        return _after(text, ">", at + 2)
    return None


def _after(text: str, mark: str, at: int) -> int:
    found = text.find(mark, at)
    return found + len(mark) if found >= 0 else -1


def _tag(text: str, start: int, name: str, at: int, *, is_end: bool) -> Tag | None:
    found: list[Attribute] = []
    closes_itself = False
    while True:
        blank = _BLANK.match(text, at)
        at = blank.end() if blank is not None else at
        if at >= len(text):
            return None
        if text[at] == ">":
            closes_itself = text[at - 1] == "/"
            break
        attribute = _ATTRIBUTE.match(text, at)
        if attribute is None:
            at += 1  # an equals sign without a name
            continue
        value_start, value_end, at = _value(text, attribute.end())
        if at < 0:
            return None
        value = text[value_start:value_end] if value_start >= 0 else None
        found.append(Attribute(attribute[0].lower(), value_start, value_end, value))
    content = None
    if name in _RAW and not is_end:
        ends = _RAW_ENDS[name].search(text, at + 1)
        content = ends.start() if ends is not None else len(text)
    return Tag(start, at + 1, name, is_end, closes_itself, tuple(found), content)


def _value(text: str, at: int) -> tuple[int, int, int]:
    """Where a value begins, ends and is left behind; -1 for no value, and at the last place for one that never ends."""
    after = _end_of(_SPACE, text, at)
    if not text.startswith("=", after):
        return -1, -1, at
    start = _end_of(_SPACE, text, after + 1)
    mark = text[start : start + 1]
    if mark in ('"', "'") and mark:
        end = text.find(mark, start + 1)
        return start + 1, end, end + 1 if end >= 0 else -1
    end = _end_of(_BARE, text, start)
    return start, end, end


def _end_of(pattern: re.Pattern[str], text: str, at: int) -> int:
    found = pattern.match(text, at)
    return found.end() if found is not None else at


# Elements that hold nothing, and those whose end may be left out (HTML, 13.1.2.4): many of them in a row are no depth.
_FLAT = frozenset(
    [
        "area",
        "base",
        "br",
        "col",
        "embed",
        "hr",
        "img",
        "input",
        "link",
        "meta",
        "param",
        "source",
        "track",
        "wbr",
        "p",
        "li",
        "dt",
        "dd",
        "option",
        "optgroup",
        "tr",
        "td",
        "th",
        "thead",
        "tbody",
        "tfoot",
        "colgroup",
        "caption",
        "rt",
        "rp",
        "html",
        "head",
        "body",
    ]
)


def depth(text: str) -> int:
    """How deep elements lie in each other at most, told by their tags alone.

    >>> depth("<div><p>a<p>b<br></div>"), depth("<b>" * 7)
    (1, 7)
    """
    deepest = now = 0
    for tag in tags(text):
        if tag.name not in _FLAT and not tag.closes_itself:
            now = max(0, now - 1) if tag.is_end else now + 1
            deepest = max(deepest, now)
    return deepest


_URL = re.compile(r"url\(\s*", re.I)
_IMPORT = re.compile(r"@import\s*", re.I)
_TO_MARK = re.compile(r"""[^"')]*""")
_MARKS = ('"', "'")


def style_addresses(text: str) -> Iterator[tuple[int, int]]:
    """Where the addresses of a style stand: in `url(...)` and behind `@import`. Comments are passed over.

    >>> style = "@import 'b.css'; /* url(x) */ p { background: url( img/a.png ) }"
    >>> [style[start:end] for start, end in style_addresses(style)]
    ['img/a.png', 'b.css']
    """
    bare = without_comments(text)
    for begins, needs_mark in ((_URL, False), (_IMPORT, True)):
        at = 0
        while (found := begins.search(bare, at)) is not None:
            at = found.end()
            mark = bare[at : at + 1] if bare[at : at + 1] in _MARKS else ""
            if needs_mark and not mark:
                continue
            start = at + len(mark)
            end = at = _end_of(_TO_MARK, bare, start)
            if mark and bare[end : end + 1] == mark:
                yield start, end
                at = end + 1
            elif not mark and bare[end : end + 1] == ")":
                yield start, start + len(bare[start:end].rstrip())


def without_comments(text: str) -> str:
    """A style with blanks, one for one, for its comments; one that is never ended takes the rest."""
    parts: list[str] = []
    at = 0
    while (begins := text.find("/*", at)) >= 0:
        ends = _after(text, "*/", begins + 2)
        ends = ends if ends >= 0 else len(text)
        parts += [text[at:begins], " " * (ends - begins)]
        at = ends
    return "".join([*parts, text[at:]])
