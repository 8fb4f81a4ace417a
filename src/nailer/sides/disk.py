"""The disk of this machine below the allowed roots. Every function blocks: a thread calls it, never the event loop."""

from __future__ import annotations

import contextlib
import ctypes
import errno
import grp
import os
import pwd
import stat
from collections.abc import Callable, Iterator, Mapping
from functools import lru_cache
from pathlib import Path
from typing import TypeVar

from nailer.core.files.entry import Entry, Kind, Stamp, kind_of_mode
from nailer.core.files.sitepath import SitePath
from nailer.core.plans.room import Room
from nailer.errors import FileMissing, OutsideRoot, WrongKind
from nailer.sides.side import agreed

_R = TypeVar("_R")
_FOLDER_FLAGS = os.O_PATH | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_MOST_LINKS = 40
NEW_FILE = 0o644  # as open as files of a site are, and as the umask lets
_LIBC = ctypes.CDLL(None, use_errno=True)
_RENAME_NOREPLACE = 1  # linux/fs.h


_Entries = list[Entry]  # inside the class `list` is the method


class Disk:
    """Opens every folder relative to the one before and refuses links: a folder exchanged meanwhile leads nowhere."""

    def __init__(self, roots: Mapping[bytes, bytes], top: SitePath | None = None) -> None:
        """`roots` are the allowed folders by their labels, with no link on the way to them. With `top` nothing outside that
        folder is reached, wherever links lead."""
        self._roots = roots
        self._top = top

    def below(self, top: SitePath) -> Disk:
        """The same disk, no further than a folder."""
        return Disk(self._roots, top)

    def on_disk(self, path: SitePath) -> Path:
        """Where a path lies on this machine's disk, for what must watch it. Raises FileMissing outside every root."""
        root = self._roots.get(path.names[0]) if path.names else None
        if root is None:
            raise FileMissing("{path} is outside the folders that Nailer may use.", path=path)
        return Path(os.fsdecode(b"/".join((root, *path.names[1:]))))

    def list(self, folder: SitePath) -> _Entries:
        """The names of a folder; of the root, the labels."""
        if folder.is_root:
            return [_labelled(label, root) for label, root in self._roots.items() if os.path.isdir(root)]
        with self._folder(folder) as way:
            file = os.open(b".", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC, dir_fd=way.here)
            try:
                # Asked by descriptor, Python gives names as text; they hold every byte (PEP 383).
                names = [os.fsencode(name) for name in os.listdir(file)]
            finally:
                os.close(file)
            entries = []
            for name in names:
                # A name that vanished between listing and looking is simply not there any more.
                with contextlib.suppress(FileNotFoundError):
                    entries.append(self._entry(folder, way.here, name))
            return entries

    def stat(self, path: SitePath) -> Entry:
        """What stands under a name."""
        if path.is_root:
            return Entry(b"", Kind.FOLDER, permissions=0o555)
        if len(path.names) == 1:
            return _labelled(path.name, self._root(path))
        # What stands under the top's own name is told by the folder above it.
        disk = Disk(self._roots) if path == self._top else self
        with disk._folder(path.parent) as way:
            return self._entry(path.parent, way.here, path.name)

    def _entry(self, parent: SitePath, folder: int, name: bytes) -> Entry:
        found = os.stat(name, dir_fd=folder, follow_symlinks=False)
        kind = kind_of_mode(found.st_mode)
        target, leads_to = None, None
        if kind is Kind.LINK:
            target = os.readlink(name, dir_fd=folder)
            leads_to = self._leads_to(parent.child(name))
        return _entry(name, found, kind, target, leads_to)

    def _leads_to(self, link: SitePath) -> Kind | None:
        try:
            with self._located(link) as (way, name):
                if not name:
                    return Kind.FOLDER
                return kind_of_mode(os.stat(name, dir_fd=way.here, follow_symlinks=False).st_mode)
        except (OSError, OutsideRoot):
            return None

    def resolve(self, path: SitePath) -> SitePath:
        """Where a path leads once every link on the way is followed."""
        if path.is_root:
            return path
        with self._located(path) as (way, name):
            if name:
                os.stat(name, dir_fd=way.here, follow_symlinks=False)
            below = (*way.names, name) if name else tuple(way.names)
            return SitePath((path.names[0], *below))

    def open_to_read(self, path: SitePath) -> int:
        """A descriptor to read from. Raises WrongKind for anything but a plain file."""
        with self._located(path) as (way, name):
            if not name:
                raise WrongKind("{path} is a folder, not a file.", path=path)
            # O_NONBLOCK: opening a pipe must not wait for a writer that never comes.
            flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
            file = os.open(name, flags, dir_fd=way.here)
        mode = os.fstat(file).st_mode
        if not stat.S_ISREG(mode):
            os.close(file)
            raise WrongKind(f"{{path}} is a {kind_of_mode(mode)}, not a file.", path=path)
        return file

    def read_all(self, path: SitePath) -> tuple[Entry, bytes]:
        """A small file's entry and bytes in one go."""
        file = self.open_to_read(path)
        try:
            before = _entry(path.name, os.fstat(file), Kind.FILE, None, None)
            parts, size = [], 0
            while part := os.pread(file, before.size + 1 - size, size) if size <= before.size else b"":
                parts.append(part)
                size += len(part)
            return agreed(before, _entry(path.name, os.fstat(file), Kind.FILE, None, None), b"".join(parts))
        finally:
            os.close(file)

    def open_to_write(self, path: SitePath, start: int, mode: int = NEW_FILE) -> int:
        """A descriptor to write to from `start` on; a new file gets `mode`, as far as the umask lets."""
        flags = os.O_WRONLY | os.O_CREAT | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
        file = self.at(path, lambda folder, name: os.open(name, flags, mode, dir_fd=folder))
        try:
            # A new file that was cut, to nothing too, is one whose content Linux sends to the disk when it is closed.
            if os.fstat(file).st_size != start:
                os.ftruncate(file, start)
            os.lseek(file, start, os.SEEK_SET)
        except BaseException:
            os.close(file)
            raise
        return file

    def rename(self, old: SitePath, new: SitePath, replace: bool) -> None:
        """Rename in one step; without `replace` a taken name is left (renameat2, RENAME_NOREPLACE)."""
        self._check_below_root(old)
        self._check_below_root(new)
        with self._folder(old.parent) as source, self._folder(new.parent) as target:
            if replace:
                os.rename(old.name, new.name, src_dir_fd=source.here, dst_dir_fd=target.here)
            else:
                _rename_onto_nothing(source.here, old.name, target.here, new.name)

    def set_attributes(self, path: SitePath, permissions: int | None, stamp: Stamp | None) -> None:
        """Set permissions and time, whichever is given."""

        def _change(folder: int, name: bytes) -> None:
            file = os.open(name, os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=folder)
            try:
                if stat.S_ISLNK(os.fstat(file).st_mode):
                    raise WrongKind("{path} is a link. Set the permissions of its target instead.", path=path)
                # Linux changes the mode of an O_PATH descriptor only by its name under /proc.
                own_name = f"/proc/self/fd/{file}"
                if permissions is not None:
                    os.chmod(own_name, permissions)
                if stamp is not None:
                    os.utime(own_name, ns=(stamp.at_ns, stamp.at_ns))
            finally:
                os.close(file)

        self.at(path, _change)

    def room(self, folder: SitePath) -> Room:
        """The space on the disk of a folder (statvfs)."""
        with self._folder(folder) as way:
            space = os.statvfs(f"/proc/self/fd/{way.here}")
        return Room(space.f_blocks * space.f_frsize, space.f_bavail * space.f_frsize)

    def at(self, path: SitePath, act: Callable[[int, bytes], _R]) -> _R:
        """Act on the last name of `path` in its opened folder."""
        self._check_below_root(path)
        with self._folder(path.parent) as way:
            return act(way.here, path.name)

    def _check_below_root(self, path: SitePath) -> None:
        if len(path.names) < 2:
            raise OutsideRoot("The list of allowed folders cannot be changed here.")

    def _root(self, path: SitePath) -> bytes:
        root = self._roots.get(path.names[0]) if path.names else None
        if root is None:
            raise FileMissing("{path} is not under an allowed root.", path=path)
        return root

    @contextlib.contextmanager
    def _folder(self, path: SitePath) -> Iterator[_Way]:
        """The opened folder at `path`, links followed within the root."""
        with self._located(path) as (way, name):
            if name:
                way.down(name)
            yield way

    @contextlib.contextmanager
    def _located(self, path: SitePath) -> Iterator[tuple[_Way, bytes]]:
        """The opened folder that holds the last name of `path`, links followed; the name is empty for a root itself.

        The last name may not exist; it is never a link when this returns.
        """
        way = _Way(self._root(path))
        try:
            name = _descend(way, list(reversed(path.names[1:])), path)
            self._check_top(path, SitePath((path.names[0], *way.names, *((name,) if name else ()))))
            yield way, name
        finally:
            way.close()

    def _check_top(self, asked: SitePath, real: SitePath) -> None:
        """Raises OutsideRoot where a walk has come out of the top. Its folders are open by now: whatever is exchanged for a
        link from here on leads nowhere else."""
        if self._top is None or real == self._top:
            return
        top = _Way(self._root(self._top))
        try:
            name = _descend(top, list(reversed(self._top.names[1:])), self._top)
            real_top = SitePath((self._top.names[0], *top.names, *((name,) if name else ())))
        finally:
            top.close()
        if real.below(real_top) is None:
            raise OutsideRoot("{path} leads out of the folder that is yours.", path=asked)


