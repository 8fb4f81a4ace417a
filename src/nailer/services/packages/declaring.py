"""Reading what declares a package, and finding the package in a folder that may hold it deeper down."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nailer.bounded import bounded
from nailer.core.files.entry import Entry
from nailer.core.files.sitepath import SitePath
from nailer.core.packages.declared import Declared, declared, files_to_read
from nailer.core.packages.identity import Likeness, likeness
from nailer.errors import InvalidInput, TransferError, Unreadable
from nailer.sides.side import Side

_DEEPEST = 3
_MOST_FOLDERS = 60


@dataclass(frozen=True, slots=True)
class Found:
    """A package: its folder, that folder's own name, and what it declares."""

    folder: SitePath
    name: bytes
    declared: Declared

    @property
    def text(self) -> str:
        """`Harbour 1.5.0`."""
        own = self.declared.name or self.name.decode("utf-8", "replace")
        return f"{own} {self.declared.version.text}".strip()


async def entries_of(side: Side, folder: SitePath) -> Sequence[Entry]:
    """What is in a folder; nothing where it cannot be read. Raises what heals."""
    try:
        return (await side.list(folder)).entries
    except TransferError as error:
        if error.retryable:
            raise
        return ()


async def declared_in(
    side: Side, folder: SitePath, entries: Sequence[Entry], own: bytes | None = None
) -> Declared | None:
    """What the files of a folder declare; None where it is no package. `own` is its name where the folder has another."""
    for name in files_to_read(own if own is not None else _bare(folder.name), entries):
        try:
            _, data = await side.read_all(folder.child(name))
        except TransferError as error:
            if error.retryable:
                raise
            continue
        found = await declared_by(name, data)
        if found is not None:
            return found
    return None


async def declared_by(name: bytes, data: bytes) -> Declared | None:
    """What one file declares; None where it declares no package, or cannot be read."""
    try:
        return await bounded(declared, name, data)
    except Unreadable:
        return None


async def find_package(side: Side, top: SitePath, name: bytes, like: Found | None = None) -> Found:
    """The package that a folder is, or that lies in it: archives have their packages in a folder of their own. `name` is
    what the folder is called. Of several the one that is a version of `like`. Raises InvalidInput where there is none."""
    level: list[tuple[SitePath, bytes]] = [(top, name)]
    for _ in range(_DEEPEST + 1):
        found, deeper = [], []
        for folder, own in level[:_MOST_FOLDERS]:
            entries = await entries_of(side, folder)
            said = await declared_in(side, folder, entries, own)
            if said is not None:
                found.append(Found(folder, own, said))
                continue
            below = [one.name for one in entries if one.is_folder and not one.name.startswith(b".")]
            deeper += [(folder.child(one), one) for one in below]
        if found:
            return _chosen(found, like)
        level = deeper
    shown = name.decode("utf-8", "replace")
    raise InvalidInput(
        f"{shown} declares no version, so Nailer cannot identify it. A package says so in the head of its main "
        "file, in composer.json, package.json, skin.json or addon.json, or in a file called VERSION."
    )


def _chosen(found: Sequence[Found], like: Found | None) -> Found:
    if len(found) == 1:
        return found[0]
    alike = [
        one
        for one in found
        if like is not None and likeness(like.declared, like.name, one.declared, one.name) is Likeness.SAME
    ]
    if len(alike) == 1:
        return alike[0]
    names = ", ".join(one.text for one in found[:6])
    raise InvalidInput(f"This contains several packages: {names}. Choose one of them.")


def _bare(name: bytes) -> bytes:
    """A package's own name, also while it is set aside."""
    return name[1:].removesuffix(b".aside") if name.startswith(b".") and name.endswith(b".aside") else name
