"""What a person may do: rights on a site, on the whole of it or on one folder there and one here."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.kinds import JobKind


class Right(StrEnum):
    """One thing that a person may do on a site. Who may do anything there may look."""

    LOOK = "look"
    DOWNLOAD = "download"
    CHANGE = "change"
    REMOVE = "remove"
    PERMISSIONS = "permissions"
    SYNC = "sync"
    CONNECTION = "connection"
    SETTINGS = "settings"


RIGHT_WORDS: dict[Right, str] = {
    Right.LOOK: "view files",
    Right.DOWNLOAD: "download",
    Right.CHANGE: "upload and edit",
    Right.REMOVE: "remove files",
    Right.PERMISSIONS: "set permissions",
    Right.SYNC: "sync",
    Right.CONNECTION: "view the connection",
    Right.SETTINGS: "change settings",
}
# What reaches beyond a folder is for whoever has the whole site.
WHOLE_SITE_ONLY = frozenset({Right.CONNECTION, Right.SETTINGS})


@dataclass(frozen=True, slots=True)
class Grant:
    """A person's part of a site. `folder_there` None is the whole site. `folder_here` is the folder of this machine that
    belongs to it, beside which other sites have theirs; None is nothing here."""

    rights: frozenset[Right]
    folder_there: SitePath | None = None
    folder_here: SitePath | None = None

    @property
    def is_whole(self) -> bool:
        """True for a whole site."""
        return self.folder_there is None

    def may(self, right: Right) -> bool:
        """True where the grant holds a right. Looking comes with every other."""
        if not self.is_whole and right in WHOLE_SITE_ONLY:
            return False
        return right in self.rights or (right is Right.LOOK and bool(self.rights))

    def limits(self, side: SideName) -> bool:
        """True where the person has a part of a side only. Here nobody has more than what belongs to the site."""
        return side is SideName.HERE or not self.is_whole

    def top(self, side: SideName) -> SitePath | None:
        """The folder that is the person's top on a side that is limited; None for nothing of it."""
        return self.folder_there if side is SideName.THERE else self.folder_here

    def reaches(self, side: SideName, path: SitePath) -> bool:
        """True for the person's folder on a side and all below it.

        >>> part = Grant(frozenset({Right.LOOK}), SitePath.parse(b"/htdocs/news"))
        >>> [part.reaches(SideName.THERE, SitePath.parse(one)) for one in (b"/htdocs/news/a", b"/htdocs/newsletter")]
        [True, False]
        """
        if not self.limits(side):
            return True
        top = self.top(side)
        return top is not None and path.below(top) is not None


@dataclass(frozen=True, slots=True)
class Person:
    """Who acts. Whoever runs Nailer may do everything; everybody else what their grants say, by the number of a site."""

    account_id: int
    name: str
    is_admin: bool = False
    grants: Mapping[int, Grant] = field(default_factory=dict)

    def grant(self, site_id: int) -> Grant | None:
        """What this person has of a site; None where it is none of theirs."""
        return EVERYTHING if self.is_admin else self.grants.get(site_id)

    def may(self, right: Right, site_id: int) -> bool:
        """True where this person may do something on a site."""
        grant = self.grant(site_id)
        return grant is not None and grant.may(right)


EVERYTHING = Grant(frozenset(Right))


def rights_of(words: Iterable[str]) -> frozenset[Right]:
    """Rights by their names; names that are none are left out.

    >>> sorted(rights_of(["look", "sync", "fly"]))
    [<Right.LOOK: 'look'>, <Right.SYNC: 'sync'>]
    """
    known = set(Right)
    return frozenset(Right(word) for word in words if word in known)


def right_for(kind: JobKind, to_side: SideName) -> Right:
    """What a job of some kind needs on the site that it changes.

    >>> right_for(JobKind.TRANSFER, SideName.HERE), right_for(JobKind.TRANSFER, SideName.THERE)
    (<Right.DOWNLOAD: 'download'>, <Right.CHANGE: 'change'>)
    """
    if kind is JobKind.TRANSFER:
        return Right.CHANGE if to_side is SideName.THERE else Right.DOWNLOAD
    return _FOR_JOBS.get(kind, Right.CHANGE)


_FOR_JOBS = {JobKind.REMOVE: Right.REMOVE, JobKind.PERMISSIONS: Right.PERMISSIONS, JobKind.SYNC: Right.SYNC}