def _descend(way: _Way, ahead: list[bytes], asked: SitePath) -> bytes:
    """Walk `way` down the names in `ahead` (last first) and return the final one, resolving links by hand."""
    links = 0
    while ahead:
        name = ahead.pop()
        if name in (b"", b"."):
            continue
        if name == b"..":
            if not way.up():
                raise OutsideRoot(f"{asked} contains a link to a folder outside the allowed ones.")
            continue
        target = _link_target(way.here, name)
        if target is not None:
            links += 1
            if links > _MOST_LINKS:
                raise OSError(errno.ELOOP, os.strerror(errno.ELOOP))
            ahead.extend(reversed(_inside(way, target, asked).split(b"/")))
        elif ahead:
            way.down(name)
        else:
            return name
    if not way.names:
        return b""
    last = way.names[-1]
    way.up()
    return last


def _rename_onto_nothing(source: int, old: bytes, target: int, new: bytes) -> None:
    """Rename only where the new name is free, in one step (renameat2(2)): two who choose one name do not collide.

    File systems that cannot do that (some network ones) are looked at first.
    """
    renameat2 = getattr(_LIBC, "renameat2", None)
    failed = errno.ENOSYS
    if renameat2 is not None:
        if renameat2(source, old, target, new, _RENAME_NOREPLACE) == 0:
            return
        failed = ctypes.get_errno()
    if failed not in (errno.ENOSYS, errno.EINVAL):
        raise OSError(failed, os.strerror(failed))
    with contextlib.suppress(FileNotFoundError):
        os.stat(new, dir_fd=target, follow_symlinks=False)
        raise OSError(errno.EEXIST, os.strerror(errno.EEXIST))
    os.rename(old, new, src_dir_fd=source, dst_dir_fd=target)


