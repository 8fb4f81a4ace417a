"""Job rows: what storing a plan costs beside the bare statements."""

from __future__ import annotations

import asyncio
import time

from bench.through import Through
from nailer.core.files.entry import NS, Entry, Kind, SideName, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.core.jobs.kinds import JobKind
from nailer.core.plans.plan import Action, Verdict
from nailer.store.jobs import NewItem, NewJob, _item_row
from nailer.store.sites import Secrets, Site

_AT_ONCE = 2_000


def _items(count: int) -> list[NewItem]:
    stamp = Stamp(1_700_000_000 * NS, NS)
    return [
        NewItem(
            Action.TRANSFER,
            Verdict.NEW,
            "new",
            SitePath((b"bench", b"part", b"leaf-%d.txt" % number)),
            SitePath((b"there", b"part", b"leaf-%d.txt" % number)),
            Entry(b"leaf-%d.txt" % number, Kind.FILE, 4_000, stamp, 0o644),
        )
        for number in range(count)
    ]


async def _job(through: Through) -> NewJob:
    sites = await through.nailer.stores.sites.all()
    wanted = Site(0, "rows", "rows.example", 22, "bench", SitePath((b"bench",)), SitePath())
    site = next((one for one in sites if one.name == "rows"), None) or await through.nailer.stores.sites.add(
        wanted, Secrets()
    )
    folder = SitePath((b"bench",))
    return NewJob(through.account_id, site.id, JobKind.TRANSFER, "rows", SideName.THERE, folder, folder)


async def ours(through: Through, count: int) -> float:
    """Seconds to store the plan of a job."""
    job, items = await _job(through), _items(count)
    started = time.perf_counter()
    job_id = await through.nailer.stores.jobs.add(job, items)
    took_s = time.perf_counter() - started
    await through.nailer.stores.jobs.discard(job_id)
    return took_s


async def plain(through: Through, count: int) -> float:
    """Seconds of the bare statements."""
    job_id = await through.nailer.stores.jobs.add(await _job(through), [])
    rows = [_item_row(job_id, number, item) for number, item in enumerate(_items(count))]
    sql = through.nailer.stores.database.queries["items.add"].sql

    def insert() -> float:
        with through.nailer.stores.database._connection() as connection, connection.cursor() as cursor:
            started = time.perf_counter()
            for at in range(0, count, _AT_ONCE):
                cursor.executemany(sql, rows[at : at + _AT_ONCE])
            connection.commit()
            return time.perf_counter() - started

    took_s = await asyncio.to_thread(insert)
    await through.nailer.stores.jobs.discard(job_id)
    return took_s
