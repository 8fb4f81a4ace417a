"""Long work: one owner under a lease, an end that only the owner writes, nothing that goes on unseen or is done twice."""

from __future__ import annotations

import asyncio
import socket
import threading
from collections.abc import AsyncIterator, Callable
from dataclasses import dataclass, field

import pytest

from nailer.core.work.kinds import CutBy, CutShort, WorkKind
from nailer.engine.work import RunningWork, Supplied, WorkRunner
from nailer.errors import Conflict, LeaseLost, NailerError, NotFound, StoreUnavailable, UnderWay
from nailer.store.database import Work
from nailer.store.running.works import Change, StoredWork
from tests.world import World

KIND = WorkKind.COPY  # one that a site has one of, and that does not resume
RESUMES = WorkKind.REPLACEMENT


@dataclass
class Bench:
    """A runner of its own beside the world's, with steps that wait until they are told to go on."""

    world: World
    runner: WorkRunner
    go_on: asyncio.Event = field(default_factory=asyncio.Event)
    begun: list[int] = field(default_factory=list)
    ends: list[str] = field(default_factory=list)
    steps: Callable[[RunningWork], Change] | None = None

    async def _steps(self, work: RunningWork) -> Change:
        self.begun.append(work.row.claims)
        await self.go_on.wait()
        return self.steps(work) if self.steps is not None else self._said("done")

    def _broken(self, row: StoredWork, broken: CutShort) -> Change:
        return self._said(f"{broken.by}: {broken.words}")

    def _said(self, words: str) -> Change:
        return lambda _: self.ends.append(words)

    async def begin(self, kind: WorkKind = KIND, subject: int = 7) -> int:
        return await self.runner.begin(kind, self.world.site.id, self.world.account_id, lambda _: subject)


async def a_bench(world: World) -> Bench:
    await world.nailer.engine.work.stop()
    bench = Bench(world, WorkRunner(world.nailer.stores.works, world.nailer.stores.grants))
    for kind in (KIND, RESUMES):
        bench.runner.supply(kind, Supplied(bench._steps, bench._broken))
    return bench


@pytest.fixture
async def bench(world: World) -> AsyncIterator[Bench]:
    made = await a_bench(world)
    yield made
    await made.runner.stop()


async def test_work_ends_once_and_is_under_way_until_then(bench: Bench) -> None:
    await bench.begin()
    with pytest.raises(UnderWay, match="already being created"):
        await bench.begin(subject=8)
    assert bench.runner.is_on(KIND, bench.world.site.id)
    bench.go_on.set()
    await bench.runner.ended(KIND, 7)
    assert (bench.ends, bench.begun) == (["done"], [1])
    assert await bench.world.nailer.stores.works.get(KIND, 7) is None
    assert await bench.begin(subject=8) == 8


async def test_what_is_refused_while_it_begins_leaves_nothing(bench: Bench) -> None:
    def _refused(_: Work) -> int:
        raise Conflict("no")

    with pytest.raises(Conflict):
        await bench.runner.begin(KIND, bench.world.site.id, bench.world.account_id, _refused)
    assert await bench.world.nailer.stores.works.all_on(KIND, bench.world.site.id) == []


async def test_it_is_stopped_before_its_first_step(bench: Bench) -> None:
    await bench.begin()
    await bench.runner.end(KIND, 7)
    assert (bench.ends, bench.begun) == (["person: It was stopped."], [])


@pytest.mark.parametrize(
    ("error", "said"),
    [
        (NailerError("The disk is full."), "failure: The disk is full."),
        (ValueError("ours"), "failure: It failed because of an error in Nailer. Details are in Nailer's log."),
    ],
)
async def test_what_fails_says_so(bench: Bench, error: Exception, said: str) -> None:
    def _fails(_: RunningWork) -> Change:
        raise error

    bench.steps = _fails
    bench.go_on.set()
    await bench.begin()
    await bench.runner.ended(KIND, 7)
    assert bench.ends == [said]


async def test_an_end_that_is_refused_where_it_is_written_is_a_failure(bench: Bench) -> None:
    """A look in the transaction of the end finds otherwise: nothing is called done by it."""

    def _end(_: Work) -> None:
        raise Conflict("A content is no longer kept.")

    bench.steps = lambda _: _end
    bench.go_on.set()
    await bench.begin()
    await bench.runner.ended(KIND, 7)
    assert bench.ends == ["failure: A content is no longer kept."]


@pytest.mark.parametrize(("kind", "says"), [(KIND, ["restart: Nailer was stopped before it finished."]), (RESUMES, [])])
async def test_a_start_goes_on_with_what_resumes_and_ends_what_does_not(
    bench: Bench, kind: WorkKind, says: list[str]
) -> None:
    await bench.begin(kind)
    await asyncio.sleep(0.05)
    await bench.runner.stop()
    assert bench.ends == says
    await bench.runner.start()
    bench.go_on.set()
    await bench.runner.ended(kind, 7)
    assert bench.ends == (says or ["done"])
    assert bench.begun == ([1] if says else [1, 2])
    await bench.runner.stop()


