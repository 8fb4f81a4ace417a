"""A page is blank or broken: a table of decisions over what was looked at. Each row says what is the case, and where to look
next. A row speaks only of what is known; what could not be looked at is said as that."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from nailer.core.check.live import Fetched
from nailer.core.files.entry import Entry
from nailer.core.files.permissions import octal
from nailer.core.files.sitepath import SitePath
from nailer.core.site.error_log import LogLine, LogTail
from nailer.core.words import size_text

_SLOW_MS = 8000
_TIGHT_BYTES = 1_000_000
_TEXTS = ("text/html", "application/xhtml+xml")
_SOURCE = ("<?php", "<?=", "#!/")


class Next(StrEnum):
    """Where a decision leads."""

    ADDRESS = "check the addresses"
    PROVE = "prove which folder answers"
    EDIT = "open the file"
    PERMISSIONS = "set its permissions"
    TAKE_BACK = "take the change back"
    SEND = "send it from here"
    RENAME = "fix the name"
    ROOM = "free up space"
    REFERENCES = "what the page links to"
    SCRIPT = "the script's checks"
    LIVE = "compare with what is there"
    APART = "see both sides"
    LOG = "open the log"


@dataclass(frozen=True, slots=True)
class ChangedLately:
    """A name there that changed within the last days: by a change that Nailer made (`change_id`, `who`), or by its time."""

    path: SitePath
    at: datetime
    what: str
    who: str = ""
    change_id: int | None = None


@dataclass(frozen=True, slots=True)
class PageEvidence:
    """What was looked at for one address. `path` is the file there that it leads to (None: outside the document roots),
    `entry` what is there, `entry_here` its counterpart, `other` a name that differs in writing. `chain` has the permissions
    of every folder above it and of itself (None: the server does not say). `visible` counts letters that a visitor sees
    (None: no page of text). `log` None: `no_log` says why. `room` are bytes left (None: not known). `missing` are things
    that the page refers to and does not get. `not_looked` says what could not be looked at, and why.
    `knows_there` and `knows_here`: whether what is under the path on that side could be looked at, so that nothing found
    means nothing there."""

    answer: Fetched
    took_ms: int
    visible: int | None = None
    path: SitePath | None = None
    entry: Entry | None = None
    entry_here: Entry | None = None
    other: SitePath | None = None
    chain: tuple[tuple[SitePath, int | None], ...] = ()
    log: LogTail | None = None
    no_log: str = ""
    changed: tuple[ChangedLately, ...] = ()
    room: int | None = None
    missing: tuple[SitePath, ...] = ()
    not_looked: tuple[str, ...] = ()
    knows_there: bool = True
    knows_here: bool = True

    @property
    def is_well(self) -> bool:
        """True for a page that came whole and shows something."""
        return self.answer.status == 200 and not self.is_empty and not self.answer.trouble and bool(self.visible or 0)

    @property
    def is_empty(self) -> bool:
        """True where the answer has no bytes."""
        return self.answer.status is not None and self.answer.status < 300 and not self.answer.size

    @property
    def fails(self) -> bool:
        """True where a program or the server failed: an error status, an error's words, or nothing at all."""
        return (self.answer.status or 0) >= 500 or bool(self.answer.trouble) or self.is_empty

    @property
    def own_trouble(self) -> str:
        """The line in which the page's program says that it failed; '' where only the server says so."""
        is_servers = (self.answer.status or 0) >= 500 and "internal server error" in self.answer.trouble.lower()
        return "" if is_servers else self.answer.trouble

    @property
    def shut(self) -> tuple[SitePath, int] | None:
        """The first name on the way that the web server may not enter, or may not read."""
        for path, permissions in self.chain:
            wanted = 0o004 if path == self.path else 0o001
            if permissions is not None and not permissions & wanted:
                return path, permissions
        return None

    @property
    def first_line(self) -> LogLine | None:
        """The line of the log that tells most."""
        return self.log.telling[0] if self.log is not None and self.log.telling else None


@dataclass(frozen=True, slots=True)
class Lead:
    """One decision: what is the case, and where it leads. `path` and `change_id` are what that is about."""

    sentence: str
    next: Next
    path: SitePath | None = None
    change_id: int | None = None
    number: int | None = None


_Row = Callable[[PageEvidence], Lead | None]


def leads(seen: PageEvidence) -> list[Lead]:
    """Every decision that what was looked at supports, the most telling first. The last one is always there: it says where
    to look if none of the others helped."""
    found = [lead for row in _TABLE if (lead := row(seen)) is not None]
    return found or [_nothing_found(seen)]


