"""Names of a side of a site as a scan found them: is a path there, is it written otherwise, is it unknown."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from nailer.core.files.entry import Entry, Kind
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath, Tree

_MOST_LINKS = 16  # links after links: beyond that it is a loop
_INDEX = (b"index.html", b"index.htm", b"index.php", b"index.xhtml", b"index.shtml", b"default.html", b"default.htm")


def alike(name: bytes) -> str:
    """One key for all writings of a name that differ by case or by how letters are composed.

    >>> alike(b"Crew.JPG") == alike(b"crew.jpg")
    True
    """
    return unicodedata.normalize("NFC", name.decode("utf-8", "surrogateescape")).casefold()


@dataclass(frozen=True, slots=True)
class Names:
    """Trees that were read of one side, each below its top folder."""

    trees: Mapping[SitePath, Tree]
    _folders: dict[SitePath, dict[bytes, Entry]] = field(default_factory=dict, compare=False, repr=False)
    _alike: dict[SitePath, dict[str, bytes]] = field(default_factory=dict, compare=False, repr=False)

    def entry(self, path: SitePath) -> Entry | None:
        """What is at a path, links followed; None where nothing was found."""
        return self._find(path)[0]

    def known(self, path: SitePath) -> bool:
        """True where it is certain what is at a path: its folder was read whole, or it was found."""
        return self._find(path)[1]

    def other_writing(self, path: SitePath) -> SitePath | None:
        """A path that differs from this one by case or composition only, and is there; None where there is none, or where
        this very one is."""
        top = self._top(path)
        if top is None or self.entry(path) is not None:
            return None
        at = top
        for name in path.below(top) or ():
            inside = self._inside(at)
            if name in inside:
                at = at.child(name)
                continue
            other = self._written_alike(at).get(alike(name))
            if other is None:
                return None
            at = at.child(other)
        return at

    def _written_alike(self, folder: SitePath) -> dict[str, bytes]:
        """The names of a folder by what they are without case and composition; of several the first. Kept: a folder may be
        asked for as many names as a site has broken links."""
        if folder not in self._alike:
            self._alike[folder] = {alike(name): name for name in sorted(self._inside(folder), reverse=True)}
        return self._alike[folder]

    def files(self) -> Iterable[tuple[SitePath, Entry]]:
        """Every plain file, in no order."""
        for top, tree in self.trees.items():
            for folder, entries in tree.folders.items():
                for one in entries:
                    if one.is_file:
                        yield top.join((*folder, one.name)), one

    def folders(self) -> Iterable[tuple[SitePath, dict[bytes, Entry]]]:
        """Every folder with what is in it."""
        for top, tree in self.trees.items():
            for folder in tree.folders:
                path = top.join(folder)
                yield path, self._inside(path)

    def index_of(self, folder: SitePath) -> SitePath | None:
        """The file that a folder's address usually serves."""
        inside = self._inside(folder)
        return next((folder.child(name) for name in _INDEX if name in inside), None)

    def _top(self, path: SitePath) -> SitePath | None:
        return next((top for top in self.trees if path.below(top) is not None), None)

    def _inside(self, folder: SitePath) -> dict[bytes, Entry]:
        if folder not in self._folders:
            top = self._top(folder)
            below = folder.below(top) if top is not None else None
            entries = self.trees[top].folders.get(below, ()) if top is not None and below is not None else ()
            self._folders[folder] = {one.name: one for one in entries}
        return self._folders[folder]

    def _find(self, path: SitePath, hops: int = 0) -> tuple[Entry | None, bool]:
        top = self._top(path)
        if top is None:
            return None, False
        if path == top:
            return Entry(path.name, Kind.FOLDER), True
        at = top
        names: RelativePath = path.below(top) or ()
        for depth, name in enumerate(names):
            entry = self._inside(at).get(name)
            if entry is None:
                return None, self._is_whole(top, at, name)
            if entry.kind is Kind.LINK:
                led = _led(at, entry)
                if led is None or hops >= _MOST_LINKS:
                    return (entry if depth == len(names) - 1 else None), False
                return self._find(led.join(names[depth + 1 :]), hops + 1)
            if depth < len(names) - 1 and not entry.is_folder:
                return None, True
            at = at.child(name)
            if depth == len(names) - 1:
                return entry, True
        return None, False

    def _is_whole(self, top: SitePath, folder: SitePath, name: bytes) -> bool:
        tree, below = self.trees[top], folder.below(top) or ()
        return below in tree.folders and not tree.may_hide((*below, name))


def _led(folder: SitePath, link: Entry) -> SitePath | None:
    """Where a link leads, by its text; None where it leads above everything."""
    if link.target is None:
        return None
    names: list[bytes] = [] if link.target.startswith(b"/") else list(folder.names)
    for one in link.target.split(b"/"):
        if one == b"..":
            if not names:
                return None
            names.pop()
        elif one not in (b"", b"."):
            names.append(one)
    return SitePath(tuple(names))


def is_index(name: bytes) -> bool:
    """True for a name that web servers serve for its folder's address.

    >>> is_index(b"Index.HTM"), is_index(b"indexes.html")
    (True, False)
    """
    return name.lower() in _INDEX
