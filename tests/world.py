"""A whole Nailer over a real database, with one site on a real SFTP server, for tests of services and engine."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any
from typing import Protocol as Interface

from argon2 import PasswordHasher

from nailer.app import Nailer, join
from nailer.core.connecting.protocol import Protocol
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.jobs.states import ENDED
from nailer.core.plans.plan import Answers, Choice
from nailer.settings import Settings
from nailer.sides.identities.identity import Identity
from nailer.standins.sftp import SftpHost
from nailer.store.jobs import Job
from nailer.store.sites import Secrets, Site
from tests.builders import a_site, path
from tests.contracts.sides import shown_key

# As light as Argon2 gets: tests sign in often.
LIGHT = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
HERE, THERE = path("/studio/moss"), path("/htdocs")


@dataclass
class World:
    """`here` and `there` are the two folders of the pair on this machine's disk."""

    nailer: Nailer
    host: Any
    site: Site
    account_id: int
    here: Path
    there: Path

    @property
    def top(self) -> SitePath:
        """The start folder there."""
        return self.site.start_there

    async def plan(self, to_side: SideName, *names: str, resend_same: bool = False) -> int:
        source, target = (HERE, self.top) if to_side is SideName.THERE else (self.top, HERE)
        raw = [name.encode() for name in names]
        return await self.nailer.plans.make.transfer(
            self.account_id, self.site, to_side, source, target, raw, resend_same=resend_same
        )

    async def transfer(self, to_side: SideName, *names: str, choice: Choice = Choice.REPLACE) -> Job:
        """Plan, carry out, and wait for the end."""
        return await self.run(await self.plan(to_side, *names), choice)

    async def upload(self, *names: str, choice: Choice = Choice.REPLACE) -> Job:
        return await self.transfer(SideName.THERE, *names, choice=choice)

    async def download(self, *names: str, choice: Choice = Choice.REPLACE) -> Job:
        return await self.transfer(SideName.HERE, *names, choice=choice)

    async def remove(self, side: SideName, *names: str) -> Job:
        folder = HERE if side is SideName.HERE else self.top
        raw = [name.encode() for name in names]
        job_id = await self.nailer.plans.make.removal(self.account_id, self.site, side, folder, raw)
        return await self.run(job_id)

    async def remove_there(self, *names: str) -> Job:
        return await self.remove(SideName.THERE, *names)

    async def planned_up(self, *names: str) -> int:
        """Plan an upload and let it be carried out; return its job without waiting."""
        job_id = await self.plan(SideName.THERE, *names)
        await self.nailer.plans.make.carry_out(job_id, self.site, Answers())
        return job_id

    async def run(self, job_id: int, choice: Choice = Choice.REPLACE) -> Job:
        await self.nailer.plans.make.carry_out(job_id, self.site, Answers(choice, choice))
        return await self.ended(job_id)

    async def ended(self, job_id: int) -> Job:
        """The job once it has ended, in the database and for whoever listens."""
        while True:
            job = await self.nailer.stores.jobs.get(job_id)
            if job.state in ENDED and job_id not in self.nailer.engine.live.jobs:
                return job
            await asyncio.sleep(0.02)


class Host(Interface):
    """A server that a world can be about: a stand-in, a scripted one, or a real one."""

    port: int


def settings_for(tmp_path: Path, host: Host | None = None) -> Settings:
    routes = {f"ftp.mosslane.example:{port}": f"127.0.0.1:{host.port}" for port in (21, 22, 990)} if host else {}
    return Settings(hosts=["testserver"], home=tmp_path / "home", roots={"studio": tmp_path / "here"}, routes=routes)


@contextlib.asynccontextmanager
async def a_world(tmp_path: Path, database_url: str, *, run: bool = True) -> AsyncIterator[World]:
    """With `run` False nothing claims jobs, as after a stop."""
    here, root = tmp_path / "here" / "moss", tmp_path / "there"
    here.mkdir(parents=True, exist_ok=True)
    (root / "htdocs").mkdir(parents=True, exist_ok=True)
    host = SftpHost(root, "seedlib", "sow-and-reap")
    await host.start()
    try:
        async with a_world_on(host, tmp_path, database_url, root / "htdocs", identity=shown_key(host), run=run) as made:
            yield made
    finally:
        await host.stop()


@contextlib.asynccontextmanager
async def a_world_on(
    host: Host,
    tmp_path: Path,
    database_url: str,
    there: Path,
    *,
    identity: Identity | None = None,
    protocol: Protocol = Protocol.SFTP,
    start_there: SitePath = THERE,
    run: bool = True,
    **site: Any,
) -> AsyncIterator[World]:
    """A Nailer with one site on a server that runs already. `there` is its start folder on this machine's disk."""
    here = tmp_path / "here" / "moss"
    here.mkdir(parents=True, exist_ok=True)
    nailer = await asyncio.to_thread(join, settings_for(tmp_path, host), database_url, hasher=LIGHT)
    await asyncio.to_thread(nailer.stores.database.migrate)
    sites = await nailer.stores.sites.all()
    wanted = {"protocol": protocol, "port": protocol.port, "start_there": start_there} | site
    one = sites[0] if sites else await _add_site(nailer, **wanted)
    if identity is not None and identity.public_key:
        # Before anything runs: what goes on by itself after a start must not meet a key that is not known yet.
        await nailer.stores.identities.pin(one.host, one.port, identity, trusted_by=None, how="test")
    if run:
        await nailer.start()
    try:
        account = await nailer.people.accounts._store.by_name("maren")
        account_id = (
            account.id if account else await nailer.people.accounts.make("maren", "a-long-password", is_admin=True)
        )
        yield World(nailer, host, one, account_id, here, there)
    finally:
        await nailer.stop()


async def _add_site(nailer: Nailer, **values: Any) -> Site:
    start: SitePath = values["start_there"]
    roots = (DocumentRoot(start, "https://mosslane.example/"),)
    site = replace(a_site(document_roots=roots), start_here=HERE, guarded=(start.child(b"mail"),), **values)
    return await nailer.stores.sites.add(site, Secrets(password="sow-and-reap"))
