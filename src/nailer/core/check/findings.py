"""What is wrong in a text, as far as reading it can tell. Findings are shown beside the line; they never stop anybody.

Places are offsets into the text as the editor has it (lines end in a line feed), `start` up to `end`.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from enum import StrEnum
from html.parser import HTMLParser
from itertools import islice

import tinycss2
from pygments.lexers import JavascriptLexer, PhpLexer
from pygments.token import Comment, Literal, Punctuation, String

from nailer.core.files.text import TextForm

_MOST = 200
_SCRIPTS = (".cgi", ".pl", ".sh", ".py", ".rb")
_PAGES = (".html", ".htm", ".xhtml", ".shtml")
_PROGRAM_PAGES = (".php", ".phtml")
# HTML, 13.1.2: elements that have no end tag, and those whose end tag may be left out.
_VOID = {"area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "source", "track", "wbr"}
_MAY_STAY_OPEN = {
    *("html", "head", "body", "p", "li", "dt", "dd", "option", "optgroup", "thead", "tbody", "tfoot", "tr", "td", "th"),
    *("colgroup", "caption", "rt", "rp"),
}
# UTF-8 that was read as Windows-1252 and stored once more.
_TWICE = re.compile(
    r"Ã[\x80-\xbf\u0152\u0153\u0160\u0161\u0178\u017d\u017e\u0192\u2013-\u2122€]|â€[\x80-\xbf™œžŸ“”˜¢¦]|Â[\xa0-\xbf]"
)
_CLOSES = {")": "(", "]": "[", "}": "{"}


class Weight(StrEnum):
    """An error breaks something for certain; a warning may."""

    ERROR = "error"
    WARNING = "warning"


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that is wrong, from `start` up to `end` of the text."""

    start: int
    end: int
    weight: Weight
    what: str


def findings(name: str, text: str, form: TextForm | None = None) -> list[Finding]:
    """What is wrong in a text by the kind its name says, in the order of the text. `form` is how it is stored.

    >>> [one.what for one in findings("a.html", "<div><b>x</div>")]
    ['<b> is not closed before </div>']
    """
    form, lower = form or TextForm(), name.lower()
    found: list[Finding] = []
    if lower.endswith(_PAGES):
        found += _of_page(text)
    elif lower.endswith(_PROGRAM_PAGES):
        found += _brackets(text, PhpLexer(), "PHP")
    elif lower.endswith(".css"):
        found += _of_style(text)
    elif lower.endswith((".js", ".mjs")):
        found += _brackets(text, JavascriptLexer(), "JavaScript")
    elif lower.endswith((".json", ".webmanifest")):
        found += _of_json(text)
    if lower.endswith(_SCRIPTS) or text.startswith("#!"):
        found += _of_script(text, form)
    found += _of_letters(text)
    return sorted(found, key=lambda one: (one.start, one.end))[:_MOST]


def reads_cleanly(name: str) -> str:
    """What kind of text is checked by its name, as a word; empty where only the letters are."""
    lower = name.lower()
    kinds = ((_PAGES, "HTML"), (_PROGRAM_PAGES, "PHP"), ((".css",), "CSS"), ((".js", ".mjs"), "JavaScript"))
    more = (((".json", ".webmanifest"), "JSON"), (_SCRIPTS, "Script"))
    return next((word for endings, word in (*kinds, *more) if lower.endswith(endings)), "")


def _of_page(text: str) -> Iterable[Finding]:
    reader = _Nesting(text)
    reader.feed(text)
    reader.close()
    reader.finish()
    return reader.found


