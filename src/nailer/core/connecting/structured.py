"""A letter that is data, JSON (RFC 8259) or XML: laid out as lines of labels and values, character for character, so that it
is read like any other and every value is still found at its place in the text."""

from __future__ import annotations

import html
import json
import re
from collections.abc import Callable
from dataclasses import dataclass

_STRING = re.compile(r'"(?:[^"\\\n]|\\.){0,4000}"')
_JSON_PAIR = re.compile(r'"[\w .-]{1,60}"\s{0,20}:\s{0,20}["\d{\[tfn]')
_TAG = re.compile(
    r"<(?P<close>/?)(?P<name>[A-Za-z][\w:.-]{0,60})(?P<rest>[^<>]{0,2000}?)(?P<empty>/?)>|<[?!][^<>]{0,2000}>"
)
_XML_PAIR = re.compile(r"<([A-Za-z][\w:.-]{0,60})(?:\s[^<>]{0,500})?>[^<>]{1,500}</\1>")
_SECRET_KEY = re.compile(r"pass|pwd|kennwort|secret|contrase|wachtwoord|senha", re.IGNORECASE)
_ROWS = frozenset(["br", "p", "tr", "li", "div", "table", "ul", "ol", "h1", "h2", "h3", "h4", "h5", "dl", "dt"])
_CELLS = frozenset(["td", "th", "dd"])
_INLINE = frozenset(["b", "i", "u", "em", "strong", "span", "a", "font", "code", "tt", "small"])
_HIDDEN_BLANK, _HIDDEN_QUOTE = "\ue000", "\ue001"


@dataclass(frozen=True, slots=True)
class LaidOut:
    """Text of the same length as what it was made of. `plain` makes a value out of the piece of the original it is."""

    text: str
    plain: Callable[[str], str]


def laid_out(text: str) -> LaidOut | None:
    """Structured text as lines; None for a text that is none.

    >>> found = laid_out('{"server": "ftp.mosslane.example", "port": 22}')
    >>> [line.strip() for line in found.text.splitlines() if line.strip()]
    ['server : "ftp.mosslane.example"', 'port : 22']
    """
    begins = text.lstrip()[:1]
    if (begins in ("{", "[") and _JSON_PAIR.search(text)) or len(_JSON_PAIR.findall(text)) > 1:
        return LaidOut(_of_json(text), _json_plain)
    if len(_XML_PAIR.findall(text)) > 1 or (begins == "<" and _TAG.search(text)):
        return LaidOut(_of_xml(text), html.unescape)
    return None


def _of_json(text: str) -> str:
    parts: list[str] = []
    at, key = 0, ""
    for string in _STRING.finditer(text):
        parts.append(_between(text[at : string.start()]))
        behind = text[string.end() : string.end() + 40].lstrip()
        if behind.startswith(":"):
            key = string[0][1:-1]
            parts.append(f" {key} ")
            if behind[1:].lstrip().startswith(("{", "[")):
                parts[-1] = f"\n{key}\n"
        else:
            parts.append(_hidden(string[0], whole=bool(_SECRET_KEY.search(key))))
        at = string.end()
    parts.append(_between(text[at:]))
    return re.sub(r"\n([ \t]*):", "\n\\1 ", "".join(parts))


def _between(text: str) -> str:
    """What stands between strings: every sign that parts one pair from the next ends a line."""
    return text.translate(dict.fromkeys(map(ord, "{}[],"), "\n"))


def _hidden(string: str, *, whole: bool) -> str:
    """A string whose escaped quotes do not end it; of a password no blank ends it either."""
    inside = string[1:-1].replace('\\"', _HIDDEN_QUOTE * 2)
    if whole:
        inside = re.sub(r"\s", _HIDDEN_BLANK, inside)
    return f'"{inside}"'


def _json_plain(piece: str) -> str:
    try:
        value = json.loads(f'"{piece}"')
    except ValueError:
        return piece
    return value if isinstance(value, str) else piece


def _of_xml(text: str) -> str:
    parts: list[str] = []
    at = 0
    for tag in _TAG.finditer(text):
        parts.append(text[at : tag.start()])
        parts.append(_tag(tag, text))
        at = tag.end()
    parts.append(text[at:])
    return "".join(parts)


def _tag(tag: re.Match[str], text: str) -> str:
    """A tag as white space of its length, with its name where it labels what follows."""
    length, name = len(tag[0]), tag["name"]
    if name is None:
        return "\n".ljust(length)
    bare = name.lower()
    if bare in _INLINE:
        return " " * length
    if bare in _CELLS:
        return "\t".rjust(length)
    if tag["close"] or bare in _ROWS:
        return "\n".ljust(length)
    if tag["rest"].strip():
        return f"\n{' ' * len(name)}{tag['rest']}".ljust(length - 1) + "\n"
    following = text[tag.end() : tag.end() + 200].lstrip()
    if tag["empty"] or not following or following[0] == "<":
        return f"\n{name}\n".ljust(length)  # what is in it lies below this name
    return f"\n{name}:".ljust(length)
