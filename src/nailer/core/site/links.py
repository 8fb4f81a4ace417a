"""What pages, styles, manifests, feeds and lists of addresses refer to, read as a browser reads them.

Pages are read by Lexbor (package `selectolax`): it follows the parsing rules of the HTML standard with all their recovery,
in C, so that a page of tag soup gives the links that a visitor's browser sees. Styles are read by tinycss2, XML by
defusedxml. What a program writes while it runs is not in its file and is not guessed.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any
from xml.etree.ElementTree import Element, ParseError

import tinycss2
import tinycss2.ast
from defusedxml import ElementTree
from defusedxml.common import DefusedXmlException
from selectolax.lexbor import LexborHTMLParser, LexborNode

from nailer.core.check.markup import depth, tags

# The tree of a page costs the square of its depth; browsers stop at 512.
_DEEPEST = 600
LARGEST_BYTES = 2_000_000  # pages and styles beyond that are not read: the scan says which


class Use(StrEnum):
    """What a link is for: what a visitor misses where it leads nowhere."""

    PAGE = "page"
    PICTURE = "picture"
    STYLE = "style"
    SCRIPT = "script"
    FONT = "font"
    MEDIA = "media"
    FRAME = "frame"
    FORM = "form"
    ICON = "icon"
    MANIFEST = "manifest"
    FEED = "feed"
    MOVE = "move"
    LISTED = "listed"


@dataclass(frozen=True, slots=True)
class Link:
    """An address as a browser takes it, before it is joined with the page's own. `width` is how many CSS pixels wide the
    page shows a picture, where it says so in figures."""

    address: str
    use: Use
    width: int | None = None


@dataclass(frozen=True, slots=True)
class FileLinks:
    """What a file refers to. `base` is the address that its links are joined with, '' for the file's own. `mentions` are
    names of files that its text holds in no link: a script may make an address of them."""

    links: tuple[Link, ...] = ()
    base: str = ""
    mentions: frozenset[str] = frozenset()


_ENDINGS: tuple[tuple[re.Pattern[bytes], str], ...] = tuple(
    (re.compile(rb".+\.(" + endings + rb")", re.I | re.S), kind)
    for endings, kind in (
        (rb"x?html?|svg", "page"),
        (rb"php\d?|phtml|shtml|inc|tpl|aspx?|jsp|cgi|pl|py|rb", "program"),
        (rb"css", "style"),
        (rb"m?js|cjs|json|txt|ya?ml|ini|toml", "text"),
        (rb"webmanifest", "manifest"),
        (rb"xml|rss|atom|xslt?", "xml"),
    )
)
_NAMES = {b"manifest.json": "manifest", b"site.webmanifest": "manifest", b"robots.txt": "robots", b".htaccess": "text"}


def syntax_of(name: bytes) -> str:
    """How a file is read for links, by its name: `page`, `program`, `style`, `text`, `manifest`, `xml`, `robots`; '' where
    it is not.

    >>> syntax_of(b"INDEX.HTM"), syntax_of(b"site.css"), syntax_of(b"pier.png"), syntax_of(b"manifest.json")
    ('page', 'style', '', 'manifest')
    """
    if (named := _NAMES.get(name.lower())) is not None:
        return named
    return next((kind for pattern, kind in _ENDINGS if pattern.fullmatch(name)), "")


def links_in(name: bytes, data: bytes) -> FileLinks:
    """Everything that a file refers to. Never raises, whatever the bytes are.

    >>> found = links_in(b"a.html", b'<img src="pier.svg" width=300> <a href=fares.html#top>')
    >>> [(one.address, one.use.value, one.width) for one in found.links]
    [('pier.svg', 'picture', 300), ('fares.html#top', 'page', None)]
    >>> [one.address for one in links_in(b"a.css", b"@import 'b.css'; p { background: url( img/a.png ) }").links]
    ['b.css', 'img/a.png']
    """
    how = syntax_of(name)
    read = _READERS.get(how)
    return read(text_of(data)) if read is not None else FileLinks()


def text_of(data: bytes) -> str:
    """The text of a page by its mark, else as UTF-8, else by what it says of itself, else as Windows-1252 (HTML, 13.2.3).

    >>> text_of("Fähre".encode("latin-1")), text_of("Fähre".encode()), text_of(b"\\xff\\xfeF\\0")
    ('Fähre', 'Fähre', 'F')
    """
    for mark, charset in ((b"\xef\xbb\xbf", "utf-8"), (b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be")):
        if data.startswith(mark):
            return data[len(mark) :].decode(charset, "replace")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        said = re.search(rb"charset\s*=\s*[\"']?([a-zA-Z0-9_.:-]{1,40})", data[:1024])
    try:
        return data.decode(said[1].decode("ascii") if said else "cp1252", "replace")
    except LookupError:
        return data.decode("cp1252", "replace")


# Elements and what their attributes are for. `link`, `meta` and `input` are told apart by what else they say.
_ATTRIBUTES: Mapping[tuple[str, str], Use] = {
    ("a", "href"): Use.PAGE,
    ("area", "href"): Use.PAGE,
    ("img", "src"): Use.PICTURE,
    ("image", "href"): Use.PICTURE,
    ("image", "xlink:href"): Use.PICTURE,
    ("use", "href"): Use.PICTURE,
    ("use", "xlink:href"): Use.PICTURE,
    ("video", "poster"): Use.PICTURE,
    ("body", "background"): Use.PICTURE,
    ("table", "background"): Use.PICTURE,
    ("td", "background"): Use.PICTURE,
    ("video", "src"): Use.MEDIA,
    ("audio", "src"): Use.MEDIA,
    ("source", "src"): Use.MEDIA,
    ("track", "src"): Use.MEDIA,
    ("script", "src"): Use.SCRIPT,
    ("iframe", "src"): Use.FRAME,
    ("frame", "src"): Use.FRAME,
    ("embed", "src"): Use.FRAME,
    ("object", "data"): Use.FRAME,
    ("form", "action"): Use.FORM,
    ("button", "formaction"): Use.FORM,
    ("blockquote", "cite"): Use.PAGE,
}
_RELATIONS: Mapping[str, Use] = {
    "stylesheet": Use.STYLE,
    "icon": Use.ICON,
    "apple-touch-icon": Use.ICON,
    "mask-icon": Use.ICON,
    "manifest": Use.MANIFEST,
    "modulepreload": Use.SCRIPT,
    "next": Use.PAGE,
    "prev": Use.PAGE,
    "license": Use.PAGE,
}
_PRELOADS = {
    "style": Use.STYLE,
    "script": Use.SCRIPT,
    "font": Use.FONT,
    "image": Use.PICTURE,
    "video": Use.MEDIA,
    "audio": Use.MEDIA,
}
_SHARED = ("og:image", "og:image:url", "og:image:secure_url", "twitter:image")
# An address that a program or a template writes is not known before it runs.
_MADE = ("<?", "{{", "{%", "${", "<%")
_SRCSET = re.compile(r"[\s,]*([^\s,]\S*[^\s,]|[^\s,])(?:\s+([^,]*))?(?:,|$)")
_DESCRIBED_WIDTH = re.compile(r"([0-9]{1,5})\s*(?:px)?")
_MENTION = re.compile(r"[\w%~!@+-][\w.%~!@+-]{0,120}\.[A-Za-z0-9]{2,11}")
_MOST_MENTIONS = 5000


_SHOWN_WITHOUT_TEXT = "img, svg, video, canvas, iframe, object, embed, input, button, select, textarea"
_NEVER_SHOWN = "script, style, template, noscript, title, head"


def visible_letters(data: bytes) -> int:
    """How many letters of a page a visitor sees without any script; what shows something else than text counts as one.

    >>> visible_letters(b"<title>Ferry</title><body><script>let a</script></body>")
    0
    >>> visible_letters(b"<p>Soon <img src=a.png>")
    5
    """
    text = text_of(data)
    if depth(text) > _DEEPEST:
        return 0
    tree = LexborHTMLParser(text)
    tree.strip_tags(_NEVER_SHOWN.split(", "))
    body = tree.body
    if body is None:
        return 0
    return len("".join(body.text().split())) + len(body.css(_SHOWN_WITHOUT_TEXT))


def _of_page(text: str) -> FileLinks:
    if depth(text) > _DEEPEST:
        return _of_deep_page(text)
    tree = LexborHTMLParser(text)
    base = ""
    found: list[Link] = []
    mentions: set[str] = set()
    for node in tree.css("*"):
        tag, given = node.tag or "", node.attributes
        if tag == "base":
            base = base or _clean(given.get("href") or "")
        elif tag == "style":
            found += _in_style(node.text())
        elif tag == "script" and not given.get("src"):
            mentions |= _mentioned(node.text())
        found += _of_element(tag, given, node)
    # What stands in attributes of scripts (`onclick`, `data-src`) is no link, but may become one.
    mentions |= _mentioned(" ".join(_other_values(tree)))
    return FileLinks(tuple(dict.fromkeys(one for one in found if _is_known(one.address))), base, frozenset(mentions))


def _of_deep_page(text: str) -> FileLinks:
    """What a page refers to that is nested deeper than a browser goes: by its tags, without a tree."""
    found = []
    for tag in tags(text):
        for one in tag.attributes:
            use = _ATTRIBUTES.get((tag.name, one.name))
            if use is not None and one.value and _is_known(one.value):
                found.append(Link(_clean(one.value), use))
    return FileLinks(tuple(dict.fromkeys(found)), mentions=_mentioned(text))


def _of_element(tag: str, given: Mapping[str, str | None], node: LexborNode) -> Iterator[Link]:
    for name, value in given.items():
        if not value:
            continue
        use = _ATTRIBUTES.get((tag, name))
        if use is not None and not (tag == "source" and name == "src" and _in_picture(node)):
            yield Link(_clean(value), use, _width(given) if use is Use.PICTURE else None)
        elif name in ("srcset", "imagesrcset") and tag in ("img", "source", "link"):
            yield from (Link(_clean(address), Use.PICTURE, None) for address in _of_srcset(value))
        elif name == "style":
            yield from _in_style(value)
    href = _clean(given.get("href") or "")
    if tag == "link" and href:
        yield from _of_relation(given, href)
    elif tag == "input" and (given.get("type") or "").lower() == "image" and given.get("src"):
        yield Link(_clean(given["src"] or ""), Use.PICTURE, _width(given))
    elif tag == "meta":
        yield from _of_meta(given)


def _of_relation(given: Mapping[str, str | None], href: str) -> Iterator[Link]:
    relations = (given.get("rel") or "").lower().split()
    if "preload" in relations or "prefetch" in relations:
        yield Link(href, _PRELOADS.get((given.get("as") or "").lower(), Use.PAGE))
    elif "alternate" in relations and "stylesheet" not in relations:
        kind = (given.get("type") or "").lower()
        yield Link(href, Use.FEED if "rss" in kind or "atom" in kind or "feed" in kind else Use.PAGE)
    else:
        use = next((_RELATIONS[one] for one in relations if one in _RELATIONS), None)
        if use is not None:
            yield Link(href, use)


def _of_meta(given: Mapping[str, str | None]) -> Iterator[Link]:
    content = given.get("content") or ""
    if (given.get("http-equiv") or "").lower() == "refresh":
        if target := _moved_to(content):
            yield Link(_clean(target), Use.MOVE)
    elif (given.get("property") or given.get("name") or "").lower() in _SHARED and content:
        yield Link(_clean(content), Use.PICTURE)


def _moved_to(content: str) -> str:
    """Where a page says that it moves on to (HTML, 4.2.5.3), '' where it does not say.

    >>> _moved_to("0; url='b.html'"), _moved_to("5;b.html"), _moved_to("30")
    ('b.html', 'b.html', '')
    """
    target = (content.partition(";")[2] or content.partition(",")[2]).strip().lstrip("0123456789.").lstrip(" \t;,\n")
    if target[:3].lower() == "url" and target[3:].lstrip().startswith("="):
        target = target[3:].lstrip()[1:].lstrip()
    mark = target[:1]
    return target[1:].partition(mark)[0] if mark in ('"', "'") and mark else target


def _in_picture(node: LexborNode) -> bool:
    return node.parent is not None and node.parent.tag == "picture"


def _width(given: Mapping[str, str | None]) -> int | None:
    found = _DESCRIBED_WIDTH.fullmatch((given.get("width") or "").strip())
    return int(found[1]) or None if found else None


def _other_values(tree: LexborHTMLParser) -> Iterator[str]:
    for node in tree.css("*"):
        for name, value in node.attributes.items():
            if value and (name.startswith(("data-", "on")) or name in ("content", "value")):
                yield value


def _of_srcset(value: str) -> Iterator[str]:
    """The addresses of a list of candidates (HTML, 4.8.4.2.1): a comma inside an address belongs to it."""
    at = 0
    while (found := _SRCSET.match(value, at)) is not None and found.end() > at:
        yield found[1]
        at = found.end()


def _of_style(text: str) -> FileLinks:
    return FileLinks(tuple(dict.fromkeys(_in_style(text))))


def _in_style(text: str) -> Iterator[Link]:
    """Every address of a style, told from its tokens in one pass, however deep its blocks lie in each other."""
    tokens = tinycss2.parse_component_value_list(_LONG_NUMBER.sub(_as_letters, text), skip_comments=True)
    open_lists = [(iter(tokens), Use.PICTURE)]
    use, at_rule = Use.PICTURE, ""
    while open_lists:
        token = next(open_lists[-1][0], None)
        if token is None:
            use, at_rule = open_lists.pop()[1], ""
        elif token.type == "at-keyword":
            at_rule = token.lower_value
        elif at_rule == "import" and (address := _imported(token)):
            yield from _known(address, Use.STYLE)
            at_rule = "passed"
        elif token.type == "literal" and token.value == ";":
            at_rule = ""
        elif token.type == "{} block":
            open_lists.append((iter(token.content), use))
            use, at_rule = (Use.FONT if at_rule == "font-face" else use), ""
        elif not at_rule and (address := _addressed(token)):
            yield from _known(address, use)
        elif not at_rule and (inside := _inside(token)):
            open_lists.append((iter(inside), use))


_LONG_NUMBER = re.compile(r"\d{300,}")  # Python makes no number of more than 4,300 digits (CVE-2020-10735)


def _as_letters(found: re.Match[str]) -> str:
    return "x" * len(found[0])


def _imported(token: Any) -> str:
    return token.value if token.type in ("string", "url") else _addressed(token)


def _addressed(token: Any) -> str:
    if token.type == "url":
        return str(token.value)
    return _argument(token) if _is_url(token) else ""


def _inside(token: Any) -> list[Any]:
    """What lies in a function or in brackets. image-set() takes its addresses as plain strings, too (CSS Images 4)."""
    if token.type in ("() block", "[] block"):
        return list(token.content)
    if token.type != "function":
        return []
    if not token.lower_name.endswith("image-set"):
        return list(token.arguments)
    return [_as_url(one) if one.type == "string" else one for one in token.arguments]


def _as_url(token: Any) -> Any:
    return tinycss2.ast.URLToken(token.source_line, token.source_column, token.value, token.representation)


def _is_url(token: Any) -> bool:
    return bool(token.type == "function" and token.lower_name == "url")


def _argument(function: Any) -> str:
    return next((str(one.value) for one in function.arguments if one.type == "string"), "")


def _known(address: str, use: Use) -> Iterator[Link]:
    if address.strip() and _is_known(address):
        yield Link(_clean(address), use)


def _of_manifest(text: str) -> FileLinks:
    """A web application's manifest (W3C): icons, pictures, its start page."""
    try:
        said = json.loads(text)
    except (ValueError, RecursionError):
        return FileLinks()
    if not isinstance(said, dict):
        return FileLinks()
    found = []
    for part in ("icons", "screenshots"):
        listed = said.get(part)
        found += [Link(_clean(one["src"]), Use.ICON) for one in _dicts(listed) if isinstance(one.get("src"), str)]
    if isinstance(said.get("start_url"), str):
        found.append(Link(_clean(said["start_url"]), Use.PAGE))
    for one in _dicts(said.get("shortcuts")):
        if isinstance(one.get("url"), str):
            found.append(Link(_clean(one["url"]), Use.PAGE))
    return FileLinks(tuple(one for one in found if one.address))


