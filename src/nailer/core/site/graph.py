"""The graph of a site: which page refers to what, what is missing of it, and what nothing refers to."""

from __future__ import annotations

import re
from collections import defaultdict, deque
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from nailer.core.files.entry import Entry
from nailer.core.files.kinds import FileKind, kind_by_name
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.site.links import FileLinks, Use
from nailer.core.site.names import Names, is_index
from nailer.core.site.targets import Leads, Target, targets_of


class Fault(StrEnum):
    """What is wrong with a reference."""

    MISSING = "missing"
    WRITTEN_OTHERWISE = "different spelling"
    ONLY_HERE = "only here"
    RENAMED = "renamed"
    ON_A_DISK = "on a local disk"
    INSECURE = "insecure"


@dataclass(frozen=True, slots=True)
class RefersAt:
    """Where a reference stands: the page, how it is written there, and what it is for."""

    page: SitePath
    written: str
    use: Use


@dataclass(frozen=True, slots=True)
class BrokenReference:
    """One thing that pages refer to and do not get. `path` is where it should be, None for a disk or another site.
    `other` is what it is called now, or how it is really written. `address` is what a visitor's browser asks for."""

    fault: Fault
    address: str
    path: SitePath | None
    places: tuple[RefersAt, ...]
    other: SitePath | None = None

    @property
    def pages(self) -> tuple[SitePath, ...]:
        """The pages that refer to it, each once."""
        return tuple(dict.fromkeys(one.page for one in self.places))

    @property
    def is_noticed(self) -> bool:
        """True where a visitor sees that something is not there: a picture, a style, a script, not only a link."""
        return any(one.use is not Use.PAGE and one.use is not Use.LISTED for one in self.places)


