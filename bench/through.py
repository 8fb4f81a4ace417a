"""The same work through Nailer's whole path: a stored site, a job in MariaDB, safe writes, verified, kept, receipts."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import AsyncIterator, Iterable
from dataclasses import dataclass
from pathlib import Path

from bench.servers import Server
from nailer.app import Nailer, join
from nailer.core.connecting.protocol import Protocol
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.states import JobState
from nailer.core.plans.plan import Answers, Choice
from nailer.errors import IdentityUnknown
from nailer.settings import Settings
from nailer.sides.identities.identity import Identity
from nailer.sides.side import walk
from nailer.store.mariadb import PrivateMariaDB
from nailer.store.sites import Secrets, Site


@dataclass
class Through:
    """A running Nailer whose folder here is `here`."""

    nailer: Nailer
    account_id: int
    here: Path

    async def site(self, server: Server, address: str, protocol: Protocol) -> Site:
        """A stored site for a server, its identity trusted."""
        there = SitePath() if protocol.traits.data_channels else SitePath.parse(str(server.root).encode())
        wanted = Site(
            id=0,
            name=f"{protocol} {address}",
            host=address,
            port=server.port,
            user_name=server.user,
            start_here=SitePath((b"bench",)),
            start_there=there,
            protocol=protocol,
            connections_most=9,
        )
        site = await self.nailer.stores.sites.add(wanted, Secrets(password=server.password))
        try:
            async with self.nailer.sites.pool.side(site.id):
                pass
        except IdentityUnknown as met:
            await self.nailer.stores.identities.pin(
                site.host,
                site.port,
                Identity(met.algorithm, met.fingerprint, met.public_key),
                trusted_by=None,
                how="bench",
            )
        await self.nailer.sites.pool.close_site(site.id)
        return site

    async def transfer(self, site: Site, to_side: SideName, names: Iterable[str]) -> float:
        """Seconds from the confirmed plan to the ended job, connecting included."""
        here, there = site.start_here, site.start_there
        source, target = (here, there) if to_side is SideName.THERE else (there, here)
        raw = [name.encode() for name in names]
        job_id = await self.nailer.plans.make.transfer(self.account_id, site, to_side, source, target, raw)
        await self.nailer.sites.pool.close_site(site.id)
        live = self.nailer.engine.live
        before = live.version
        started = time.perf_counter()
        await self.nailer.plans.make.carry_out(job_id, site, Answers(Choice.REPLACE, Choice.REPLACE))
        # As a page waits: asking the database time and again would be work of the measuring.
        async for _ in live.changes(at_most_every_s=0.02, heartbeat_s=1.0):
            if job_id in live.ended_since(before):
                break
        took_s = time.perf_counter() - started
        job = await self.nailer.stores.jobs.get(job_id)
        if job.state is not JobState.DONE:
            raise SystemExit(f"the job ended as {job.state}: {job.trouble}, {job.tally}")
        return took_s

    async def read_tree(self, site: Site, files: int) -> float:
        """Seconds to read a tree of so many files, connecting included."""
        await self.nailer.sites.pool.close_site(site.id)
        started, count = time.perf_counter(), 0
        async with self.nailer.sites.pool.side(site.id) as side:
            async for reading in walk(side, site.start_there):
                count += sum(entry.is_file for entry in reading.entries)
        took_s = time.perf_counter() - started
        if count != files:
            raise SystemExit(f"read {count} files instead of {files}")
        return took_s


@contextlib.asynccontextmanager
async def a_nailer(home: Path) -> AsyncIterator[Through]:
    here = home / "here" / "bench"
    here.mkdir(parents=True)
    database = PrivateMariaDB(home / "nailer")
    url = database.start()  # not in a thread: it lives as long as the thread that started it
    nailer = await asyncio.to_thread(
        join, Settings.model_validate({"home": home / "nailer", "roots": {"bench": here}}), url
    )
    await nailer.start()
    try:
        yield Through(nailer, await nailer.people.accounts.make("bench", "bench-and-count", is_admin=True), here)
    finally:
        await nailer.stop()
        await asyncio.to_thread(database.stop)
