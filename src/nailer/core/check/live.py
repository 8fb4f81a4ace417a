"""Whether visitors get what was put on the server: three fetches of one address, and what they prove (RFC 9110, 9111)."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import StrEnum

from nailer.core.numbers import number_in
from nailer.core.words import span_text

MOVES = frozenset({301, 302, 303, 307, 308})  # statuses that lead on (RFC 9110, 15.4)


class FetchedHow(StrEnum):
    """How an address was fetched: as a visitor does, asking every cache to pass by, with a query nobody asked before."""

    PLAIN = "plainly"
    PAST_CACHES = "with no-cache"
    NEW_QUERY = "with a new query"


class LiveFinding(StrEnum):
    """What the fetches prove."""

    LIVE = "live"
    CACHED = "cached"
    OTHER = "other"
    FORBIDDEN = "forbidden"
    MISSING = "missing"
    ASKS = "asks"
    BROKEN = "broken"
    SOURCE = "source"
    PROGRAM = "program"
    SILENT = "silent"


@dataclass(frozen=True, slots=True)
class Fetched:
    """One answer. `status` None: none came, and `words` says why. `digest` is a hash of the body; ages in seconds.
    `keeps_s` is how long a cache may keep it from when it was made (Cache-Control s-maxage or max-age, or Expires).
    `trouble` is a line of the body that a failing program writes."""

    how: FetchedHow
    address: str
    status: int | None = None
    digest: bytes = b""
    size: int = 0
    age_s: int | None = None
    keeps_s: int | None = None
    etag: str = ""
    made_at: str = ""
    cache: str = ""
    moved_to: str = ""
    begins: str = ""
    trouble: str = ""
    words: str = ""
    media_type: str = ""

    @property
    def evidence(self) -> str:
        """The answer in a line: `200, 23.0 kB, Age 54 s`."""
        if self.status is None:
            return self.words
        parts = [str(self.status), f"{self.size} bytes", f"hash {self.digest.hex()[:8]}"]
        if self.moved_to:
            parts.append(f"after {self.moved_to}")
        parts += [f"Age {self.age_s} s"] if self.age_s is not None else []
        parts += [f"Cache-Control {self.cache}"] if self.cache else []
        parts += [f"ETag {self.etag}"] if self.etag else []
        parts += [f"Last-Modified {self.made_at}"] if self.made_at else []
        return ", ".join(parts)


@dataclass(frozen=True, slots=True)
class LiveVerdict:
    """What is known, in a sentence, and what to do. `again_s`: when it is worth looking again."""

    live: LiveFinding
    sentence: str
    advice: str = ""
    again_s: int | None = None


def verdict(
    digest: bytes, answers: list[Fetched], *, is_program: bool = False, before: bytes | None = None
) -> LiveVerdict:
    """What the answers say of a content that was sent. `is_program`: the server runs the file, so its text is not what is
    sent. `before` is the hash of what was there earlier.

    >>> one = Fetched(FetchedHow.PLAIN, "https://skerryferries.example/", 200, b"new")
    >>> verdict(b"new", [one]).sentence
    'Visitors get what is on the server now.'
    """
    plain = answers[0]
    past = answers[1:]
    if plain.status is None:
        return LiveVerdict(
            LiveFinding.SILENT, f"The address does not answer: {plain.words}", "Check the web address of this site."
        )
    if (refused := _refused(plain)) is not None:
        return refused
    if is_program:
        return _of_program(digest, plain)
    if plain.digest == digest:
        return LiveVerdict(LiveFinding.LIVE, "Visitors get what is on the server now.")
    if any(one.digest == digest for one in past):
        return _cached(plain)
    if before is not None and all(one.digest == before for one in answers):
        return LiveVerdict(
            LiveFinding.OTHER,
            "Visitors get the earlier version, even when Nailer asks every cache for a fresh copy.",
            "A cache that ignores refresh requests still has it, or the web server uses a copy of the folder.",
        )
    return LiveVerdict(
        LiveFinding.OTHER,
        "Visitors get a different file; no cache is involved.",
        "Another folder is served at this address, another server, a rival index file, or a rewrite rule.",
    )


def _refused(plain: Fetched) -> LiveVerdict | None:
    match plain.status:
        case 404 | 410:
            return LiveVerdict(
                LiveFinding.MISSING,
                f"Visitors get {plain.status}: no page exists at this address.",
                "The file is outside the published folder, or its name differs in capital letters.",
            )
        case 403:
            return LiveVerdict(
                LiveFinding.FORBIDDEN,
                "Visitors get 403: the web server may not read the file or enter a folder above it.",
                "Give it 644, and every folder above it 755.",
            )
        case 401:
            return LiveVerdict(
                LiveFinding.ASKS, "The address asks for a password (401): Nailer cannot check what visitors see."
            )
        case status if status is not None and status >= 500:
            return LiveVerdict(
                LiveFinding.BROKEN,
                f"Visitors get a server error ({status}).",
                "Check the server's error log for the cause, then take back the change that caused it.",
            )
    return None


def _of_program(digest: bytes, plain: Fetched) -> LiveVerdict:
    if plain.digest == digest or plain.begins.lstrip().startswith(("<?php", "#!")):
        return LiveVerdict(
            LiveFinding.SOURCE,
            "Visitors get the source code: the server does not run this program.",
            "Remove it from the web: anyone can read passwords in it.",
        )
    if not plain.size:
        return LiveVerdict(
            LiveFinding.BROKEN,
            "The page answers 200, and is empty.",
            "An error in the program probably stops it without a message.",
        )
    return LiveVerdict(
        LiveFinding.PROGRAM,
        (
            f"The program runs and answers {plain.status}: its output differs for each visitor, so Nailer checks "
            "only that it runs."
        ),
    )


def _cached(plain: Fetched) -> LiveVerdict:
    left = None if plain.keeps_s is None else max(0, plain.keeps_s - (plain.age_s or 0))
    held = f"for {span_text(left)} more" if left else "and does not say how long"
    known = f" (Age {plain.age_s} s)" if plain.age_s is not None else ""
    return LiveVerdict(
        LiveFinding.CACHED,
        f"Visitors still get an older copy{known}. A cache keeps it {held}. The server itself already has the new version.",
        "Wait, empty the cache, or give the file a new name.",
        left + 1 if left is not None else None,
    )


def keeps(headers: dict[str, str], expires_in_s: int | None) -> int | None:
    """How long a shared cache may keep an answer (RFC 9111, 4.2.1), in seconds; None where it does not say.

    >>> keeps({"cache-control": "public, s-maxage=60, max-age=5"}, None), keeps({}, 90), keeps({}, None)
    (60, 90, None)
    """
    said: dict[str, str] = {}
    for part in headers.get("cache-control", "").lower().split(","):
        name, _, value = part.strip().partition("=")
        said[name] = value.strip('"')
    if "no-store" in said or "no-cache" in said:
        return 0
    for name in ("s-maxage", "max-age"):
        seconds = number_in(said.get(name, ""))
        if seconds is not None:
            return seconds
    return max(0, expires_in_s) if expires_in_s is not None else None


_TROUBLE = re.compile(
    r"(?:PHP )?(?:Fatal|Parse|Recoverable fatal) error:|Uncaught (?:Error|Exception|TypeError)"
    r"|Traceback \(most recent call last\)|Internal Server Error|Error establishing a database connection"
    r"|Template(?:Syntax)?Error|Premature end of script headers",
    re.I,
)


def trouble_in(body: str) -> str:
    """The line in which a failing program says so; empty where none does.

    >>> trouble_in("<b>Parse error:</b> unexpected end"), trouble_in("<p>No errors here</p>")
    ('Parse error: unexpected end', '')
    """
    for line in re.sub(r"<[^<>\n]*>", " ", body).splitlines():
        if _TROUBLE.search(line):
            return " ".join(line.split())[:300]
    return ""


def broke(before: Fetched, after: Fetched) -> str:
    """Why a watched page counts as broken by a change between two fetches; empty where it does not.

    >>> page = "https://skerryferries.example/"
    >>> broke(Fetched(FetchedHow.PLAIN, page, 200, b"", 900), Fetched(FetchedHow.PLAIN, page, 500, b"", 40))
    'answers 500; before it answered 200'
    >>> broke(Fetched(FetchedHow.PLAIN, page, 500, b"", 9), Fetched(FetchedHow.PLAIN, page, 500, b"", 9))
    ''
    """
    if before.status is None or before.status >= 400:
        return ""
    if after.status is None:
        return f"no longer answers: {after.words}"
    if after.status >= 400:
        return f"answers {after.status}; before it answered {before.status}"
    if before.size and not after.size:
        return "is empty; before it was not"
    if after.trouble and not before.trouble:
        return f"shows an error: {after.trouble}"
    return ""