def _labelled(label: bytes, root: bytes) -> Entry:
    return _entry(label, os.stat(root), Kind.FOLDER, None, None)


class _Way:
    """Open folders from a root down to where a walk has come; closes them all at the end."""

    def __init__(self, root: bytes) -> None:
        self.root = root
        self.folders = [os.open(root, os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC)]
        self.names: list[bytes] = []

    @property
    def here(self) -> int:
        """The descriptor of the folder reached."""
        return self.folders[-1]

    def down(self, name: bytes) -> None:
        """Enter a folder, by no link."""
        self.folders.append(os.open(name, _FOLDER_FLAGS, dir_fd=self.here))
        self.names.append(name)

    def up(self) -> bool:
        """Go back one folder; False at the root."""
        if not self.names:
            return False
        os.close(self.folders.pop())
        self.names.pop()
        return True

    def to_top(self) -> None:
        """Go back to the root."""
        while self.up():
            pass

    def close(self) -> None:
        """Close every descriptor."""
        for folder in self.folders:
            os.close(folder)
        self.folders.clear()


def _link_target(folder: int, name: bytes) -> bytes | None:
    try:
        return os.readlink(name, dir_fd=folder)
    except OSError as error:
        if error.errno in (errno.EINVAL, errno.ENOENT):
            return None
        raise


def _inside(way: _Way, target: bytes, asked: SitePath) -> bytes:
    """A link's target relative to where `way` stands; an absolute one is taken from the root, if it lies under it."""
    if not target.startswith(b"/"):
        return target
    if target == way.root or target.startswith(way.root + b"/"):
        way.to_top()
        return target[len(way.root) :]
    raise OutsideRoot(f"{asked} contains a link to a folder outside the allowed ones.")


def write_all(file: int, chunk: bytes) -> None:
    """Write a chunk whole: a write may take less than it is given."""
    rest = memoryview(chunk)
    while rest:
        rest = rest[os.write(file, rest) :]


def finish(file: int, name: bytes, permissions: int | None, stamp: Stamp | None) -> Entry:
    """Set permissions and time of an open file; return what it is then."""
    with contextlib.suppress(PermissionError):
        if permissions is not None:
            os.fchmod(file, permissions)
        if stamp is not None:
            os.utime(file, ns=(stamp.at_ns, stamp.at_ns))
    return _entry(name, os.fstat(file), Kind.FILE, None, None)


def _entry(name: bytes, found: os.stat_result, kind: Kind, target: bytes | None, leads_to: Kind | None) -> Entry:
    return Entry(
        name=name,
        kind=kind,
        size=found.st_size if kind is Kind.FILE else 0,
        stamp=Stamp(found.st_mtime_ns, 1),
        permissions=stat.S_IMODE(found.st_mode),
        owner=_owner(found.st_uid),
        group=_group(found.st_gid),
        target=target,
        leads_to=leads_to,
    )


@lru_cache(maxsize=256)
def _owner(uid: int) -> str:
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return str(uid)


@lru_cache(maxsize=256)
def _group(gid: int) -> str:
    try:
        return grp.getgrgid(gid).gr_name
    except KeyError:
        return str(gid)
