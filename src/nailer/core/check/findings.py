"""What is wrong in a text, as far as reading it can tell. Findings are shown beside the line; they never stop anybody.

Places are offsets into the text as the editor has it (lines end in a line feed), `start` up to `end`.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from enum import StrEnum
from itertools import islice

import tinycss2
from pygments.lexers import JavascriptLexer, PhpLexer
from pygments.token import Comment, Literal, Punctuation, String

from nailer.core.check.markup import Tag, tags
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
_FOREIGN = ("svg", "math")
_DEEPEST = 30  # nested rules of a style: each level is read anew
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
    nesting = _Nesting(text)
    for tag in tags(text):
        if tag.is_end:
            nesting.end(tag)
        else:
            nesting.begin(tag)
    nesting.finish()
    return nesting.found


class _Nesting:
    """Follows which elements are open, and says what is closed that was not opened, and the other way."""

    def __init__(self, text: str) -> None:
        self.found: list[Finding] = []
        self._text = text
        self._open: list[Tag] = []
        # How many of each are open: looking through all of them at each end tag would cost the square.
        self._count: Counter[str] = Counter()

    def begin(self, tag: Tag) -> None:
        """An element begins. One that ends at once does so in drawings and formulas only: HTML ignores the slash."""
        self._look_at_attributes(tag)
        if tag.name in _VOID:
            return
        if tag.closes_itself:
            if tag.name not in _FOREIGN and not any(self._count[one] for one in _FOREIGN):
                self._say(tag, Weight.WARNING, f"<{tag.name}/> does not close itself in HTML: it stays open")
            return
        self._open.append(tag)
        self._count[tag.name] += 1

    def _look_at_attributes(self, tag: Tag) -> None:
        seen: set[str] = set()
        for one in tag.attributes:
            may_hold_tags = one.name.startswith(("on", "data-", "x-"))
            if one.value is not None and not may_hold_tags and re.search(r"<\s*/?[a-z]", one.value):
                self._say(tag, Weight.WARNING, f"{one.name} runs on into the next tag: is a quote missing?")
            if one.name in seen:
                self._say(tag, Weight.WARNING, f"<{tag.name}> has {one.name} twice; browsers use the first")
            seen.add(one.name)

    def end(self, tag: Tag) -> None:
        """An element ends; what was opened in it and not closed is a finding."""
        if tag.name in _VOID:
            self._say(tag, Weight.WARNING, f"<{tag.name}> has no end tag")
        elif not self._count[tag.name]:
            if tag.name != "p":
                self._say(tag, Weight.ERROR, f"</{tag.name}> closes nothing")
        else:
            self._close(tag.name)

    def _close(self, name: str) -> None:
        while self._open:
            opened = self._open.pop()
            self._count[opened.name] -= 1
            if opened.name == name:
                return
            if opened.name not in _MAY_STAY_OPEN:
                self._say(opened, Weight.ERROR, f"<{opened.name}> is not closed before </{name}>")

    def finish(self) -> None:
        """What is still open where the text ends."""
        for tag in self._open:
            if tag.name not in _MAY_STAY_OPEN:
                self._say(tag, Weight.ERROR, f"<{tag.name}> has no end tag")
        begun = re.search(r"<[a-zA-Z/][^<>]*\Z", self._text)
        if begun is not None:
            what = "a tag is begun and never ended: is a quote or > missing?"
            self.found.append(Finding(begun.start(), len(self._text), Weight.ERROR, what))

    def _say(self, tag: Tag, weight: Weight, what: str) -> None:
        self.found.append(Finding(tag.start, tag.end, weight, what))


def _of_style(text: str) -> Iterator[Finding]:
    # CSS counts these as line ends, too (CSS Syntax, 3.3); as line feeds all places stay the same.
    text = re.sub("\\r(?!\\n)|\\f", "\n", text)
    starts = [0, *(one.end() for one in re.finditer("\n", text))]

    def _at(token: tinycss2.ast.Node) -> int:
        place: int = starts[token.source_line - 1] + token.source_column - 1
        return min(len(text), place)

    # As many letters, so that all places stay.
    plain = re.sub(r"\d{300,}", lambda found: "x" * len(found[0]), text)
    for rule in tinycss2.parse_stylesheet(plain, skip_comments=True, skip_whitespace=True):
        if rule.type == "error":
            yield Finding(_at(rule), _at(rule) + 1, Weight.ERROR, _css_words(rule.message))
            continue
        content = getattr(rule, "content", None)
        if content is None:
            continue
        yield from _of_block(content, _at, _DEEPEST)
    yield from _css_brackets(text)


def _of_block(
    content: list[tinycss2.ast.Node], at: Callable[[tinycss2.ast.Node], int], levels: int
) -> Iterator[Finding]:
    for one in tinycss2.parse_blocks_contents(content, skip_comments=True, skip_whitespace=True):
        if one.type == "error":
            start = at(one)
            yield Finding(start, start + 1, Weight.ERROR, _css_words(one.message))
        elif one.type == "declaration" and not any(token.type != "whitespace" for token in one.value):
            start = at(one)
            yield Finding(start, start + len(one.name), Weight.WARNING, f"{one.name} has no value")
        elif one.type in ("qualified-rule", "at-rule") and one.content is not None:
            if levels:
                yield from _of_block(one.content, at, levels - 1)
            else:
                yield Finding(at(one), at(one) + 1, Weight.WARNING, "rules are nested too deeply to be checked")


def _css_words(message: str) -> str:
    """The parser's message for a person who does not know its grammar."""
    if "qualified rule" in message:
        return "neither a declaration nor a rule: is a colon, a semicolon or { missing?"
    return f"CSS: {message}"


def _css_brackets(text: str) -> Iterator[Finding]:
    bare = re.sub(
        # A string that is never ended ends with its line: beginning again at its next letter would cost the square.
        r"/\*.*?(?:\*/|\Z)|\"(?:\\.|[^\"\\\n])*(?:\"|(?=\n)|\Z)|'(?:\\.|[^'\\\n])*(?:'|(?=\n)|\Z)",
        lambda one: " " * len(one.group()),
        text,
        flags=re.S,
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
    count: Counter[str] = Counter()
    for at, sign in signs:
        if sign in _CLOSES.values():
            opened.append((at, sign))
            count[sign] += 1
        elif not count[_CLOSES[sign]]:
            yield Finding(at, at + 1, Weight.ERROR, f"{sign} closes nothing")
        else:
            while opened[-1][1] != _CLOSES[sign]:
                start, one = opened.pop()
                count[one] -= 1
                yield Finding(start, start + 1, Weight.ERROR, f"{one} is not closed")
            opened.pop()
            count[_CLOSES[sign]] -= 1
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
    except ValueError:
        yield Finding(0, 1, Weight.ERROR, "JSON: a number has too many digits")


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
        yield Finding(0, len(first), Weight.ERROR, "the interpreter needs its full path, such as /usr/bin/perl")


def _of_letters(text: str) -> Iterator[Finding]:
    for one in islice(_TWICE.finditer(text), 20):
        yield Finding(one.start(), one.end(), Weight.WARNING, "this looks like UTF-8 that was stored as Windows-1252")
    for one in islice(re.finditer("\ufffd", text), 20):
        yield Finding(
            one.start(), one.end(), Weight.WARNING, "a character was lost here because of a wrong character set"
        )
