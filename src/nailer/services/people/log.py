"""Writing down who did what, under the names of that time, and reading it."""

from __future__ import annotations

from collections.abc import Coroutine
from datetime import timedelta
from enum import StrEnum

from nailer.acting import Acting, acting
from nailer.core.people.rights import Person
from nailer.engine.tasks import Background
from nailer.store.database import utc_now
from nailer.store.people.log import LogEntry, LogStore
from nailer.store.sites import Site


class Did(StrEnum):
    """Kinds of things that are written down."""

    SIGNED_IN = "signed in"
    REFUSED = "failed to sign in"
    SIGNED_OUT = "signed out"
    INVITED = "invited"
    ACCOUNT = "changed an account"
    RIGHTS = "changed rights"
    SETTINGS = "changed settings"
    TRUSTED = "trusted a server identity"
    CHANGED = "changed files"
    OTHER = "other"


class Log:
    """The log of this Nailer. `keep_days` is how long entries are kept."""

    def __init__(self, store: LogStore, keep_days: int) -> None:
        self._store = store
        self._keep_days = keep_days
        self._tasks = Background()

    async def begin(self) -> None:
        """Forget what is older than it is to be kept."""
        await self._store.forget(utc_now() - timedelta(days=self._keep_days))

    async def add(self, kind: Did, said: str, *, site: Site | None = None, who: Acting | None = None) -> None:
        """Write down what whoever acts does, or somebody else."""
        one = who or acting() or Acting(Person(0, "Nailer"))
        await self._store.add(
            account_id=one.person.account_id or None,
            person=one.person.name,
            program=one.program,
            address=one.address,
            kind=kind,
            site_id=site.id if site is not None else None,
            site=site.name if site is not None else "",
            said=said,
        )

    def soon(self, writing: Coroutine[None, None, None]) -> None:
        """Write something down that need not be waited for."""
        self._tasks.begin(writing)

    async def close(self) -> None:
        """Wait for what is being written down."""
        await self._tasks.all_ended()

    async def latest(self, *, before: int, wanted: str, limit: int) -> list[LogEntry]:
        """Entries, newest first."""
        return await self._store.latest(before=before, wanted=wanted, limit=limit)
