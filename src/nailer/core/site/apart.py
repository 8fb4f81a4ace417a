"""What one address gave here and live, and what makes the two differ."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from nailer.core.files.sitepath import SitePath
from nailer.core.words import size_text


class Apart(StrEnum):
    """How what is here and what visitors get differ."""

    SAME = "same"
    CONTENT = "different content"
    OLD = "an older copy from a cache"
    WRITING = "different capital letters"
    MISSING = "missing on the web"
    FORBIDDEN = "forbidden"
    FAILS = "error on the web"
    NOT_HERE = "not here"
    NEITHER = "on neither side"
    MADE = "made by a program"
    WITHHELD = "not shown from here"


@dataclass(frozen=True, slots=True)
class Got:
    """What one request got. `status` None: no answer, and `words` says why. `digest` is a hash of the content as it came,
    `age_s` how long a cache has held it. `is_program`: the file here makes a page where it is run, and is not run here.
    `is_withheld`: nothing of it is shown."""

    status: int | None
    size: int = 0
    media_type: str = ""
    digest: bytes = b""
    age_s: int | None = None
    words: str = ""
    is_program: bool = False
    is_withheld: bool = False

    @property
    def is_good(self) -> bool:
        """True where the content came."""
        return self.status is not None and self.status < 300

    @property
    def text(self) -> str:
        """`200, 12.3 kB`, or why nothing came."""
        if self.status is None:
            return self.words or "no answer"
        return f"{self.status}, {size_text(self.size)}" if self.is_good else str(self.status)


@dataclass(frozen=True, slots=True)
class Told:
    """The difference with a sentence."""

    apart: Apart
    sentence: str


def told_apart(here: Got | None, live: Got | None, *, past: Got | None = None, other: SitePath | None = None) -> Told:
    """What makes two answers differ. `past` is what came past every cache, `other` a name there that differs in writing;
    None where nobody asked.

    >>> told_apart(Got(200, 9, digest=b"a"), Got(200, 9, digest=b"a")).apart.value
    'same'
    >>> told_apart(Got(200, 9, digest=b"a"), Got(200, 8, digest=b"b", age_s=54), past=Got(200, 9, digest=b"a")).sentence
    'Visitors get an older copy that a cache has held for 54 s. The server itself has the version from here.'
    """
    if here is not None and here.is_withheld:
        return Told(Apart.WITHHELD, f"Nailer does not show it from here: {here.words}.")
    if live is None:
        return Told(Apart.CONTENT, "Only the page here uses it: the pages differ.")
    if live.status is None:
        return Told(Apart.FAILS, f"It does not answer: {live.words}.")
    if here is not None and here.is_program and live.is_good:
        return Told(Apart.MADE, "It is made by a program on the server, which is not run here.")
    if live.is_good:
        return _both_good(here, live, past)
    return _refused(here, live, other)


def _both_good(here: Got | None, live: Got, past: Got | None) -> Told:
    if here is None:
        return Told(Apart.NOT_HERE, "Only the live page asks for it: the pages differ.")
    if not here.is_good:
        return Told(Apart.NOT_HERE, "It is on the web but not here.")
    if here.digest == live.digest:
        return Told(Apart.SAME, "The same on both sides.")
    if past is not None and past.is_good and past.digest == here.digest:
        held = f" that a cache has held for {live.age_s} s" if live.age_s else " from a cache"
        return Told(Apart.OLD, f"Visitors get an older copy{held}. The server itself has the version from here.")
    return Told(Apart.CONTENT, "Different content than here.")


def _refused(here: Got | None, live: Got, other: SitePath | None) -> Told:
    is_here = here is not None and here.is_good
    match live.status:
        case 401 | 403:
            return Told(
                Apart.FORBIDDEN,
                (
                    f"Visitors may not get it ({live.status}): check the permissions of the file and its folders, and the "
                    "server rules."
                ),
            )
        case 404 | 410 if other is not None:
            return Told(
                Apart.WRITING,
                f"On the server it is called {other.name.decode('utf-8', 'replace')}. Capital letters matter.",
            )
        case 404 | 410:
            return (
                Told(Apart.MISSING, "It exists here but not there.")
                if is_here
                else Told(Apart.NEITHER, "It is on neither side.")
            )
        case _:
            return Told(Apart.FAILS, f"The server answers {live.status}.")
