"""Text with its parts in classes, as a page shows it."""

from __future__ import annotations

from pygments import highlight
from pygments.formatters import HtmlFormatter
from pygments.lexers import TextLexer, get_lexer_for_filename
from pygments.util import ClassNotFound


def coloured(text: str, name: str) -> str:
    """HTML of a text by the kind its name says; the library escapes what it is given.

    >>> coloured("a < b", "a.txt")
    'a &lt; b\\n'
    """
    try:
        lexer = get_lexer_for_filename(name, stripnl=False)
    except ClassNotFound:
        lexer = TextLexer(stripnl=False)
    return str(highlight(text, lexer, HtmlFormatter(nowrap=True)))
