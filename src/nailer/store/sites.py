"""Sites, their groups and folders, sealed credentials and pinned identities."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field, fields, replace
from datetime import datetime
from typing import Any

from nailer.core.connecting.passwords import PasswordKept
from nailer.core.connecting.protocol import Protocol
from nailer.core.files.charset import UTF8
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.errors import Conflict, NotFound
from nailer.seal import Seal
from nailer.store.changes import pair_key
from nailer.store.database import Database, Row, Work, utc_now


@dataclass(frozen=True, slots=True)
class SiteGroup:
    id: int
    parent_id: int | None
    name: str
    position: int


@dataclass(frozen=True, slots=True)
class Site:
    """A hosting account, without its secrets. `id` is 0 for one that is not stored.

    `clock_offset_s` is what the clock of the server's listings is ahead of UTC; None: not known. `clock_how` says
    whether it was measured or set. `file_permissions` and `folder_permissions` are what new files and folders there get;
    None: what the source has, or the usual. `package_bytes` is the allowance where the server does not say it. A `fleeting`
    site was connected to once: nothing secret of it is stored, and it is forgotten when Nailer starts anew.
    """

    id: int
    name: str
    host: str
    port: int
    user_name: str
    start_here: SitePath
    start_there: SitePath
    group_id: int | None = None
    position: int = 0
    colour: str = "slate"
    protocol: Protocol = Protocol.SFTP
    credential_id: int | None = None
    note: str = ""
    opened_at: datetime | None = None
    document_roots: tuple[DocumentRoot, ...] = ()
    guarded: tuple[SitePath, ...] = ()
    password_kept: PasswordKept = PasswordKept.STORED
    key_file: str = ""
    agent: bool = False
    old_allowed: bool = False
    passive: bool = True
    charset: str = UTF8
    connections_most: int = 4
    proxy_kind: str = ""
    proxy_host: str = ""
    proxy_port: int = 0
    proxy_user: str = ""
    clock_offset_s: int | None = None
    clock_how: str = "measured"
    file_permissions: int | None = None
    folder_permissions: int | None = None
    in_place: bool = False
    reads_back: bool = False
    from_home: bool = False
    package_bytes: int | None = None
    fleeting: bool = False
    fingerprint: str = ""
    guards_proposed: bool = False

    def counterpart(self, side: SideName, path: SitePath) -> SitePath | None:
        """The path on the other side that the pair maps one to; None where it lies outside the start folders."""
        start, other = (
            (self.start_here, self.start_there) if side is SideName.HERE else (self.start_there, self.start_here)
        )
        below = path.below(start)
        return other.join(below) if below is not None else None


@dataclass(frozen=True, slots=True)
class Secrets:
    """What a sign-in needs to stay secret. None: there is none of that kind."""

    password: str | None = field(default=None, repr=False)
    private_key: str | None = field(default=None, repr=False)
    passphrase: str | None = field(default=None, repr=False)
    one_time_secret: str | None = field(default=None, repr=False)
    proxy_password: str | None = field(default=None, repr=False)


@dataclass(frozen=True, slots=True)
class Credential:
    """A stored sign-in as it may be shown: what kinds of secret it has, and how many sites use it."""

    id: int
    label: str
    has_password: bool
    has_private_key: bool
    has_one_time_secret: bool
    sites: int
    host: str
    user_name: str


@dataclass(frozen=True, slots=True)
class Place:
    """A folder pair that a person pinned, or was in lately."""

    here: SitePath
    there: SitePath
    pinned: bool
    visited_at: datetime


class SiteStore:
    def __init__(self, database: Database, seal: Seal) -> None:
        self._db = database
        self._seal = seal

    async def groups(self) -> list[SiteGroup]:
        """All groups, in their order."""
        return [SiteGroup(**row) for row in await self._db.read(lambda work: work.rows("sites.groups"))]

    async def add_group(self, name: str, parent_id: int | None = None, position: int = 0) -> int:
        """Store a group; return its number. Raises Conflict where its place has that name already."""
        return await self._db.write(
            lambda work: work.insert("sites.add_group", parent_id=parent_id, name=name, position=position)
        )

    async def all(self) -> list[Site]:
        """All sites, in their order."""

        def _ask(work: Work) -> list[Site]:
            roots: dict[int, list[DocumentRoot]] = {}
            for row in work.rows("sites.all_document_roots"):
                roots.setdefault(row["site_id"], []).append(_root(row))
            guarded: dict[int, list[SitePath]] = {}
            for row in work.rows("sites.all_guarded_folders"):
                guarded.setdefault(row["site_id"], []).append(SitePath.parse(row["folder"]))
            return [
                _site(row, tuple(roots.get(row["id"], ())), tuple(guarded.get(row["id"], ())))
                for row in work.rows("sites.all")
            ]

        return await self._db.read(_ask)

    async def get(self, site_id: int) -> Site:
        """Raises NotFound."""

        def _ask(work: Work) -> Site:
            row = work.one("sites.by_id", id=site_id)
            if row is None:
                raise NotFound("This site no longer exists.")
            roots = tuple(_root(one) for one in work.rows("sites.document_roots", site_id=site_id))
            guarded = tuple(
                SitePath.parse(one["folder"]) for one in work.rows("sites.guarded_folders", site_id=site_id)
            )
            return _site(row, roots, guarded)

        return await self._db.read(_ask)

    async def add(self, site: Site, secrets: Secrets) -> Site:
        """Store a new site with its sealed secrets, or on a sign-in that is stored already; return it with its id."""

        def _change(work: Work) -> Site:
            credential_id = site.credential_id
            if credential_id is None:
                credential_id = work.insert("sites.add_credential", label=site.name, now=utc_now())
                self._seal_into(work, credential_id, secrets)
            last = max((row["position"] for row in work.rows("sites.all")), default=-1)
            stored = replace(site, credential_id=credential_id, position=site.position or last + 1)
            row = _row_of(stored)
            site_id = work.insert(
                "sites.add", **row, position=stored.position, credential_id=credential_id, now=utc_now()
            )
            _write_folders(work, site_id, site)
            return replace(stored, id=site_id)

        return await self._db.write(_change)

    async def update(self, site: Site, secrets: Secrets | None) -> None:
        """Change a stored site; `secrets` None leaves the sign-in's secrets as they are."""

        def _change(work: Work) -> None:
            work.run("sites.update", id=site.id, credential_id=site.credential_id, **_row_of(site))
            work.run("sites.clear_document_roots", site_id=site.id)
            work.run("sites.clear_guarded_folders", site_id=site.id)
            _write_folders(work, site.id, site)
            if secrets is not None and site.credential_id is not None:
                self._seal_into(work, site.credential_id, secrets)
            work.run("sites.drop_unused_credentials")

        await self._db.write(_change)

    async def remove(self, site_id: int) -> None:
        """Remove a site with its jobs, changes and baseline, and a credential that nothing uses any more."""

        def _change(work: Work) -> None:
            if work.value("jobs.unfinished_of_site", site_id=site_id):
                raise Conflict("A job of this site is still running. Stop it first.")
            work.run("sites.remove", id=site_id)
            work.run("sites.drop_unused_credentials")

        await self._db.write(_change)

    async def forget_fleeting(self) -> None:
        """Remove the sites that were not to be stored."""

        def _change(work: Work) -> None:
            for row in work.rows("sites.fleeting"):
                work.run("sites.remove", id=row["id"])
            work.run("sites.drop_unused_credentials")

        await self._db.write(_change)

    async def goes_with(self, site_id: int) -> dict[str, int]:
        """How many jobs, changes, baseline entries, pairs and timers would be removed together with a site."""
        row = await self._db.read(lambda work: work.one("sites.goes_with", id=site_id)) or {}
        return {name: int(count) for name, count in row.items()}

    async def set_start(self, site: Site, start: SitePath) -> None:
        """Where a site starts, once the account's home is known that it was told from."""

        def _change(work: Work) -> None:
            if work.run("sites.set_start", id=site.id, start_there=start.raw):
                work.run("sites.move_document_roots", site_id=site.id, old=site.start_there.raw, new=start.raw)

        await self._db.write(_change)

    async def set_in_place(self, site_id: int, *, allowed: bool) -> None:
        """Whether files may be overwritten in place where the server lets nothing be renamed."""
        await self._db.write(lambda work: work.run("sites.set_in_place", id=site_id, in_place=allowed))

    async def add_guards(self, site: Site, folders: Sequence[SitePath]) -> None:
        """Guard more folders of a site. They were proposed, and are not proposed again."""
        added = [{"site_id": site.id, "folder": folder.raw} for folder in folders if folder not in site.guarded]

        def _change(work: Work) -> None:
            work.many("sites.add_guarded_folder", added)
            work.run("sites.add_guards", id=site.id)

        await self._db.write(_change)

    async def opened(self, site_id: int) -> None:
        """Remember that a site was opened now."""
        await self._db.write(lambda work: work.run("sites.opened", id=site_id, now=utc_now()))

    async def arrange(self, sites: list[tuple[int, int | None]]) -> None:
        """Put sites into this order, each in its group."""

        def _change(work: Work) -> None:
            for position, (site_id, group_id) in enumerate(sites):
                work.run("sites.set_place", id=site_id, group_id=group_id, position=position)

        await self._db.write(_change)

    async def rename_group(self, group_id: int, name: str) -> None:
        """Give a group another name."""
        await self._db.write(lambda work: work.run("sites.rename_group", id=group_id, name=name))

    async def move_group(self, group_id: int, parent_id: int | None, position: int) -> None:
        """Put a group into another, or on top. Raises Conflict where it would come to lie in itself."""

        def _change(work: Work) -> None:
            parents = {row["id"]: row["parent_id"] for row in work.rows("sites.groups")}
            above = parent_id
            while above is not None:
                if above == group_id:
                    raise Conflict("A group cannot be inside itself.")
                above = parents.get(above)
            work.run("sites.move_group", id=group_id, parent_id=parent_id, position=position)

        await self._db.write(_change)

    async def remove_group(self, group_id: int) -> None:
        """Take a group away; what lay in it lies in the group above then."""

        def _change(work: Work) -> None:
            parents = {row["id"]: row["parent_id"] for row in work.rows("sites.groups")}
            if group_id not in parents:
                raise NotFound("This group no longer exists.")
            work.run("sites.empty_group_sites", id=group_id, parent_id=parents[group_id])
            work.run("sites.empty_group_groups", id=group_id, parent_id=parents[group_id])
            work.run("sites.remove_group", id=group_id)

        await self._db.write(_change)

    async def credentials(self) -> list[Credential]:
        """Stored sign-ins, without their secrets."""
        rows = await self._db.read(lambda work: work.rows("sites.credentials"))
        return [
            Credential(
                row["id"],
                row["label"],
                bool(row["has_password"]),
                bool(row["has_private_key"]),
                bool(row["has_one_time_secret"]),
                int(row["sites"]),
                row["host"],
                row["user_name"],
            )
            for row in rows
        ]

    async def secrets(self, site: Site) -> Secrets:
        """The opened secrets of a site's sign-in; for dialling only."""
        credential_id = site.credential_id
        if credential_id is None:
            return Secrets()
        row = await self._db.read(lambda work: work.one("sites.credential", id=credential_id))
        if row is None:
            return Secrets()

        def _opened(kind: str) -> str | None:
            sealed = row[f"sealed_{kind}"]
            return self._seal.open(sealed, _place(credential_id, kind)) if sealed is not None else None

        return Secrets(**{kind: _opened(kind) for kind in _SECRET_KINDS})

    async def learn(self, site_id: int, abilities: dict[str, Any], clock_offset_s: int | None) -> None:
        """Remember what a server was found to do, and its clock where that is measured."""
        text = json.dumps(abilities)
        await self._db.write(
            lambda work: work.run("sites.learn", id=site_id, learned=text, clock_offset_s=clock_offset_s, now=utc_now())
        )

    async def learned(self, site_id: int) -> tuple[dict[str, Any], datetime] | None:
        """What was learned of a server the last time, and when."""
        row = await self._db.read(lambda work: work.one("sites.learned", id=site_id))
        return (json.loads(row["learned"]), row["learned_at"]) if row and row["learned"] else None

    async def visit(self, site_id: int, account_id: int, here: SitePath, there: SitePath) -> None:
        """Remember that a person was in a folder pair."""
        row = {"site_id": site_id, "account_id": account_id, "place": pair_key(here, there)}
        await self._db.write(lambda work: work.run("sites.visit", **row, here=here.raw, there=there.raw, now=utc_now()))

    async def pin_place(self, site_id: int, account_id: int, here: SitePath, there: SitePath, *, pinned: bool) -> None:
        """Keep a folder pair among a person's places, or let it go."""
        await self.visit(site_id, account_id, here, there)
        row = {"site_id": site_id, "account_id": account_id, "place": pair_key(here, there)}
        await self._db.write(lambda work: work.run("sites.pin_place", **row, pinned=pinned))

    async def forget_places(self, site_id: int, account_id: int) -> None:
        """Forget a person's recent folder pairs of a site; pinned ones stay."""
        await self._db.write(lambda work: work.run("sites.forget_places", site_id=site_id, account_id=account_id))

    async def forget_openings(self) -> None:
        """Forget which sites were opened lately."""
        await self._db.write(lambda work: work.run("sites.forget_openings"))

    async def places(self, site_id: int, account_id: int) -> list[Place]:
        """A person's pinned folder pairs of a site, then the recent ones, the latest first."""
        rows = await self._db.read(lambda work: work.rows("sites.places", site_id=site_id, account_id=account_id))
        return [
            Place(SitePath.parse(row["here"]), SitePath.parse(row["there"]), bool(row["pinned"]), row["visited_at"])
            for row in rows
        ]

    def _seal_into(self, work: Work, credential_id: int, secrets: Secrets) -> None:
        def _sealed(kind: str) -> bytes | None:
            secret = getattr(secrets, kind)
            return None if secret is None else self._seal.close(secret, _place(credential_id, kind))

        work.run(
            "sites.seal_credential", id=credential_id, **{f"sealed_{kind}": _sealed(kind) for kind in _SECRET_KINDS}
        )


