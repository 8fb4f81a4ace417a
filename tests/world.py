"""A whole Nailer over a real database, with one site on a real SFTP server, for tests of services and engine."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator
from dataclasses import dataclass, replace
from pathlib import Path

from argon2 import PasswordHasher

from nailer.app import Nailer, join
from nailer.core.entry import SideName
from nailer.core.plan import Choice
from nailer.core.sitepath import DocumentRoot, SitePath
from nailer.core.states import ENDED
from nailer.settings import Settings
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
    host: SftpHost
    site: Site
    account_id: int
    here: Path
    there: Path

    async def plan(self, to_side: SideName, *names: str, resend_same: bool = False) -> int:
        source, target = (HERE, THERE) if to_side is SideName.THERE else (THERE, HERE)
        raw = [name.encode() for name in names]
        return await self.nailer.planning.carry(
            self.account_id, self.site, to_side, source, target, raw, resend_same=resend_same
        )

    async def carry(self, to_side: SideName, *names: str, choice: Choice = Choice.REPLACE) -> Job:
        """Plan, carry out, and wait for the end."""
        return await self.run(await self.plan(to_side, *names), choice)

    async def upload(self, *names: str, choice: Choice = Choice.REPLACE) -> Job:
        return await self.carry(SideName.THERE, *names, choice=choice)

    async def download(self, *names: str, choice: Choice = Choice.REPLACE) -> Job:
        return await self.carry(SideName.HERE, *names, choice=choice)

    async def remove(self, side: SideName, *names: str) -> Job:
        folder = HERE if side is SideName.HERE else THERE
        raw = [name.encode() for name in names]
        job_id = await self.nailer.planning.removal(self.account_id, self.site, side, folder, raw)
        return await self.run(job_id)

    async def run(self, job_id: int, choice: Choice = Choice.REPLACE) -> Job:
        await self.nailer.planning.carry_out(job_id, self.site, choice)
        return await self.ended(job_id)

    async def ended(self, job_id: int) -> Job:
        """The job once it has ended."""
        while True:
            job = await self.nailer.jobs.get(job_id)
            if job.state in ENDED:
                return job
            await asyncio.sleep(0.02)


def settings_for(tmp_path: Path, host: SftpHost | None = None) -> Settings:
    routes = {"ftp.mosslane.example:22": f"127.0.0.1:{host.port}"} if host else {}
    return Settings(home=tmp_path / "home", roots={"studio": tmp_path / "here"}, routes=routes)


@contextlib.asynccontextmanager
async def a_world(tmp_path: Path, database_url: str, *, run: bool = True) -> AsyncIterator[World]:
    """With `run` False nothing claims jobs, as after a stop."""
    here, root = tmp_path / "here" / "moss", tmp_path / "there"
    here.mkdir(parents=True, exist_ok=True)
    (root / "htdocs").mkdir(parents=True, exist_ok=True)
    host = SftpHost(root, "seedlib", "sow-and-reap")
    await host.start()
    nailer = await asyncio.to_thread(join, settings_for(tmp_path, host), database_url, hasher=LIGHT)
    if run:
        await nailer.start()
    try:
        sites = await nailer.sites.all()
        site = sites[0] if sites else await _add_site(nailer)
        await nailer.sites.pin(site.host, 22, shown_key(host), trusted_by=None, how="test")
        account = await nailer.accounts._store.by_name("maren")
        account_id = account.id if account else await nailer.accounts.make("maren", "a-long-password")
        yield World(nailer, host, site, account_id, here, root / "htdocs")
    finally:
        await nailer.stop()
        await host.stop()


async def _add_site(nailer: Nailer) -> Site:
    roots = (DocumentRoot(SitePath((b"htdocs",)), "https://mosslane.example/"),)
    site = replace(a_site(document_roots=roots), start_here=HERE, guarded=(path("/htdocs/mail"),))
    return await nailer.sites.add(site, Secrets(password="sow-and-reap"))
