"""Jobs: made, claimed once, counted, stopped."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from nailer.core.files.entry import SideName
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.states import JobState, JobWish
from nailer.core.plans.plan import Action, Answers, Verdict
from nailer.errors import Conflict, NotFound
from nailer.seal import Seal
from nailer.store.database import Database
from nailer.store.jobs import JobStore, NewItem, NewJob
from nailer.store.people.accounts import AccountStore
from nailer.store.running.claims import JobClaims
from nailer.store.sites import Secrets, SiteStore
from tests.builders import a_file, a_site, path

PASSWORD = "a very secret word"


@pytest.fixture
def sites(database: Database, tmp_path: Path) -> SiteStore:
    return SiteStore(database, Seal.at(tmp_path / "seal.key"))


async def a_job(
    database: Database, sites: SiteStore, count: int = 3, kind: JobKind = JobKind.TRANSFER
) -> tuple[JobStore, int]:
    account_id = await AccountStore(database).add("maren", "x")
    site = await sites.add(a_site(), Secrets(PASSWORD))
    jobs = JobStore(database)
    new = NewJob(account_id, site.id, kind, "Upload", SideName.THERE, path("/studio/moss"), path("/htdocs"))
    items = [
        NewItem(Action.TRANSFER, Verdict.NEW, "new", path(f"/studio/moss/{n}"), path(f"/htdocs/{n}"), a_file(str(n), n))
        for n in range(count)
    ]
    return jobs, await jobs.add(new, items)


async def test_a_plan_is_not_claimed_before_it_is_confirmed(database: Database, sites: SiteStore) -> None:
    jobs, job_id = await a_job(database, sites)

    assert await JobClaims(database).claim("one", lease_s=60) is None
    await jobs.confirm(job_id, Answers(), {})

    assert await JobClaims(database).claim("one", lease_s=60) == job_id
    with pytest.raises(Conflict):
        await jobs.confirm(job_id, Answers(), {})


async def test_a_confirmed_drop_waits_for_its_page_and_not_for_a_runner(database: Database, sites: SiteStore) -> None:
    """A runner that looked between the confirmation and the page's first word ended the job as given up."""
    jobs, job_id = await a_job(database, sites, kind=JobKind.DROP)
    await jobs.confirm(job_id, Answers(), {})

    assert await JobClaims(database).claim("a runner", lease_s=60) is None
    await JobClaims(database).take(job_id, "the page", lease_s=-1)
    with pytest.raises(Conflict):
        await JobClaims(database).take(job_id, "a second page", lease_s=60)

    assert await JobClaims(database).claim("a runner", lease_s=60) == job_id, (
        "a page that has gone leaves the job to a runner"
    )


async def test_of_many_claimers_one_gets_the_job(database: Database, sites: SiteStore) -> None:
    jobs, job_id = await a_job(database, sites)
    await jobs.confirm(job_id, Answers(), {})

    claims = await asyncio.gather(*(JobClaims(database).claim(f"runner {n}", lease_s=60) for n in range(8)))

    assert sorted(claims, key=str) == sorted([job_id] + [None] * 7, key=str)


async def test_a_lease_that_ran_out_is_claimed_anew(database: Database, sites: SiteStore) -> None:
    jobs, job_id = await a_job(database, sites)
    await jobs.confirm(job_id, Answers(), {})
    await JobClaims(database).claim("dead", lease_s=-1)

    assert await JobClaims(database).claim("alive", lease_s=60) == job_id
    assert await JobClaims(database).renew(job_id, "dead", lease_s=60) is None, (
        "the dead one must hear that it lost the job"
    )
    assert await JobClaims(database).renew(job_id, "alive", lease_s=60) is JobWish.GO_ON


async def test_counts_come_from_the_items(database: Database, sites: SiteStore) -> None:
    jobs, job_id = await a_job(database, sites, count=2500)

    tally = (await jobs.get(job_id)).tally

    assert (tally.planned.files, tally.planned.size) == (2500, sum(range(2500)))
    assert len(await jobs.items(job_id, after=2000, limit=1000)) == 499


async def test_a_plan_never_carried_out_is_forgotten(database: Database, sites: SiteStore) -> None:
    jobs, job_id = await a_job(database, sites)

    await jobs.forget_old_plans(hours=-1)

    with pytest.raises(NotFound):
        await jobs.get(job_id)


@pytest.mark.parametrize("state", [JobState.WAITING, JobState.PLANNED])
async def test_stopping_what_never_began(database: Database, sites: SiteStore, state: JobState) -> None:
    jobs, job_id = await a_job(database, sites)
    if state is JobState.PLANNED:
        with pytest.raises(Conflict):
            await jobs.want_stop(job_id)
        return
    await jobs.confirm(job_id, Answers(), {})

    assert (await jobs.want_stop(job_id)).state is JobState.STOPPED
    assert await JobClaims(database).claim("one", lease_s=60) is None