async def test_of_two_runners_one_does_it_and_the_other_leaves_it_alone(bench: Bench) -> None:
    """A second Nailer on the database, or a second start: whose something is is asked before it is touched."""
    other = await a_bench(bench.world)
    await bench.begin()
    await other.runner.start()
    assert (other.begun, other.ends) == ([], [])
    with pytest.raises(UnderWay):
        await other.begin(subject=8)
    ended = asyncio.create_task(other.runner.end(KIND, 7))  # it is asked to stop where it runs
    await asyncio.sleep(0.1)
    await bench.runner._look()
    async with asyncio.timeout(10):
        await ended
    assert (bench.ends, other.ends) == (["person: It was stopped."], [])
    await other.runner.stop()


async def test_whose_lease_ran_out_writes_nothing_more(bench: Bench) -> None:
    """A machine that slept: another has gone on, so what this one knows is old."""
    other = await a_bench(bench.world)
    await bench.begin(RESUMES)
    await asyncio.sleep(0.05)
    with bench.world.nailer.stores.database.writing() as work:
        work._cursor.execute("UPDATE works SET lease_until = '2000-01-01'")
    await other.runner.start()
    assert other.begun == [], "it has only just begun"
    await asyncio.sleep(0.05)
    assert other.begun == [2]
    held = next(iter(bench.runner._mine.values()))
    bench.go_on.set()
    await held.ended.wait()
    assert bench.ends == [], "its end is not its own any more"
    other.go_on.set()
    await other.runner.ended(RESUMES, 7)
    assert other.ends == ["done"]
    await other.runner.stop()


async def test_a_change_is_not_made_without_a_lease(bench: Bench) -> None:
    await bench.begin(RESUMES)
    one = next(iter(bench.runner._mine.values()))
    one.hold()
    one.held_until_s = 0.0
    with pytest.raises(LeaseLost):
        one.hold()
    await bench.runner.stop()


async def test_what_was_stored_and_not_begun_is_begun(bench: Bench) -> None:
    """Whoever began it was cancelled between its transaction and its first step."""
    store = bench.world.nailer.stores.works
    await store.add(
        KIND,
        bench.world.site.id,
        bench.world.account_id,
        lambda _: 7,
        owner=bench.runner.owner,
        lease_s=20.0,
        alone=True,
        busy="",
    )
    bench.go_on.set()
    await bench.runner._look()
    await bench.runner.ended(KIND, 7)
    assert bench.ends == ["done"]


async def test_a_person_who_is_gone_begins_nothing(bench: Bench) -> None:
    await bench.runner.begin(KIND, bench.world.site.id, None, lambda _: 7)
    await bench.runner.ended(KIND, 7)
    assert bench.ends == [f"{CutBy.FAILURE}: The person who began this no longer has an account."]


async def test_what_another_machine_holds_is_not_taken_from_it(bench: Bench) -> None:
    """Whether its process lives nobody here can know: its lease runs out, or it does not."""
    store = bench.world.nailer.stores.works
    for number, owner in enumerate(["another-machine:999999:x", f"{socket.gethostname()[:30]}:999999:x"], 1):
        await store.add(
            RESUMES,
            bench.world.site.id,
            bench.world.account_id,
            lambda _, number=number: number,  # type: ignore[misc]
            owner=owner,
            lease_s=60.0,
            alone=False,
            busy="",
        )
    bench.go_on.set()
    await bench.runner.start()
    await bench.runner.ended(RESUMES, 2)
    assert bench.ends == ["done"], "the process of this machine is gone, so its work is taken up"
    held = await store.get(RESUMES, 1)
    assert held is not None
    assert held.owner == "another-machine:999999:x"


async def test_work_whose_subject_is_gone_ends_for_good(bench: Bench) -> None:
    """Somebody deleted what it was about: no end fits, and nothing begins it again every few seconds."""

    def _gone(_: Work) -> None:
        raise NotFound("This copy does not exist.")

    bench.steps = lambda _: _gone
    bench.runner.supply(KIND, Supplied(bench._steps, lambda *_: _gone))
    bench.go_on.set()
    await bench.begin()
    await bench.runner.ended(KIND, 7)
    assert await bench.world.nailer.stores.works.get(KIND, 7) is None
    await bench.runner._look()
    assert bench.begun == [1]


async def test_an_end_that_is_being_written_is_written_once_though_all_stops(bench: Bench) -> None:
    writing, go_on = threading.Event(), threading.Event()

    def _end(_: Work) -> None:
        writing.set()
        go_on.wait(10)
        bench.ends.append("done")

    bench.steps = lambda _: _end
    bench.go_on.set()
    await bench.begin()
    await asyncio.to_thread(writing.wait, 10)
    stopped = asyncio.create_task(bench.runner.stop())
    await asyncio.sleep(0.1)
    go_on.set()
    await stopped
    assert bench.ends == ["done"]


async def test_what_could_not_be_written_as_ended_counts_as_interrupted(bench: Bench) -> None:
    """The database was away for so long: what does not resume is not begun a second time from nothing."""
    write = WorkRunner._write

    async def _away(*_: object) -> None:
        raise StoreUnavailable("away")

    bench.go_on.set()
    with pytest.MonkeyPatch.context() as away:
        away.setattr(WorkRunner, "_write", _away)
        await bench.begin()
        await next(iter(bench.runner._mine.values())).ended.wait()
    assert WorkRunner._write is write
    await bench.runner._look()
    await bench.runner.ended(KIND, 7)
    assert (bench.begun, bench.ends) == ([1], ["restart: Nailer was stopped before it finished."])
