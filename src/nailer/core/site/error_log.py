"""Error logs of web servers and programs: which files are one, and what their last lines say of a site's own files."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.numbers import number_in

_NAME = re.compile(rb"(?:^|[-_.])errors?(?:[-_.]?log)?(?:[-_.0-9]|$)", re.I)
_OTHER_ENDING = re.compile(rb"\.(?:html?|php|css|js|gz|zip|png|jpe?g|svg|inc|tpl|md|json|xz|bz2)$", re.I)
FOLDERS = (b"logs", b"log")
TAIL_BYTES = 64 * 1024
_READ_OF_A_LINE = 2000  # letters; what a failure says stands at the beginning of its line
_LONGEST = 400
# As PHP, Python and Perl name a place in a file: `in /a.php on line 3`, `File "/a.py", line 3`, `/a.pl:3`.
_PATH = re.compile(r"(?P<path>/[^\s:'\"()<>|,]+)(?:\"?,? (?:on )?line (?P<line>\d+)|:(?P<number>\d+))?")
_STAMP = re.compile(
    r"\[\w{3} \w{3} [ \d]\d \d\d:\d\d:\d\d(?:\.\d+)? \d{4}\]"
    r"|\[\d\d-\w{3}-\d{4} \d\d:\d\d:\d\d(?: [\w/+-]+)?\]"
    r"|\[?\d{4}[/-]\d\d[/-]\d\d[ T]\d\d:\d\d:\d\d[^\s\]]*\]?"
)
_GRAVE = re.compile(
    r"fatal|parse error|syntax error|uncaught|exception|traceback|segfault|denied|premature end|not found|"
    r"\b(?:crit|alert|emerg|error)\b|memory size|no such file|cannot open|out of memory|timed? ?out|no space",
    re.I,
)
# What a trace shows of a call that signs in somewhere, and what follows a word for a secret.
_CALLED = re.compile(r"(\w*(?:connect|__construct|login|auth\w*|password_\w+)\w*)\([^)]*\)", re.I)
_GIVEN = re.compile(
    r"((?:pass(?:word|wd|phrase)?|pwd|secret|token|api[_-]?key)\w*[\"']?\s*(?:=>|[=:])\s*)[^\s,;)]+", re.I
)
_ENDED_EARLY = re.compile(r"premature end|end of script output before headers", re.I)
# Who visited is nobody's business here.
_VISITOR = re.compile(r"\[client [^\]]*\]\s*|\bclient: \S+,?\s*|\b(?:\d{1,3}\.){3}\d{1,3}(?::\d+)?\b|\breferer: \S+")


@dataclass(frozen=True, slots=True)
class LogLine:
    """One line: its time as the server wrote it, what it says without who visited, the file of the site that it names."""

    stamp: str
    text: str
    path: SitePath | None = None
    number: int | None = None

    @property
    def is_grave(self) -> bool:
        """True for a line that tells of a failure."""
        return _GRAVE.search(self.text) is not None


@dataclass(frozen=True, slots=True)
class LogTail:
    """The end of an error log. `fresh` are the lines that were written while the page was fetched."""

    path: SitePath
    lines: tuple[LogLine, ...]
    fresh: tuple[LogLine, ...] = ()

    @property
    def telling(self) -> tuple[LogLine, ...]:
        """The failures that were written while the page was fetched, newest first; else the last ones there are. What only
        says that a script ended early comes after what says why."""
        grave = [line for line in self.fresh if line.is_grave] or [line for line in self.lines if line.is_grave]
        return tuple(sorted(grave[:-9:-1], key=lambda line: _ENDED_EARLY.search(line.text) is not None))


def without_secrets(text: str) -> str:
    """A line of a log without what programs were given in confidence: sign-ins to a database, words after `password`.

    >>> without_secrets("in /a.php: PDO->__construct('mysql:host=db', 'moss', 'sow') and token=abc123 there")
    'in /a.php: PDO->__construct(…) and token=… there'
    """
    return _GIVEN.sub(r"\1…", _CALLED.sub(r"\1(…)", text))


def is_error_log(name: bytes) -> bool:
    """True for a name under which error logs are kept.

    >>> is_error_log(b"error_log"), is_error_log(b"php_errors.log"), is_error_log(b"error.log.1")
    (True, True, True)
    >>> is_error_log(b"access.log"), is_error_log(b"errors.html"), is_error_log(b"terrors.log")
    (False, False, False)
    """
    return _NAME.search(name) is not None and _OTHER_ENDING.search(name) is None


def lines_of(data: bytes, roots: Sequence[DocumentRoot], *, is_cut: bool) -> tuple[LogLine, ...]:
    """The lines of a log's end. `is_cut`: the first one began earlier, and is left out.

    >>> from nailer.core.files.sitepath import DocumentRoot, SitePath
    >>> roots = (DocumentRoot(SitePath.parse(b"/htdocs"), "https://a.example/"),)
    >>> text = b"[Sun Nov 29 10:00:00 2026] [client 192.0.2.7:1] Fatal error: x in /home/u/htdocs/a.php on line 12\\n"
    >>> one, = lines_of(text, roots, is_cut=False)
    >>> str(one.path), one.number, one.text
    ('/htdocs/a.php', 12, 'Fatal error: x in /home/u/htdocs/a.php on line 12')
    """
    texts = data.decode("utf-8", "replace").splitlines()
    return tuple(_line(text[:_READ_OF_A_LINE], roots) for text in texts[1 if is_cut else 0 :] if text.strip())


def _line(text: str, roots: Sequence[DocumentRoot]) -> LogLine:
    found = _STAMP.match(text)
    stamp = found[0].strip("[]") if found else ""
    said = text[found.end() :] if found else text
    said = without_secrets(" ".join(_VISITOR.sub("", said).split()))[:_LONGEST]
    for place in _PATH.finditer(said):
        path = own_path(place["path"], roots)
        if path is not None:
            return LogLine(stamp, said, path, _number(place["line"] or place["number"]))
    return LogLine(stamp, said)


def _number(text: str | None) -> int | None:
    return number_in(text) if text else None


def own_path(absolute: str, roots: Sequence[DocumentRoot]) -> SitePath | None:
    """The path there that a path of the server's whole file system stands for: it holds a document root's whole path.

    >>> roots = (DocumentRoot(SitePath.parse(b"/htdocs"), "https://a.example/"),)
    >>> own_path("/home/u/htdocs/skins/x.php", roots), own_path("/usr/share/php/x.php", roots)
    (SitePath(names=(b'htdocs', b'skins', b'x.php')), None)
    """
    names = tuple(one for one in absolute.encode("utf-8", "surrogateescape").split(b"/") if one)
    for root in roots:
        top = root.folder.names
        for start in range(len(names) - len(top)) if top else ():
            if names[start : start + len(top)] == top:
                return SitePath(names[start:])
    return None