def _silent(seen: PageEvidence) -> Lead | None:
    if seen.answer.status is not None:
        return None
    return Lead(f"Nothing answers at this address: {seen.answer.words}.", Next.ADDRESS)


def _asks(seen: PageEvidence) -> Lead | None:
    if seen.answer.status != 401:
        return None
    return Lead("The address asks for a password (401). A rule in a folder above requires it.", Next.EDIT, _rules(seen))


def _shut(seen: PageEvidence) -> Lead | None:
    if seen.shut is None or seen.is_well:
        return None
    path, permissions = seen.shut
    what = "read" if path == seen.path else "enter"
    return Lead(
        f"{path} has permissions {octal(permissions)}: the web server may not {what} it.", Next.PERMISSIONS, path
    )


def _forbidden(seen: PageEvidence) -> Lead | None:
    if seen.answer.status != 403 or seen.shut is not None:
        return None
    if seen.entry is not None and seen.entry.is_folder:
        sentence = "The folder has no first page, and its list is not shown (403)."
        return Lead(sentence, Next.SEND, seen.path)
    return Lead(
        "The permissions of the file and its folders are fine. A server rule forbids it (403).", Next.EDIT, _rules(seen)
    )


def _not_there(seen: PageEvidence) -> Lead | None:
    if seen.answer.status not in (404, 410) or not seen.knows_there:
        return None
    if seen.entry is not None:
        sentence = (
            f"{seen.path} exists on the server, but the address returns {seen.answer.status}. Check which folder the "
            "address shows."
        )
        return Lead(sentence, Next.PROVE)
    if seen.other is not None:
        sentence = f"The address is spelled differently from the file name, {seen.other.shown}. Capital letters matter."
        return Lead(sentence, Next.RENAME, seen.other)
    taken = _taken_away(seen)
    if taken is not None:
        who = f" by {taken.who}" if taken.who else ""
        return Lead(
            f"{taken.path} was {taken.what}{who}, so the page is missing.", Next.TAKE_BACK, taken.path, taken.change_id
        )
    if seen.entry_here is not None:
        return Lead("The file exists here but not there.", Next.SEND, seen.path)
    return Lead(f"No file with this name exists there{', or here' if seen.knows_here else ''}.", Next.REFERENCES)


def _log_names(seen: PageEvidence) -> Lead | None:
    line = seen.first_line
    if line is None or line.path is None or not seen.fails:
        return None
    when = (
        "as the page was fetched"
        if seen.log is not None and line in seen.log.fresh
        else f"last ({line.stamp or 'no time'})"
    )
    changed = next((one for one in seen.changed if one.path == line.path), None)
    where = f"{line.path}" + (f", line {line.number}" if line.number else "")
    if changed is not None and changed.change_id is not None:
        sentence = f"The server's log named {where} {when}, and {changed.who or 'a job'} changed that file lately."
        return Lead(sentence, Next.TAKE_BACK, line.path, changed.change_id)
    return Lead(
        f"The server's log named {where} {when}: “{line.text[:200]}”.", Next.EDIT, line.path, number=line.number
    )


def _log_says(seen: PageEvidence) -> Lead | None:
    line = seen.first_line
    if line is None or line.path is not None or not seen.fails or seen.log is None:
        return None
    return Lead(f"The server's log says: “{line.text[:200]}”.", Next.LOG, seen.log.path)


def _says_itself(seen: PageEvidence) -> Lead | None:
    if not seen.own_trouble:
        return None
    return Lead(f"The page shows its program's error: “{seen.own_trouble}”.", Next.EDIT, seen.path)


def _no_bytes(seen: PageEvidence) -> Lead | None:
    if seen.entry is None or not seen.entry.is_file or seen.entry.size or seen.answer.status is None:
        return None
    if seen.entry_here is not None and seen.entry_here.size:
        return Lead(f"{seen.path} is empty there; here it has {size_text(seen.entry_here.size)}.", Next.SEND, seen.path)
    return Lead(f"{seen.path} is empty: an upload was interrupted, or the disk was full.", Next.TAKE_BACK, seen.path)


def _no_room(seen: PageEvidence) -> Lead | None:
    if seen.room is None or seen.room > _TIGHT_BYTES or seen.is_well:
        return None
    sentence = f"The account has only {size_text(seen.room)} left. Programs that cannot write often show an empty page."
    return Lead(sentence, Next.ROOM)


def _may_not_run(seen: PageEvidence) -> Lead | None:
    if not seen.fails or seen.path is None or b"cgi-bin" not in seen.path.names or not seen.path.name:
        return None
    return Lead(
        "It is a script: its first line, permissions and interpreter decide whether it runs.", Next.SCRIPT, seen.path
    )


