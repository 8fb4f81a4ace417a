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
from defusedxml import ElementTree
from defusedxml.common import DefusedXmlException
from selectolax.lexbor import LexborHTMLParser, LexborNode

LARGEST_BYTES = 2_000_000  # pages and styles beyond that are not read: the reading says which


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


def reading_of(name: bytes) -> str:
    """How a file is read for links, by its name: `page`, `program`, `style`, `text`, `manifest`, `xml`, `robots`; '' where
    it is not.

    >>> reading_of(b"INDEX.HTM"), reading_of(b"site.css"), reading_of(b"pier.png"), reading_of(b"manifest.json")
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
    how = reading_of(name)
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
_MOVE = re.compile(r"\s*[0-9.]*\s*[;,]?\s*(?:url\s*=)?\s*(?:\"([^\"]*)\"|'([^']*)'|(\S.*))", re.I)
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
    tree = LexborHTMLParser(text_of(data))
    tree.strip_tags(_NEVER_SHOWN.split(", "))
    body = tree.body
    if body is None:
        return 0
    return len("".join(body.text().split())) + len(body.css(_SHOWN_WITHOUT_TEXT))


def _of_page(text: str) -> FileLinks:
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
            yield from _in_style(value, as_block=True)
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
        target = content.partition(";")[2] or content.partition(",")[2]
        if (found := _MOVE.fullmatch(target.strip())) is not None:
            yield Link(_clean(next(one for one in found.groups() if one is not None)), Use.MOVE)
    elif (given.get("property") or given.get("name") or "").lower() in _SHARED and content:
        yield Link(_clean(content), Use.PICTURE)


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


def _in_style(text: str, *, as_block: bool = False) -> Iterator[Link]:
    parse = tinycss2.parse_blocks_contents if as_block else tinycss2.parse_stylesheet
    for rule in parse(text, skip_comments=True, skip_whitespace=True):
        yield from _of_rule(rule)


def _of_rule(rule: Any) -> Iterator[Link]:
    if rule.type == "at-rule" and rule.lower_at_keyword == "import":
        address = next((one.value for one in rule.prelude if one.type in ("string", "url")), None)
        if address is None:
            address = next((_argument(one) for one in rule.prelude if _is_url(one)), "")
        if address:
            yield Link(_clean(address), Use.STYLE)
        return
    is_font = rule.type == "at-rule" and rule.lower_at_keyword == "font-face"
    use = Use.FONT if is_font else Use.PICTURE
    if rule.type == "declaration":
        yield from _in_values(rule.value, use)
    elif rule.type in ("at-rule", "qualified-rule") and rule.content is not None:
        for one in tinycss2.parse_blocks_contents(rule.content, skip_comments=True, skip_whitespace=True):
            if one.type == "declaration":
                yield from _in_values(one.value, use)
            else:
                yield from _of_rule(one)


def _in_values(tokens: list[Any], use: Use) -> Iterator[Link]:
    for one in tokens:
        if one.type == "url":
            yield from _known(one.value, use)
        elif _is_url(one):
            yield from _known(_argument(one), use)
        elif one.type == "function":
            for inner in one.arguments:
                # image-set() takes its addresses as plain strings, too (CSS Images 4).
                if inner.type == "string" and one.lower_name.endswith("image-set"):
                    yield from _known(inner.value, use)
            yield from _in_values(one.arguments, use)
        elif one.type in ("() block", "[] block", "{} block"):
            yield from _in_values(one.content, use)


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
    return re.sub(r"[\t\n\r]", "", address).strip("\x00 \x0c\x1f")


def _is_known(address: str) -> bool:
    return bool(address) and not any(mark in address for mark in _MADE)