class _Nesting(HTMLParser):
    """Follows which elements are open, and says what is closed that was not opened, and the other way."""

    def __init__(self, text: str) -> None:
        super().__init__(convert_charrefs=False)
        self.found: list[Finding] = []
        self._text = text
        self._starts = [0, *(one.end() for one in re.finditer("\n", text))]
        self._open: list[tuple[str, int, int]] = []

    def _at(self) -> int:
        line, column = self.getpos()
        return self._starts[line - 1] + column

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """An element begins; one that closes others by itself (HTML, 13.2.6) does so here."""
        start = self._at()
        end = start + len(self.get_starttag_text() or "<")
        seen: set[str] = set()
        for attribute, value in attrs:
            if (
                value is not None
                and re.search(r"<\s*/?[a-z]", value)
                and not attribute.startswith(("on", "data-", "x-"))
            ):
                self._say(start, end, Weight.WARNING, f"{attribute} runs on into the next tag: is a quote missing?")
            if attribute in seen:
                self._say(start, end, Weight.WARNING, f"<{tag}> has {attribute} twice; browsers take the first")
            seen.add(attribute)
        if tag not in _VOID:
            self._open.append((tag, start, end))

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        """An element that ends at once. Outside drawings and formulas HTML ignores the slash."""
        foreign = any(one in ("svg", "math") for one, _, _ in self._open)
        if tag not in _VOID and tag not in ("svg", "math") and not foreign:
            start = self._at()
            end = start + len(self.get_starttag_text() or "<")
            self._say(start, end, Weight.WARNING, f"<{tag}/> does not close itself in HTML: it stays open")

    def handle_endtag(self, tag: str) -> None:
        """An element ends; what was opened in it and not closed is a finding."""
        start = self._at()
        end = self._text.find(">", start) + 1 or len(self._text)
        if tag in _VOID:
            self._say(start, end, Weight.WARNING, f"<{tag}> has no end tag")
            return
        if tag not in (one for one, _, _ in self._open):
            if tag != "p":
                self._say(start, end, Weight.ERROR, f"</{tag}> closes nothing")
            return
        while self._open:
            opened, at, until = self._open.pop()
            if opened == tag:
                return
            if opened not in _MAY_STAY_OPEN:
                self._say(at, until, Weight.ERROR, f"<{opened}> is not closed before </{tag}>")

    def finish(self) -> None:
        """What is still open where the text ends."""
        for tag, start, end in self._open:
            if tag not in _MAY_STAY_OPEN:
                self._say(start, end, Weight.ERROR, f"<{tag}> is never closed")
        begun = re.search(r"<[a-zA-Z/][^<>]*\Z", self._text)
        if begun is not None:
            self._say(
                begun.start(), len(self._text), Weight.ERROR, "a tag is begun and never ended: is a quote or > missing?"
            )

    def _say(self, start: int, end: int, weight: Weight, what: str) -> None:
        self.found.append(Finding(start, end, weight, what))


def _of_style(text: str) -> Iterator[Finding]:
    # CSS counts these as line ends, too (CSS Syntax, 3.3); as line feeds all places stay the same.
    text = re.sub("\\r(?!\\n)|\\f", "\n", text)
    starts = [0, *(one.end() for one in re.finditer("\n", text))]

    def _at(token: tinycss2.ast.Node) -> int:
        place: int = starts[token.source_line - 1] + token.source_column - 1
        return min(len(text), place)

    for rule in tinycss2.parse_stylesheet(text, skip_comments=True, skip_whitespace=True):
        if rule.type == "error":
            yield Finding(_at(rule), _at(rule) + 1, Weight.ERROR, _css_words(rule.message))
            continue
        content = getattr(rule, "content", None)
        if content is None:
            continue
        yield from _of_block(content, _at)
    yield from _css_brackets(text)


def _of_block(content: list[tinycss2.ast.Node], at: Callable[[tinycss2.ast.Node], int]) -> Iterator[Finding]:
    for one in tinycss2.parse_blocks_contents(content, skip_comments=True, skip_whitespace=True):
        if one.type == "error":
            start = at(one)
            yield Finding(start, start + 1, Weight.ERROR, _css_words(one.message))
        elif one.type == "declaration" and not any(token.type != "whitespace" for token in one.value):
            start = at(one)
            yield Finding(start, start + len(one.name), Weight.WARNING, f"{one.name} has no value")
        elif one.type in ("qualified-rule", "at-rule") and one.content is not None:
            yield from _of_block(one.content, at)


def _css_words(message: str) -> str:
    """The parser's message for a person who does not know its grammar."""
    if "qualified rule" in message:
        return "neither a declaration nor a rule: is a colon, a semicolon or { missing?"
    return f"CSS: {message}"