def _changed(seen: PageEvidence) -> Lead | None:
    if not seen.fails:
        return None
    own = next((one for one in seen.changed if one.change_id is not None), None)
    one = own or next(iter(seen.changed), None)
    if one is None:
        return None
    who = f" by {one.who}" if one.who else ""
    sentence = f"The last change there within three days: {one.path}, {one.what}{who}."
    return Lead(sentence, Next.TAKE_BACK if own is not None else Next.EDIT, one.path, one.change_id)


def _source(seen: PageEvidence) -> Lead | None:
    if seen.answer.status != 200 or not seen.answer.begins.lstrip().startswith(_SOURCE):
        return None
    return Lead("Visitors get the source code: the server does not run this program.", Next.SCRIPT, seen.path)


def _other_kind(seen: PageEvidence) -> Lead | None:
    kind = seen.answer.media_type.partition(";")[0].strip().lower()
    looks = seen.answer.begins.lstrip()[:200].lower()
    if seen.answer.status != 200 or not kind or kind in _TEXTS or not looks.startswith(("<!doctype html", "<html")):
        return None
    return Lead(
        f"The server sends the page as {kind}, so browsers show its source code or download it.",
        Next.EDIT,
        _rules(seen),
    )


def _missing(seen: PageEvidence) -> Lead | None:
    if not seen.missing or seen.answer.status != 200:
        return None
    first = seen.missing[0].shown
    more = f" and {len(seen.missing) - 1} more" if len(seen.missing) > 1 else ""
    return Lead(f"It uses {first}{more}, which visitors do not get.", Next.REFERENCES, seen.path)


def _shows_nothing(seen: PageEvidence) -> Lead | None:
    if seen.answer.status != 200 or seen.visible != 0 or seen.is_empty:
        return None
    sentence = (
        f"The page has {size_text(seen.answer.size)} but no visible text. A script or style may be hiding it or "
        "failing."
    )
    return Lead(sentence, Next.APART, seen.path)


def _cached(seen: PageEvidence) -> Lead | None:
    if not seen.answer.age_s or seen.is_well:
        return None
    return Lead(f"A cache gave this answer; it is {seen.answer.age_s} s old.", Next.LIVE, seen.path)


def _slow(seen: PageEvidence) -> Lead | None:
    if seen.took_ms < _SLOW_MS or seen.answer.status is None:
        return None
    return Lead(f"It took {seen.took_ms / 1000:.0f} s: visitors see an empty page until then.", Next.LOG)


def _nothing_found(seen: PageEvidence) -> Lead:
    if seen.is_well:
        sentence = f"The page answers 200 with {size_text(seen.answer.size)}, and shows text. It works now."
        return Lead(sentence, Next.APART, seen.path)
    if seen.is_empty:
        why = f"there is no log to read: {seen.no_log}" if seen.log is None else "the log says nothing of it"
        sentence = (
            f"It answers {seen.answer.status} with an empty page: the program stopped without an error message, and "
            f"{why}."
        )
        return Lead(sentence, Next.EDIT, seen.path)
    if seen.answer.status == 200:
        return Lead(f"It answers 200 with {size_text(seen.answer.size)}.", Next.APART, seen.path)
    if not seen.knows_there:
        sentence = f"It answers {seen.answer.status}; the folder there could not be checked."
        return Lead(sentence, Next.ADDRESS)
    if seen.log is None:
        sentence = f"It answers {seen.answer.status}, and there is no log to read: {seen.no_log}."
        return Lead(sentence, Next.SCRIPT, seen.path)
    return Lead(f"It answers {seen.answer.status}, and the log says nothing of it.", Next.LOG, seen.log.path)


# The order is that of how much each proves: what the server itself says first, what merely happened before last.
_TABLE: Sequence[_Row] = (
    _silent,
    _asks,
    _shut,
    _forbidden,
    _not_there,
    _log_names,
    _log_says,
    _says_itself,
    _no_bytes,
    _no_room,
    _source,
    _other_kind,
    _may_not_run,
    _changed,
    _missing,
    _shows_nothing,
    _cached,
    _slow,
)


def _rules(seen: PageEvidence) -> SitePath | None:
    """The file of rules of the folder that a page lies in."""
    return seen.path.parent.child(b".htaccess") if seen.path is not None and not seen.path.is_root else None


def _taken_away(seen: PageEvidence) -> ChangedLately | None:
    return next(
        (
            one
            for one in seen.changed
            if seen.path is not None and seen.path.below(one.path) is not None and one.what in ("removed", "renamed")
        ),
        None,
    )