def _dicts(listed: object) -> list[dict[str, Any]]:
    return [one for one in listed if isinstance(one, dict)] if isinstance(listed, list) else []


def _of_xml(text: str) -> FileLinks:
    """Feeds (RSS 2.0, RFC 4287) and lists of addresses (sitemaps): every address that stands as text or as `href`."""
    try:
        top = ElementTree.fromstring(text.encode("utf-8", "replace"), forbid_dtd=False)
    except (ParseError, DefusedXmlException, ValueError, RecursionError):
        return FileLinks(mentions=_mentioned(text))
    return FileLinks(tuple(dict.fromkeys(_of_nodes(top))), mentions=_mentioned(text))


def _of_nodes(top: Element) -> Iterator[Link]:
    is_list = top.tag.endswith(("urlset", "sitemapindex"))
    for node in top.iter():
        name = str(node.tag).rpartition("}")[2].lower()
        text = (node.text or "").strip()
        if name == "loc" and is_list:
            yield from _known(text, Use.LISTED)
        elif name == "link" and (text or node.get("href")):
            yield from _known(text or node.get("href") or "", Use.PAGE)
        elif name in ("enclosure", "content", "thumbnail") and node.get("url"):
            yield from _known(node.get("url") or "", Use.MEDIA)
        elif name in ("logo", "icon") or (name == "url" and not node.attrib):
            yield from _known(text, Use.PICTURE)


