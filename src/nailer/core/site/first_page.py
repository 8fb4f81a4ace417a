"""Which first page a folder's address serves: files that rival for it, the host's own page, folders that show their list."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

from nailer.core.check.live import Fetched
from nailer.core.files.entry import Entry
from nailer.core.files.kinds import FileKind, kind_by_name
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.site.names import Names, is_index
from nailer.errors import InvalidInput


@dataclass(frozen=True, slots=True)
class Rivals:
    """Files of one folder that servers serve for its address. `served` is the one whose content the address gave; None where
    it gave none of them, or nobody knows. `said` is what the address answered."""

    folder: SitePath
    files: tuple[tuple[SitePath, Entry], ...]
    served: SitePath | None = None
    said: str = ""


def rival_folders(there: Names, roots: Sequence[DocumentRoot]) -> list[Rivals]:
    """Folders on the web with more than one first page, in the order of their paths. A program beside a page is a rival,
    too: one of them is never seen."""
    found = []
    for folder, inside in there.folders():
        if any(folder.below(root.folder) is not None for root in roots):
            files = sorted(name for name, entry in inside.items() if is_index(name) and entry.is_file)
            if len(files) > 1:
                found.append(Rivals(folder, tuple((folder.child(name), inside[name]) for name in files)))
    return sorted(found, key=lambda one: one.folder)


def served_of(rivals: Rivals, digests: Mapping[SitePath, bytes], answer: Fetched) -> Rivals:
    """The same with which of them the folder's address served, by the hash of its content."""
    served = next((path for path, digest in digests.items() if digest == answer.digest), None)
    is_good = answer.status is not None and answer.status < 300
    return Rivals(rivals.folder, rivals.files, served if is_good else None, answer.evidence)


def name_to_take(new: bytes, indexes: Mapping[bytes, bytes], answer: Fetched) -> bytes:
    """The name under which a page becomes what its folder's address serves. `indexes` are the first pages of the folder
    with their hashes, `answer` what the address gives now. Of a single one nothing need be known.

    Raises InvalidInput where a page would take a program's name or the other way round, or nobody knows which is served.

    >>> from nailer.core.check.live import FetchedHow
    >>> name_to_take(b"new.html", {}, Fetched(FetchedHow.PLAIN, "https://a.example/", 404))
    b'index.html'
    """
    if not indexes:
        return b"index." + new.rpartition(b".")[2].lower()
    served = [name for name, digest in indexes.items() if digest == answer.digest]
    taken = next(iter(indexes)) if len(indexes) == 1 else served[0] if len(served) == 1 else None
    if taken is None:
        names = ", ".join(sorted(name.decode("utf-8", "replace") for name in indexes))
        raise InvalidInput(f"Which of {names} visitors get is not known. Set all but one of them aside first.")
    if _is_plain(taken) != _is_plain(new):
        what = taken.decode("utf-8", "replace")
        raise InvalidInput(
            f"Visitors get {what}, which is a different type of file. Upload the new page next to it, then set {what} aside."
        )
    return taken


def _is_plain(name: bytes) -> bool:
    """True for a page that a server sends as it is."""
    return name.lower().endswith((b".html", b".htm", b".xhtml"))


# What pages of hosts and servers say where nothing of the customer's is there yet. Each phrase is one that no page of a
# real site would hold as its title.
_PLACEHOLDER = re.compile(
    r"(?:apache2?|nginx|http server)[^<]{0,40}(?:default|test) page|welcome to nginx"
    r"|default (?:web ?site|page) (?:of|for)|(?:domain|site|account|webspace)[^<]{0,40}"
    r"(?:is|has been|was) (?:successfully )?(?:parked|registered|suspended|created|set up|reserved)"
    r"|this (?:domain|site|page|account) (?:is|has been) (?:parked|suspended|reserved|not (?:yet )?(?:set up|configured))"
    r"|placeholder (?:page|of|for)|(?:here|soon)[^<]{0,30}(?:new|your) (?:web ?site|home ?page)"
    r"|upload your (?:web ?site|files|pages)|it works!",
    re.I,
)
_LIST = re.compile(r"<title>\s*(?:index of|directory listing (?:for|of)|listing of)\s*/?[^<]*</title>", re.I)


def placeholder_words(text: str) -> str:
    """The words by which a page is known as the host's own, in its title or first heading; '' where it is none.

    >>> placeholder_words("<title>This domain is parked</title>"), placeholder_words("<title>Skerry Ferries</title>")
    ('This domain is parked', '')
    """
    for element in re.finditer(r"<(title|h1)[^>]{0,200}>([^<]{1,200})<", text[:20_000], re.I):
        if _PLACEHOLDER.search(element[2]):
            return " ".join(element[2].split())
    return ""


def lists_contents(text: str) -> bool:
    """True for a page that a server makes to list what is in a folder.

    >>> lists_contents("<title>Index of /img/</title>"), lists_contents("<title>Index of prices</title>")
    (True, True)
    >>> lists_contents("<title>Our index</title>")
    False
    """
    return _LIST.search(text[:2000]) is not None


@dataclass(frozen=True, slots=True)
class Bare:
    """A folder on the web without a first page: its address may list what is in it."""

    folder: SitePath
    names: int
    telling: tuple[SitePath, ...]


def bare_folders(there: Names, roots: Sequence[DocumentRoot], *, guarded: Collection[SitePath] = ()) -> list[Bare]:
    """Folders without a first page that hold files, with those among them that a stranger would look at first. Document
    roots come first, then by path."""
    tops = {root.folder for root in roots}
    found = []
    for folder, inside in there.folders():
        if folder in guarded or not any(folder.below(top) is not None for top in tops):
            continue
        if any(name.startswith(b".") for name in folder.names) or any(is_index(name) for name in inside):
            continue
        files = [name for name, entry in inside.items() if entry.is_file]
        if files:
            found.append(Bare(folder, len(inside), tuple(folder.child(name) for name in sorted(files) if _tells(name))))
    return sorted(found, key=lambda one: (one.folder not in tops, one.folder))


def _tells(name: bytes) -> bool:
    return kind_by_name(name) in (
        FileKind.ARCHIVE,
        FileKind.DATABASE,
        FileKind.DOCUMENT,
        FileKind.LAYERED,
        FileKind.LOG,
        FileKind.OLD,
        FileKind.SECRET,
    )
