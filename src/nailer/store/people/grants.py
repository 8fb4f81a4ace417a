"""What each person has of each site."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.core.files.sitepath import SitePath
from nailer.core.people.rights import Grant, Person, Right, rights_of
from nailer.errors import NotFound
from nailer.store.database import Database, Row, Work


@dataclass(frozen=True, slots=True)
class Granted:
    """A person's part of a site, with both their names."""

    account_id: int
    person: str
    site_id: int
    site: str
    grant: Grant


class GrantStore:
    def __init__(self, database: Database) -> None:
        self._db = database
        # Counts the changes of grants that this process made: whoever holds an older one reads anew.
        self.version = 0

    async def person(self, account_id: int) -> Person:
        """Somebody with everything they may do. Raises NotFound, also for somebody who is switched off."""

        def _read(work: Work) -> Person:
            row = work.one("accounts.by_id", id=account_id)
            if row is None or row["is_off"]:
                raise NotFound("This account does not exist or is deactivated.")
            rows = work.rows("grants.of_account", account_id=account_id)
            return Person(account_id, row["name"], bool(row["is_admin"]), {one["site_id"]: _grant(one) for one in rows})

        return await self._db.read(_read)

    async def all(self) -> list[Granted]:
        """Every grant there is, by person and site."""
        rows = await self._db.read(lambda work: work.rows("grants.all"))
        return [Granted(row["account_id"], row["person"], row["site_id"], row["site"], _grant(row)) for row in rows]

    async def give(self, account_id: int, site_id: int, grant: Grant) -> None:
        """Give a person a site, or another part of it."""
        values = row_of(site_id, grant) | {"account_id": account_id}
        await self._db.write(lambda work: work.run("grants.give", **values))
        self.version += 1

    async def take(self, account_id: int, site_id: int) -> None:
        """Take a site from a person."""
        await self._db.write(lambda work: work.run("grants.take", account_id=account_id, site_id=site_id))
        self.version += 1


def row_of(site_id: int, grant: Grant) -> Row:
    """A grant as the database has it."""
    return {
        "site_id": site_id,
        "rights": ",".join(sorted(grant.rights)),
        "folder_there": grant.folder_there.raw if grant.folder_there is not None else None,
        "folder_here": grant.folder_here.raw if grant.folder_here is not None else None,
    }


def _grant(row: Row) -> Grant:
    rights = rights_of(row["rights"].split(","))
    if row["folder_there"] is None:
        return whole_site(rights, SitePath.parse(row["start_here"]))
    here = SitePath.parse(row["folder_here"]) if row["folder_here"] is not None else None
    return Grant(rights, SitePath.parse(row["folder_there"]), here)


def whole_site(rights: frozenset[Right], start_here: SitePath) -> Grant:
    """A whole site, with the folder here that belongs to it; where that is not said, with none."""
    return Grant(rights, None, None if start_here.is_root else start_here)