@dataclass(frozen=True, slots=True)
class Graph:
    """Every page with where its links lead, for one side. `mentions` are names of files that scripts hold."""

    leads: Mapping[SitePath, tuple[tuple[RefersAt, Target, int | None], ...]]
    mentions: Mapping[SitePath, frozenset[str]]

    @classmethod
    def of(cls, pages: Mapping[SitePath, FileLinks], roots: Sequence[DocumentRoot]) -> Graph:
        """The graph of pages that were read."""
        leads = {
            page: tuple(
                (RefersAt(page, link.address, link.use), target, link.width)
                for link, target in targets_of(page, links, roots)
                if target.leads is not Leads.NOWHERE
            )
            for page, links in pages.items()
        }
        return cls(leads, {page: links.mentions for page, links in pages.items() if links.mentions})

    def broken(
        self,
        there: Names,
        here: Names | None = None,
        now: Callable[[SitePath], SitePath] = lambda path: path,
    ) -> list[BrokenReference]:
        """What pages there refer to and do not get, the most noticed first. A path of which nobody knows whether it is
        there is left out. `now` says where a path went that was renamed."""
        gone = {path: why for path in self.targets if (why := _gone(path, there, here, now)) is not None}
        found: dict[tuple[Fault, str], list[RefersAt]] = defaultdict(list)
        about: dict[tuple[Fault, str], tuple[Target, SitePath | None]] = {}
        for led in self.leads.values():
            for place, target, _ in led:
                fault, other = _fault(target, gone)
                if fault is not None:
                    key = (fault, target.path.token if target.path is not None else target.address)
                    found[key].append(place)
                    about[key] = (target, other)
        broken = [
            BrokenReference(fault, target.address, target.path, tuple(found[fault, key]), other)
            for (fault, key), (target, other) in about.items()
        ]
        return sorted(broken, key=lambda one: (not one.is_noticed, -len(one.pages), one.address))

    @property
    def targets(self) -> frozenset[SitePath]:
        """Every path of the site that pages lead to, whether or not anything is there."""
        return frozenset(target.path for led in self.leads.values() for _, target, _ in led if target.path is not None)

    def referrers(self, path: SitePath) -> tuple[RefersAt, ...]:
        """Where a path is referred to."""
        return tuple(place for led in self.leads.values() for place, target, _ in led if target.path == path)

    def needs(self, page: SitePath, there: Names, *, follow: bool = False) -> dict[SitePath, Use]:
        """What a page needs to be shown: its styles, pictures and scripts, and what its styles need in turn. With `follow`
        also the pages it leads to, and theirs: everything that belongs to a start page. In the order of finding."""
        found: dict[SitePath, Use] = {}
        waiting = deque([page])
        while waiting:
            at = waiting.popleft()
            for place, target, _ in self.leads.get(at, ()):
                path = _file_of(target.path, there) if target.path is not None else None
                if path is None or path in found or path == page:
                    continue
                if place.use in (Use.PAGE, Use.MOVE, Use.LISTED, Use.FORM) and not follow:
                    continue
                found[path] = place.use
                waiting.append(path)
        return found

    def targets_from_outside(self, folder: SitePath) -> frozenset[SitePath]:
        """What pages outside a folder refer to."""
        return frozenset(
            target.path
            for page, led in self.leads.items()
            if page.below(folder) is None
            for _, target, _ in led
            if target.path is not None
        )

    def pages_outside_using(self, folder: SitePath) -> int:
        """How many pages outside a folder refer to what lies in it."""
        return sum(
            page.below(folder) is None
            and any(target.path is not None and target.path.below(folder) is not None for _, target, _ in led)
            for page, led in self.leads.items()
        )

    def elsewhere(self) -> dict[str, tuple[RefersAt, ...]]:
        """The web addresses of other sites that pages refer to, without their fragments, each with where."""
        found: dict[str, list[RefersAt]] = defaultdict(list)
        for led in self.leads.values():
            for place, target, _ in led:
                if target.leads is Leads.ELSEWHERE and target.address.lower().startswith(("http://", "https://")):
                    found[target.address.partition("#")[0]].append(place)
        return {address: tuple(places) for address, places in found.items()}

    def widths(self) -> dict[SitePath, tuple[int, ...]]:
        """The widths, in CSS pixels, at which pages show their pictures; a picture that some page shows without saying
        how wide is left out."""
        said: dict[SitePath, list[int]] = defaultdict(list)
        unsaid: set[SitePath] = set()
        for led in self.leads.values():
            for place, target, width in led:
                if target.path is None or place.use not in (Use.PICTURE, Use.ICON):
                    continue
                if width is None:
                    unsaid.add(target.path)
                else:
                    said[target.path].append(width)
        return {path: tuple(sorted(widths)) for path, widths in said.items() if path not in unsaid}

    def unreferenced(self, there: Names, roots: Sequence[DocumentRoot]) -> list[Unreferenced]:
        """Files under the document roots that nothing refers to, the largest first, each with what speaks for keeping it."""
        targets = self.targets
        wanted = {path for target in targets if (path := _file_of(target, there)) is not None}
        meant = {other for target in targets if (other := there.other_writing(target)) is not None}
        mentioned: set[str] = set().union(*self.mentions.values()) if self.mentions else set()
        packages = {
            folder
            for folder, inside in there.folders()
            if not inside.keys().isdisjoint(_DECLARES) and any(path.below(folder) is not None for path in wanted)
        }
        found = []
        for path, entry in there.files():
            root = next((one for one in roots if path.below(one.folder) is not None), None)
            if root is None or path in wanted or is_index(path.name):
                continue
            keeps = _keeps(path, root.folder, mentioned)
            if path in meant:
                keeps = "a page links to it with different capital letters"
            elif not packages.isdisjoint(path.ancestors()) and not any(one.folder in packages for one in roots):
                keeps = "belongs to a package that pages use"
            found.append(Unreferenced(path, entry, keeps))
        return sorted(found, key=lambda one: (-one.entry.size, one.path))


@dataclass(frozen=True, slots=True)
class Unreferenced:
    """A file that no page refers to. `keeps` is what speaks for keeping it all the same, '' where nothing does."""

    path: SitePath
    entry: Entry
    keeps: str


_Gone = tuple[Fault, SitePath | None]


