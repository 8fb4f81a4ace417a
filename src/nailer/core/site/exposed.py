"""What anybody could download that should not be there: names that are asked for one by one, and what is done about them."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from enum import StrEnum

from nailer.core.check.live import Fetched
from nailer.core.files.entry import Entry
from nailer.core.files.kinds import FileKind, kind_by_name, kind_of_folder
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.site.names import Names


class Danger(StrEnum):
    """What whoever finds it has in hands."""

    SECRETS = "settings or a key with passwords in it"
    HISTORY = "the history of the whole site"
    DATABASE = "a copy of a database"
    ARCHIVE = "an archive with everything in it"
    SOURCE = "an old copy, which the server shows as text"
    LOG = "a log with the addresses of visitors"
    WORKING = "a working file, large and not for visitors"
    LITTER = "a file list left by a system or editor"


_DANGERS = {
    FileKind.SECRET: Danger.SECRETS,
    FileKind.DATABASE: Danger.DATABASE,
    FileKind.ARCHIVE: Danger.ARCHIVE,
    FileKind.OLD: Danger.SOURCE,
    FileKind.LOG: Danger.LOG,
    FileKind.LAYERED: Danger.WORKING,
}
# A pattern to fill in holds nobody's passwords.
_ONLY_SHOWS = (b".example", b".sample", b".dist", b".template")
_LISTS_NAMES = frozenset({b".ds_store", b"thumbs.db"})
# What proves that a version-control folder can be read: the first of these that it holds.
_TELLS = (b"HEAD", b"entries", b"wc.db", b"requires", b"Entries")
GRAVE = frozenset({Danger.SECRETS, Danger.HISTORY, Danger.DATABASE})


@dataclass(frozen=True, slots=True)
class Exposed:
    """A name on the web that should not be there. `asked` is the file whose address tells whether it answers: itself, or a
    file in the folder that it is."""

    path: SitePath
    entry: Entry
    danger: Danger
    asked: SitePath


def exposed(there: Names, roots: Sequence[DocumentRoot], wanted: Collection[SitePath]) -> list[Exposed]:
    """Names under the document roots that should not be public, the gravest first. What pages refer to (`wanted`) is meant
    to be fetched, but for settings, keys and histories."""
    found: list[Exposed] = []
    seen: set[SitePath] = set()
    tops = [one.folder for one in roots]
    for folder, inside in there.folders():
        if folder in seen or not any(folder.below(top) is not None for top in tops):
            continue
        if (led := _history(folder, there)) is not None:
            entry = there.entry(folder)
            if entry is not None and not any(folder.below(one.path) is not None for one in found):
                found.append(Exposed(folder, entry, Danger.HISTORY, led))
            continue
        if any(kind_of_folder(name) is FileKind.VERSIONS for name in folder.names):
            continue
        seen.add(folder)
        for name, entry in inside.items():
            danger = _danger(entry)
            path = folder.child(name)
            if danger is not None and (danger in GRAVE or path not in wanted):
                found.append(Exposed(path, entry, danger, path))
    order = list(Danger)
    return sorted(found, key=lambda one: (order.index(one.danger), one.path))


def _danger(entry: Entry) -> Danger | None:
    if not entry.is_file or not entry.size:
        return None
    if entry.name.lower().endswith(_ONLY_SHOWS):
        return None
    if entry.name.lower() in _LISTS_NAMES:
        return Danger.LITTER
    kind = kind_by_name(entry.name)
    return _DANGERS.get(kind) if kind is not None else None


def _history(folder: SitePath, there: Names) -> SitePath | None:
    """The file that proves a version-control folder readable; None where the folder is none or holds none of them."""
    if kind_of_folder(folder.name) is not FileKind.VERSIONS:
        return None
    for name in _TELLS:
        entry = there.entry(folder.child(name))
        if entry is not None and entry.is_file:
            return folder.child(name)
    return None


def hands_out(answer: Fetched, asked: Entry, danger: Danger) -> bool:
    """True where an answer hands the content out (RFC 9110, 15.3). One of another size is another content: an error page
    with a good status, the site's own first page. A log has grown meanwhile."""
    if answer.status not in (200, 203, 206):
        return False
    return answer.size == asked.size or (danger is Danger.LOG and answer.size > asked.size)
