"""Every function of the core that reads what somebody else wrote, as one call on a text."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime

from nailer.core.check import findings as check_findings
from nailer.core.check.live import trouble_in
from nailer.core.check.references import references, rewritten
from nailer.core.check.scripts import of_beginning
from nailer.core.compare.differences import differences
from nailer.core.compare.merge import merged, side_by_side
from nailer.core.connecting.letter import read as read_letter
from nailer.core.connecting.ssh_config import read_config
from nailer.core.files.listing import Clock, parse_facts_rows, parse_list
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.files.text import decoded
from nailer.core.packages.declared import declared
from nailer.core.packages.versions import version_of
from nailer.core.plans.sieve import read_ignore
from nailer.core.site.error_log import lines_of
from nailer.core.site.first_page import lists_contents, placeholder_words
from nailer.core.site.links import links_in, visible_letters
from nailer.core.site.rules import without_lists
from nailer.core.site.within import within

ROOTS = (DocumentRoot(SitePath.parse(b"/htdocs"), "https://a.example/"),)
_PAGE = SitePath.parse(b"/htdocs/a.html")
_CLOCK = Clock(datetime(2026, 12, 1, tzinfo=UTC))


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogatepass")


READERS: dict[str, Callable[[str], object]] = {
    **{
        f"links in {name}": lambda text, name=name: links_in(name.encode(), _bytes(text))  # type: ignore[misc]
        for name in ("a.html", "a.css", "a.php", "a.js", "a.xml", "manifest.json", "robots.txt", "a.svg")
    },
    **{
        f"references in {name}": lambda text, name=name: references(name.encode(), _bytes(text))  # type: ignore[misc]
        for name in ("a.html", "a.css")
    },
    **{
        f"findings in {name}": lambda text, name=name: check_findings.findings(name, text)  # type: ignore[misc]
        for name in ("a.html", "a.css", "a.php", "a.js", "a.json", "a.sh")
    },
    "a page within another": lambda text: within(_bytes(text), "text/html", "https://a.example/", "/x"),
    "a style within another": lambda text: within(_bytes(text), "text/css", "https://a.example/", "/x"),
    "a renamed reference": lambda text: rewritten(
        b"a.html", _bytes(text), _PAGE, {SitePath.parse(b"/htdocs/a"): b"z"}, ROOTS
    ),
    "letters a visitor sees": lambda text: visible_letters(_bytes(text)),
    "a placeholder": placeholder_words,
    "a directory listing": lists_contents,
    "trouble of a program": trouble_in,
    "rules of a folder": without_lists,
    "an error log": lambda text: lines_of(_bytes(text), ROOTS, is_cut=False),
    "a letter": read_letter,
    "a text and its set": lambda text: decoded(_bytes(text)),
    "the beginning of a script": lambda text: of_beginning(_bytes(text)),
    **{
        f"a package by {name}": lambda text, name=name: declared(name.encode(), _bytes(text))  # type: ignore[misc]
        for name in ("skin.json", "a.php", "VERSION", "style.css")
    },
    "a version": version_of,
    "a list of files": lambda text: parse_list(_bytes(text).split(b"\n"), _CLOCK),
    "a list of facts": lambda text: parse_facts_rows(_bytes(text).split(b"\n")),
    "a list of patterns": read_ignore,
    "a list of hosts": read_config,
    "differences": lambda text: differences(text, text.replace("}", "{").replace("a", "b") + "x"),
    "differences of a half": lambda text: differences(text, text[: len(text) // 2] + "x\n" + text[len(text) // 3 :]),
    "a merge": lambda text: merged(text, "x\n" + text, text + "y\n"),
    "two texts side by side": lambda text: side_by_side(text, text[len(text) // 3 :] + "x"),
}