def _gone(path: SitePath, there: Names, here: Names | None, now: Callable[[SitePath], SitePath]) -> _Gone | None:
    """Why nothing is at a path, with what it is called instead; None where something is, or nobody knows."""
    if there.entry(path) is not None or not there.known(path):
        return None
    if (other := there.other_writing(path)) is not None:
        return Fault.WRITTEN_OTHERWISE, other
    if (led := now(path)) != path and there.entry(led) is not None:
        return Fault.RENAMED, led
    if here is not None and here.entry(path) is not None:
        return Fault.ONLY_HERE, None
    return Fault.MISSING, None


def _fault(target: Target, gone: Mapping[SitePath, _Gone]) -> tuple[Fault | None, SitePath | None]:
    if target.leads is Leads.DISK:
        return Fault.ON_A_DISK, None
    if target.path is not None and target.path in gone:
        return gone[target.path]
    return (Fault.INSECURE, None) if target.insecure else (None, None)


def _file_of(path: SitePath, there: Names) -> SitePath | None:
    """The file that a path serves: itself, or the index of a folder. None where there is none."""
    entry = there.entry(path)
    if entry is None:
        return None
    return there.index_of(path) if entry.is_folder else path


# Files by which a folder is known as a package: its parts may be loaded by one another.
_DECLARES = frozenset({b"skin.json", b"package.json", b"composer.json", b"VERSION"})

# What is fetched by name, without any page that refers to it; and what people are handed an address of.
_BY_NAME = re.compile(
    rb"favicon\.ico|apple-touch-icon.*\.png|browserconfig\.xml|crossdomain\.xml|humans\.txt|security\.txt|ads\.txt"
    rb"|robots\.txt|sitemap.*\.xml(\.gz)?|site\.webmanifest|manifest\.json|service-?worker\.js|sw\.js"
    rb"|\.htaccess|\.user\.ini|php\.ini|web\.config|40[0-9]\.\w+|50[0-9x]\.\w+|error.*\.x?html?",
    re.I,
)
_PROVES = re.compile(rb"[a-z0-9_-]{0,40}[0-9a-f]{12,}[a-z0-9_-]{0,40}\.(html?|txt|xml)|[a-z]+siteauth\.xml", re.I)
_HANDED_OUT = frozenset({FileKind.DOCUMENT, FileKind.ARCHIVE, FileKind.SOUND})


def _keeps(path: SitePath, root: SitePath, mentioned: Collection[str]) -> str:
    name, below = path.name, path.below(root) or ()
    if b".well-known" in below:
        return "browsers or services expect it at this place"
    if _BY_NAME.fullmatch(name):
        return "browsers or services expect this name"
    if _PROVES.fullmatch(name):
        return "may prove to another service that you own the site"
    if re.search(rb"(feed|rss|atom)[^/]*\.(xml|rss|atom)$", name, re.I):
        return "a feed: readers know its address"
    if name.decode("utf-8", "replace").lower() in mentioned:
        return "a script or a program names it"
    if any(re.fullmatch(rb"downloads?|files|dl|press|media", one, re.I) for one in below[:-1]):
        return "is among downloads"
    if kind_by_name(name) in _HANDED_OUT:
        return "people may have been sent its address"
    if kind_by_name(name) in (FileKind.PAGE, FileKind.SCRIPT) and re.search(
        rb"\.(php\d?|phtml|inc|tpl|cgi|pl|py)$", name
    ):
        return "a program may load it"
    return ""


def lacking(
    graph: Graph, sent: Iterable[SitePath], source: Names, target: Names, coming: Collection[SitePath]
) -> dict[SitePath, tuple[RefersAt, ...]]:
    """What pages that are sent need, and what is neither there nor among what comes, but lies at the source: each with
    where it is referred to. Paths are those of the target; `graph` is of the sent pages there."""
    found: dict[SitePath, list[RefersAt]] = defaultdict(list)
    for page in sent:
        for place, led, _ in graph.leads.get(page, ()):
            path = led.path
            if path is None or path in coming or place.use in (Use.LISTED, Use.FORM):
                continue
            lies = source.entry(path)
            if target.entry(path) is None and target.known(path) and lies is not None and lies.is_file:
                found[path].append(place)
    return {path: tuple(places) for path, places in sorted(found.items())}
