"""A side in memory: the contract at its plainest. Tests plan and carry against it without a disk or a socket."""

from __future__ import annotations

from collections.abc import AsyncGenerator, AsyncIterator
from dataclasses import dataclass, field, replace

from nailer.core.files.completeness import Listing, listing_of
from nailer.core.files.entry import Entry, Kind, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.core.plans.room import Room
from nailer.errors import AlreadyThere, FileMissing, FolderNotEmpty, OutsideRoot, TransferError, WrongKind
from nailer.sides.side import CHUNK_BYTES, Digest, Names, land_by_steps, read_all_by_steps, refused

_MOST_LINKS = 40


@dataclass(slots=True)
class _Node:
    entry: Entry
    content: bytes = b""
    inside: dict[bytes, _Node] = field(default_factory=dict)


class MemorySide:
    """A tree in memory that behaves like a POSIX file system."""

    def __init__(self) -> None:
        self._root = _Node(Entry(b"", Kind.FOLDER, permissions=0o755))
        self._ticks = 0

    async def list(self, folder: SitePath, *, careful: bool = False) -> Listing:
        node = self._folder(folder)
        return listing_of(self._seen(folder, one) for one in node.inside.values())

    async def stat(self, path: SitePath) -> Entry:
        if path.is_root:
            return self._root.entry
        return self._seen(path.parent, self._node(path))

    async def resolve(self, path: SitePath) -> SitePath:
        resolved = self._resolved(path)
        self._plain(resolved)
        return resolved

    holes_bytes = 0
    renames: bool | None = True

    async def read(self, path: SitePath, *, start: int = 0, ahead: int | None = None) -> AsyncGenerator[bytes, None]:
        node = self._plain(self._resolved(path))
        if node.entry.kind is not Kind.FILE:
            raise WrongKind(f"{{path}} is a {node.entry.kind}, not a file.", path=path)
        content = node.content
        for at in range(start, len(content), CHUNK_BYTES):
            yield content[at : at + CHUNK_BYTES]

    async def read_all(self, path: SitePath) -> tuple[Entry, bytes]:
        return await read_all_by_steps(self, path)

    async def write(self, path: SitePath, chunks: AsyncIterator[bytes], *, start: int = 0) -> int:
        folder = self._folder(path.parent)
        existing = folder.inside.get(path.name)
        if existing is not None and existing.entry.kind is not Kind.FILE:
            raise (
                OutsideRoot("{path} is a link.", path=path)
                if existing.entry.kind is Kind.LINK
                else WrongKind("{path} is a folder, not a file.", path=path)
            )
        node = existing or _Node(Entry(path.name, Kind.FILE, permissions=0o644))
        folder.inside[path.name] = node
        content = b"".join([chunk async for chunk in chunks])
        node.content = (existing.content[:start] if existing else b"").ljust(start, b"\0") + content
        node.entry = replace(node.entry, size=len(node.content), stamp=self._tick())
        return len(content)

    async def land(
        self,
        path: SitePath,
        chunks: AsyncIterator[bytes],
        *,
        start: int = 0,
        permissions: int | None = None,
        at_most: int | None = None,
        stamp: Stamp | None = None,
        free: SitePath | None = None,
    ) -> Entry:
        return await land_by_steps(
            self, path, chunks, start=start, permissions=permissions, at_most=at_most, stamp=stamp
        )

    async def make_folder(self, path: SitePath) -> None:
        self._add(path, _Node(Entry(path.name, Kind.FOLDER, stamp=self._tick(), permissions=0o755)))

    async def rename_both(self, first: Names, second: Names) -> tuple[TransferError | None, TransferError | None]:
        return await refused(self.rename(*first)), await refused(self.rename(*second))

    async def copy(self, source: SitePath, target: SitePath) -> bool:
        return False

    async def make_link(self, path: SitePath, target: bytes) -> None:
        self._add(path, _Node(Entry(path.name, Kind.LINK, stamp=self._tick(), permissions=0o777, target=target)))

    async def remove_file(self, path: SitePath) -> None:
        if self._node(path).entry.is_folder:
            raise WrongKind("{path} is a folder, not a file.", path=path)
        del self._folder(path.parent).inside[path.name]

    async def remove_folder(self, path: SitePath) -> None:
        node = self._node(path)
        if not node.entry.is_folder:
            raise WrongKind("{path} is not a folder.", path=path)
        if node.inside:
            raise FolderNotEmpty("The folder {path} is not empty.", path=path)
        del self._folder(path.parent).inside[path.name]

    async def rename(
        self,
        old: SitePath,
        new: SitePath,
        *,
        replace: bool = False,
        looked: bool = False,
        landed: Entry | None = None,
    ) -> None:
        node = self._node(old)
        target = self._folder(new.parent)
        standing = target.inside.get(new.name)
        if standing is not None and not replace:
            raise AlreadyThere("{path} exists already.", path=new)
        if standing is not None and standing.entry.is_folder != node.entry.is_folder:
            raise WrongKind("{path} is a different kind of file.", path=new)
        del self._folder(old.parent).inside[old.name]
        node.entry = _named(node.entry, new.name)
        target.inside[new.name] = node

    async def set_attributes(
        self, path: SitePath, *, permissions: int | None = None, stamp: Stamp | None = None
    ) -> None:
        node = self._node(path)
        if node.entry.kind is Kind.LINK:
            raise WrongKind("{path} is a link. Set the permissions of its target instead.", path=path)
        if permissions is not None:
            node.entry = replace(node.entry, permissions=permissions)
        if stamp is not None:
            node.entry = replace(node.entry, stamp=Stamp(stamp.at_ns, 1))

    async def own_hash(self, path: SitePath) -> Digest | None:
        return None

    async def home(self) -> SitePath:
        return SitePath()

    async def room(self, folder: SitePath) -> Room | None:
        return None

    def _add(self, path: SitePath, node: _Node) -> None:
        folder = self._folder(path.parent)
        if path.name in folder.inside:
            raise AlreadyThere("{path} exists already.", path=path)
        folder.inside[path.name] = node

    def _seen(self, folder: SitePath, node: _Node) -> Entry:
        if node.entry.kind is not Kind.LINK:
            return node.entry
        try:
            leads_to = self._plain(self._resolved(folder.child(node.entry.name))).entry.kind
        except (FileMissing, OutsideRoot, WrongKind):
            leads_to = None
        return replace(node.entry, leads_to=leads_to)

    def _node(self, path: SitePath) -> _Node:
        """The node at `path`, links followed on the way but not at its end."""
        node = self._folder(path.parent).inside.get(path.name)
        if node is None:
            raise FileMissing("{path} is not there.", path=path)
        return node

    def _folder(self, path: SitePath) -> _Node:
        node = self._plain(self._resolved(path))
        if not node.entry.is_folder:
            raise WrongKind("A part of the path {path} is not a folder.", path=path)
        return node

    def _plain(self, path: SitePath) -> _Node:
        node = self._root
        for name in path.names:
            if name not in node.inside:
                raise FileMissing("{path} is not there.", path=path)
            node = node.inside[name]
        return node

    def _resolved(self, path: SitePath) -> SitePath:
        ahead, done, links = list(reversed(path.names)), SitePath(), 0
        while ahead:
            name = ahead.pop()
            if name == b"..":
                done = done.parent
                continue
            node = self._plain(done).inside.get(name)
            if node is None or node.entry.target is None:
                done = done.child(name)
                continue
            links += 1
            if links > _MOST_LINKS:
                raise OutsideRoot("Links lead round in a circle at {path}.", path=path)
            if node.entry.target.startswith(b"/"):
                done = SitePath()
            ahead.extend(part for part in reversed(node.entry.target.split(b"/")) if part not in (b"", b"."))
        return done

    def _tick(self) -> Stamp:
        """A time that grows with each call, so that no test needs a clock."""
        self._ticks += 1
        return Stamp(self._ticks, 1)


def _named(entry: Entry, name: bytes) -> Entry:
    return replace(entry, name=name)