def _of_robots(text: str) -> FileLinks:
    """The lists of addresses that a site names to robots (RFC 9309; the sitemaps protocol)."""
    found = re.findall(r"^[ \t]*sitemap[ \t]*:[ \t]*(\S{1,2000})", text, re.I | re.M)
    return FileLinks(tuple(Link(_clean(one), Use.LISTED) for one in found), mentions=_mentioned(text))


def _of_text(text: str) -> FileLinks:
    return FileLinks(mentions=_mentioned(text))


def _of_program(text: str) -> FileLinks:
    """What a program's file shows as a page, without what it makes; the names in the rest may become addresses."""
    page = _of_page(re.sub(r"<\?.*?(\?>|\Z)|<%.*?(%>|\Z)", "{{}}", text, flags=re.S))
    return FileLinks(page.links, page.base, page.mentions | _mentioned(text))


_READERS: Mapping[str, Callable[[str], FileLinks]] = {
    "page": _of_page,
    "program": _of_program,
    "style": _of_style,
    "text": _of_text,
    "manifest": _of_manifest,
    "xml": _of_xml,
    "robots": _of_robots,
}


def _mentioned(text: str) -> frozenset[str]:
    """Names of files that a text holds, in small letters; too many of them say nothing and are cut."""
    found: set[str] = set()
    for one in _MENTION.finditer(text):
        found.add(one[0].lower())
        if len(found) >= _MOST_MENTIONS:
            break
    return frozenset(found)


def _clean(address: str) -> str:
    """As the URL standard takes an address: blanks at its ends fall off, tabs and line ends anywhere do.

    >>> _clean(" a b.png\\n")
    'a b.png'
    """
    address = re.sub(r"[\t\n\r]", "", address).strip("\x00 \x0c\x1f")
    # Half a letter, as JSON can escape it, is no address: nothing could store or send it.
    return address.encode("utf-8", "replace").decode("utf-8")


def _is_known(address: str) -> bool:
    return bool(address) and not any(mark in address for mark in _MADE)