def _css_brackets(text: str) -> Iterator[Finding]:
    bare = re.sub(
        r"/\*.*?(\*/|\Z)|\"(\\.|[^\"\\\n])*\"|'(\\.|[^'\\\n])*'", lambda one: " " * len(one.group()), text, flags=re.S
    )
    begun = text.rfind("/*")
    if begun >= 0 and "*/" not in text[begun:]:
        yield Finding(begun, begun + 2, Weight.ERROR, "a comment is begun and never ended")
    yield from _pairs(((at, sign) for at, sign in enumerate(bare) if sign in "(){}[]"))


def _brackets(text: str, lexer: JavascriptLexer | PhpLexer, kind: str) -> Iterator[Finding]:
    """Brackets that are not paired, outside strings and comments, and strings that never end."""
    signs: list[tuple[int, str]] = []
    begun = text.rfind("/*")
    begun = begun if "*/" not in text[begun:] else -1
    for at, token, value in lexer.get_tokens_unprocessed(text):
        if token in Punctuation or (token in Literal and value in "`"):
            signs += [(at + place, sign) for place, sign in enumerate(value) if sign in "(){}[]"]
        # A quote that could not be read as a string.
        if value in ("'", '"') and token not in String and str(token).endswith("Error"):
            yield Finding(at, at + 1, Weight.ERROR, "a quote is begun and never ended on this line")
        if at <= begun < at + len(value) and (token in String or token in Comment.Single):
            begun = -1
    if begun >= 0:
        yield Finding(begun, begun + 2, Weight.ERROR, f"a comment in the {kind} is begun and never ended")
    yield from _pairs(signs)


def _pairs(signs: Iterable[tuple[int, str]]) -> Iterator[Finding]:
    opened: list[tuple[int, str]] = []
    for at, sign in signs:
        if sign in _CLOSES.values():
            opened.append((at, sign))
        elif opened and opened[-1][1] == _CLOSES[sign]:
            opened.pop()
        elif any(one == _CLOSES[sign] for _, one in opened):
            while opened[-1][1] != _CLOSES[sign]:
                start, one = opened.pop()
                yield Finding(start, start + 1, Weight.ERROR, f"{one} is not closed")
            opened.pop()
        else:
            yield Finding(at, at + 1, Weight.ERROR, f"{sign} closes nothing")
    for start, one in islice(opened, 20):
        yield Finding(start, start + 1, Weight.ERROR, f"{one} is not closed")


def _of_json(text: str) -> Iterator[Finding]:
    try:
        json.loads(text)
    except json.JSONDecodeError as error:
        at = min(error.pos, max(0, len(text) - 1))
        yield Finding(at, min(len(text), at + 1), Weight.ERROR, f"JSON: {error.msg}")
    except RecursionError:
        yield Finding(0, 1, Weight.ERROR, "JSON: nested too deeply")


def _of_script(text: str, form: TextForm) -> Iterator[Finding]:
    """The first line of a script as the kernel reads it (execve): `#!`, then the interpreter's path, nothing before."""
    first = text.partition("\n")[0]
    if form.mark:
        yield Finding(0, len(first), Weight.ERROR, "a byte order mark stands before #!: the server cannot run it")
    if form.line_end == "\r\n" or "\r" in first:
        yield Finding(
            0, len(first), Weight.ERROR, "the first line ends in CR: the server looks for an interpreter by that name"
        )
    if not text.startswith("#!"):
        begins = text.lstrip()
        what = (
            "#! must be the very first characters"
            if begins.startswith("#!")
            else "a script begins with #! and its interpreter"
        )
        yield Finding(0, max(1, len(first)), Weight.ERROR, what)
    elif not re.match(r"#!\s*/\S+", first):
        yield Finding(0, len(first), Weight.ERROR, "the interpreter is named by its whole path, like /usr/bin/perl")


def _of_letters(text: str) -> Iterator[Finding]:
    for one in islice(_TWICE.finditer(text), 20):
        yield Finding(one.start(), one.end(), Weight.WARNING, "this looks like UTF-8 that was stored as Windows-1252")
    for one in islice(re.finditer("\ufffd", text), 20):
        yield Finding(one.start(), one.end(), Weight.WARNING, "a letter was lost here by a wrong character set")
