"""What a server does with a script: two harmless lines of each kind, what they answer where they are run, and what another
answer means (RFC 3875 for scripts that the server starts)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from nailer.core.check.live import Fetched
from nailer.core.files.sitepath import SitePath

_HEAD = "Content-Type: text/plain"
_CGI = (b"cgi-bin", b"cgi")


class WasRun(StrEnum):
    """What became of a script."""

    RUNS = "runs"
    SHOWN = "is shown as text"
    REFUSED = "is refused"
    FAILS = "fails"
    UNKNOWN = "is not known"


@dataclass(frozen=True, slots=True)
class ScriptKind:
    """One kind of script: its ending, what starts it ('' where the server does so by the ending), and its two lines, which
    give `nailer-` and the token's number doubled where they are run."""

    name: str
    ending: str
    interpreter: str
    lines: str

    @property
    def in_cgi(self) -> bool:
        """True for one that servers start in their folder for scripts."""
        return bool(self.interpreter)

    def content(self, number: int) -> bytes:
        """The script. It reads nothing, writes nothing and asks nobody."""
        return self.lines.replace("NUMBER", str(number)).encode()


KINDS: Sequence[ScriptKind] = (
    ScriptKind("PHP", "php", "", '<?php\necho "nailer-", NUMBER * 2;\n'),
    ScriptKind("sh", "cgi", "/bin/sh", f"#!/bin/sh\nprintf '{_HEAD}\\n\\nnailer-%s' $((NUMBER * 2))\n"),
    ScriptKind("Perl", "pl", "/usr/bin/perl", f'#!/usr/bin/perl\nprint "{_HEAD}\\n\\nnailer-", NUMBER * 2;\n'),
    ScriptKind(
        "Python",
        "py",
        "/usr/bin/env python3",
        f'#!/usr/bin/env python3\nprint("{_HEAD}\\n\\nnailer-" + str(NUMBER * 2))\n',
    ),
)


@dataclass(frozen=True, slots=True)
class Capability:
    """What a server did with one kind of script in a folder; `said` is what it answered."""

    kind: ScriptKind
    folder: SitePath
    ran: WasRun
    said: str

    @property
    def sentence(self) -> str:
        """`PHP runs in /htdocs`."""
        return f"{self.kind.name} {self.ran} in {self.folder}"


def is_script_folder(name: bytes) -> bool:
    """True for a folder that servers start scripts in, by custom."""
    return name.lower() in _CGI


def judged(kind: ScriptKind, folder: SitePath, number: int, answer: Fetched) -> Capability:
    """What an answer to a script says of it.

    >>> from nailer.core.check.live import FetchedHow
    >>> folder, page = SitePath((b"htdocs",)), "https://a.example/x.php"
    >>> judged(KINDS[0], folder, 21, Fetched(FetchedHow.PLAIN, page, 200, begins="nailer-42")).sentence
    'PHP runs in /htdocs'
    >>> judged(KINDS[0], folder, 21, Fetched(FetchedHow.PLAIN, page, 200, begins="<?php echo")).ran.value
    'is shown as text'
    """
    if answer.status is None:
        return Capability(kind, folder, WasRun.UNKNOWN, answer.words)
    said = str(answer.status)
    if answer.status == 200:
        if answer.begins.strip() == f"nailer-{number * 2}":
            return Capability(kind, folder, WasRun.RUNS, said)
        # Its own text, whole or begun: what stands in it is not run.
        is_text = answer.begins.lstrip().startswith(kind.lines[:5])
        return Capability(kind, folder, WasRun.SHOWN if is_text else WasRun.UNKNOWN, said)
    return Capability(kind, folder, WasRun.FAILS if answer.status >= 500 else WasRun.REFUSED, said)