def _place(credential_id: int, kind: str) -> str:
    return f"credential:{credential_id}:{kind}"


def _root(row: Row) -> DocumentRoot:
    return DocumentRoot(SitePath.parse(row["folder"]), row["address"])


_SECRET_KINDS = ("password", "private_key", "passphrase", "one_time_secret", "proxy_password")
_FLAGS = ("agent", "old_allowed", "passive", "fleeting", "in_place", "reads_back", "from_home", "guards_proposed")
_ELSEWHERE = ("id", "position", "credential_id", "opened_at", "document_roots", "guarded", "guards_proposed")


def _row_of(site: Site) -> dict[str, Any]:
    """A site's own columns, as the queries take them."""
    row = {one.name: getattr(site, one.name) for one in fields(Site) if one.name not in _ELSEWHERE}
    return row | {"start_here": site.start_here.raw, "start_there": site.start_there.raw}


def _site(row: Row, roots: tuple[DocumentRoot, ...], guarded: tuple[SitePath, ...]) -> Site:
    typed: dict[str, Any] = {
        "start_here": SitePath.parse(row["start_here"]),
        "start_there": SitePath.parse(row["start_there"]),
        "protocol": Protocol(row["protocol"]),
        "password_kept": PasswordKept(row["password_kept"]),
        **{flag: bool(row[flag]) for flag in _FLAGS},
    }
    return Site(**{**row, **typed}, document_roots=roots, guarded=guarded)


def _write_folders(work: Work, site_id: int, site: Site) -> None:
    work.many(
        "sites.add_document_root",
        [
            {"site_id": site_id, "position": position, "folder": root.folder.raw, "address": root.address}
            for position, root in enumerate(site.document_roots)
        ],
    )
    work.many("sites.add_guarded_folder", [{"site_id": site_id, "folder": folder.raw} for folder in site.guarded])
