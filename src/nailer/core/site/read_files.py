"""Which files of a site must be read, what is known of those that were, and when that still holds."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime

from nailer.core.files.entry import NS, Entry, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.core.site.links import LARGEST_BYTES, FileLinks, syntax_of
from nailer.core.site.names import is_index
from nailer.core.site.pictures import PictureKnown

LONGEST_PATH = 4096  # bytes: what can be stored of a path
_TWINS_FROM_BYTES = 20_000
_TWINS_READ_BYTES = 400_000_000
_MEASURED_FROM_BYTES = 60_000
_MEASURED = (b".jpg", b".jpeg", b".png", b".webp", b".gif", b".avif", b".bmp", b".tif", b".tiff")
_PROGRAMS = (b".php", b".phtml", b".asp", b".aspx", b".jsp", b".cgi")


@dataclass(frozen=True, slots=True)
class ReadFile:
    """A file there as it was when it was read. `size` is in bytes, `read_at` UTC. `digest` is the BLAKE3 hash of its
    content, `width` and `height` a picture's pixels (0: it does not say), `has_places` whether it says where it was taken;
    None: not looked for. `links` None: not a kind that refers."""

    path: SitePath
    size: int
    stamp: Stamp | None
    read_at: datetime
    digest: bytes | None = None
    width: int | None = None
    height: int | None = None
    has_places: bool | None = None
    links: FileLinks | None = None

    def is_still(self, entry: Entry) -> bool:
        """True where a file is known not to have changed since it was read: the same size and time, and a time so much older
        than the scan that no change could hide in its precision."""
        if (
            self.stamp is None
            or entry.stamp is None
            or (entry.size, entry.stamp.at_ns) != (self.size, self.stamp.at_ns)
        ):
            return False
        settled_s = self.stamp.at_s + max(2.0, self.stamp.precision_ns / NS)
        return self.read_at.replace(tzinfo=UTC).timestamp() > settled_s


@dataclass(frozen=True, slots=True)
class ToRead:
    """A file to be read, and why: for what it refers to, for its hash, for its pixels."""

    path: SitePath
    entry: Entry
    links: bool = False
    digest: bool = False
    pixels: bool = False

    @property
    def is_needed(self) -> bool:
        """True where anything is wanted of it."""
        return self.links or self.digest or self.pixels

    def is_known(self, read: ReadFile | None) -> bool:
        """True where what was read of it before holds still, and is all that is wanted."""
        if read is None or not read.is_still(self.entry):
            return False
        return not (
            (self.links and read.links is None)
            or (self.digest and read.digest is None)
            or (self.pixels and read.width is None)
        )


def refers(entry: Entry) -> bool:
    """True for a file that is read for what it refers to.

    >>> from nailer.core.files.entry import Kind
    >>> refers(Entry(b"index.html", Kind.FILE, 300)), refers(Entry(b"pier.png", Kind.FILE, 300))
    (True, False)
    """
    return entry.is_file and 0 < entry.size <= LARGEST_BYTES and bool(syntax_of(entry.name))


def to_read(on_web: Mapping[SitePath, Entry], known: Mapping[SitePath, ReadFile]) -> list[ToRead]:
    """Which files must be read, pages first: those that refer to others, pictures by their heads, and those of equal sizes
    for their hash (as far as 400 MB go, the small ones first), as far as they are not known to be unchanged."""
    twins = _of_equal_size(on_web)
    wanted = (_wanted(path, entry, is_twin=path in twins) for path, entry in on_web.items())
    needed = [one for one in wanted if one.is_needed and not one.is_known(known.get(one.path))]
    return sorted(needed, key=lambda one: (not one.links, one.path))


def _wanted(path: SitePath, entry: Entry, *, is_twin: bool) -> ToRead:
    is_measured = entry.is_file and entry.name.lower().endswith(_MEASURED) and entry.size >= _MEASURED_FROM_BYTES
    digest = is_twin or (is_index(path.name) and not refers(entry))
    return ToRead(path, entry, links=refers(entry), digest=digest, pixels=is_measured)


def _of_equal_size(on_web: Mapping[SitePath, Entry]) -> set[SitePath]:
    sizes: dict[int, list[SitePath]] = defaultdict(list)
    for path, entry in on_web.items():
        if entry.size >= _TWINS_FROM_BYTES:
            sizes[entry.size].append(path)
    found: set[SitePath] = set()
    left = _TWINS_READ_BYTES
    for size, paths in sorted(sizes.items()):
        if len(paths) > 1 and size * len(paths) <= left:
            found.update(paths)
            left -= size * len(paths)
    return found


def twins(files: Mapping[SitePath, ReadFile]) -> list[list[SitePath]]:
    """Groups of files with one content. Pages are in none: each has a place of its own."""
    by_digest: dict[bytes, list[SitePath]] = defaultdict(list)
    for path, one in files.items():
        if one.digest is not None and one.links is None:
            by_digest[one.digest].append(path)
    return [sorted(paths) for paths in by_digest.values() if len(paths) > 1]


def made_smaller(files: Mapping[SitePath, ReadFile], widths: Mapping[SitePath, tuple[int, ...]]) -> dict[SitePath, int]:
    """Bytes that a copy of each picture would save that is sharp enough for where it is shown; `widths` in CSS pixels."""
    found = {}
    for path, shown in widths.items():
        one = files.get(path)
        if one is not None and one.width and one.height:
            frees = PictureKnown(one.width, one.height, one.size, shown, one.has_places).frees
            if frees:
                found[path] = frees
    return found


def runs(name: bytes) -> bool:
    """True for a file that a server runs to make a page.

    >>> runs(b"index.PHP"), runs(b"index.html")
    (True, False)
    """
    return name.lower().endswith(_PROGRAMS)


def by_program(files: Mapping[SitePath, ReadFile]) -> bool:
    """True where programs make pages: what these refer to is not in their files. Those in `cgi-bin` make none by custom."""
    return any(runs(path.name) and b"cgi-bin" not in path.names for path in files)
