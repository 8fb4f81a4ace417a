"""Pairs of folders, what was seen below them last, and the runs that brought them into sync."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime

from nailer.acting import reaches_pair
from nailer.core.compare.joint import Compare
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath
from nailer.core.pairs.runs import RunState
from nailer.core.pairs.standing import Rolled
from nailer.core.pairs.steps import Flow
from nailer.core.pairs.wishes import Direction, Removals, SyncWish
from nailer.errors import Conflict, NotFound
from nailer.store.changes import pair_key
from nailer.store.database import Database, Row, Work, utc_now


@dataclass(frozen=True, slots=True)
class Pair:
    """A folder here bound to a folder there. `other_site_id` is the site that plays here in a pair of two sites. `sends`:
    each save here goes up by itself once nothing has changed for `send_after_s` seconds."""

    id: int
    site_id: int
    other_site_id: int | None
    name: str
    here: SitePath
    there: SitePath
    wish: SyncWish
    compare: Compare
    sends: bool
    send_after_s: int
    sends_account: int | None
    read_at: datetime | None
    level_at: datetime | None
    unsent: int | None
    site_name: str
    other_name: str | None

    def key(self, folder: RelativePath) -> bytes:
        """What names the baseline of one of its folders."""
        return pair_key(self.here.join(folder), self.there.join(folder), self.other_site_id)

    @property
    def here_word(self) -> str:
        """What its first end is called: here, or the other site."""
        return self.other_name or "here"


@dataclass(frozen=True, slots=True)
class Run:
    """One carrying out of a plan. `told` are sentences on what it left, and why. `not_read` is how many folders could not be
    read, or not whole: nothing is known to be level in them."""

    id: int
    pair_id: int
    account_id: int
    account_name: str
    timer_id: int | None
    timer_name: str | None
    wish: SyncWish
    compare: Compare
    state: RunState
    there_job: int | None
    here_job: int | None
    flow: Flow
    told: tuple[str, ...]
    not_read: int
    started_at: datetime
    ended_at: datetime | None

    @property
    def jobs(self) -> tuple[int, ...]:
        """The jobs of the run, there first."""
        return tuple(job for job in (self.there_job, self.here_job) if job is not None)


# Stores a job, given the id of its run and that of the job it is to wait for.
Storing = Callable[[int, int | None], Callable[[Work], int]]


@dataclass(frozen=True, slots=True)
class NewRun:
    pair_id: int
    account_id: int
    timer_id: int | None
    wish: SyncWish
    compare: Compare
    flow: Flow
    told: tuple[str, ...]
    not_read: int = 0


def _reached(pair: Pair) -> bool:
    return reaches_pair(pair.site_id, pair.here, pair.there, pair.other_site_id)


class PairStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def add(
        self,
        site_id: int,
        here: SitePath,
        there: SitePath,
        name: str,
        *,
        other_site_id: int | None = None,
        wish: SyncWish | None = None,
    ) -> Pair:
        """The pair of these two folders; made where there is none yet."""
        wanted = wish or SyncWish()
        values = {
            "site_id": site_id,
            "other_site_id": other_site_id,
            "name": name[:120],
            "here": here.raw,
            "there": there.raw,
            "place": pair_key(here, there, other_site_id),
            "direction": wanted.direction,
            "removals": wanted.removals,
            "compare": Compare.SIZE_AND_TIME,
        }
        return await self.get(await self._db.write(lambda work: work.insert("pairs.add", **values)))

    async def get(self, pair_id: int) -> Pair:
        """Raises NotFound."""
        row = await self._db.read(lambda work: work.one("pairs.by_id", id=pair_id))
        if row is None or not _reached(found := _pair(row)):
            raise NotFound("This pair no longer exists.")
        return found

    async def of_site(self, site_id: int) -> list[Pair]:
        """The pairs of a site."""
        rows = await self._db.read(lambda work: work.rows("pairs.of_site", site_id=site_id))
        return [one for one in map(_pair, rows) if _reached(one)]

    async def all(self) -> list[Pair]:
        """The pairs of all sites, as far as whoever acts reaches."""
        rows = await self._db.read(lambda work: work.rows("pairs.all"))
        return [one for one in map(_pair, rows) if _reached(one)]

    async def set_wish(self, pair_id: int, wish: SyncWish, compare: Compare) -> None:
        """How the pair was brought into sync last is what it begins with next."""
        values = {"id": pair_id, "direction": wish.direction, "removals": wish.removals, "compare": compare}
        await self._db.write(lambda work: work.run("pairs.set_wish", **values))

    async def set_sending(self, pair_id: int, account_id: int, *, sends: bool, send_after_s: int) -> None:
        """Whether saves here go up by themselves, as jobs of whom."""
        values = {"id": pair_id, "account_id": account_id, "sends": sends, "send_after_s": send_after_s}
        await self._db.write(lambda work: work.run("pairs.set_sending", **values))

    async def set_read(self, pair_id: int, folders: Mapping[RelativePath, Rolled]) -> None:
        """What stands below each folder, as it was read now."""
        text = json.dumps(
            {SitePath(below).token: [one.ups, one.downs, one.clashes, one.unread] for below, one in folders.items()}
        )
        await self._db.write(lambda work: work.run("pairs.set_read", id=pair_id, read_at=utc_now(), folders=text))

    async def folders(self, pair_id: int) -> tuple[dict[SitePath, Rolled], datetime | None]:
        """What stood below each folder that held a difference at the last reading, by its path below the top (`/` is the
        top itself), and when that was; None where the pair was never read."""
        row = await self._db.read(lambda work: work.one("pairs.folders", id=pair_id))
        if row is None or row["read_at"] is None:
            return {}, None
        counts = json.loads(row["folders"] or "{}")
        return {SitePath.of_token(token): Rolled(*numbers) for token, numbers in counts.items()}, row["read_at"]

    async def set_level(self, pair_id: int) -> None:
        """The pair is level now."""
        await self._db.write(lambda work: work.run("pairs.set_level", id=pair_id, level_at=utc_now()))

    async def set_unsent(self, pair_id: int, unsent: int | None) -> None:
        """How many names wait here to be sent; None: not counted."""
        await self._db.write(lambda work: work.run("pairs.set_unsent", id=pair_id, unsent=unsent))

    async def remove(self, pair_id: int) -> None:
        """Forget a pair with its runs and timers; the files and the baseline of its folders stay."""
        await self._db.write(lambda work: work.run("pairs.remove", id=pair_id))

    async def sieves(self, pair_id: int) -> set[int]:
        """The sieves that this pair has picked, beside those that hold everywhere."""
        rows = await self._db.read(lambda work: work.rows("pairs.sieves", pair_id=pair_id))
        return {row["sieve_id"] for row in rows}

    async def pick_sieves(self, pair_id: int, sieves: Sequence[int]) -> None:
        """The sieves that a pair picks, in place of those before."""

        def _change(work: Work) -> None:
            work.run("pairs.drop_sieves", pair_id=pair_id)
            for sieve_id in sieves:
                work.run("pairs.pick_sieve", pair_id=pair_id, sieve_id=sieve_id)

        await self._db.write(_change)

    async def begin(self, run: NewRun, there: Storing | None, here: Storing | None) -> int:
        """Store a run with its jobs, all or nothing: `there` and `here` store the job of an end, where it has one. Raises
        Conflict where another run of the pair is under way."""

        def _change(work: Work) -> int:
            if work.one("runs.lock_pair", pair_id=run.pair_id) is None:
                raise NotFound("This pair no longer exists.")
            if work.value("runs.running_of_pair", pair_id=run.pair_id):
                raise Conflict("A sync of this pair is already running. Wait until it has finished.")
            run_id = work.insert("runs.add", **_run_row(run, RunState.RUNNING))
            there_job = there(run_id, None)(work) if there else None
            here_job = here(run_id, there_job)(work) if here else None
            work.run("runs.set_jobs", id=run_id, there_job=there_job, here_job=here_job)
            return run_id

        return await self._db.write(_change)

    async def record(self, run: NewRun, state: RunState) -> int:
        """Store a run that has no job: nothing was to be done, or it waits for a person."""
        row = _run_row(run, state) | {"ended_at": utc_now()}
        return await self._db.write(lambda work: work.insert("runs.add", **row))

    async def run(self, run_id: int) -> Run:
        """Raises NotFound."""
        row = await self._db.read(lambda work: work.one("runs.by_id", id=run_id))
        if row is None:
            raise NotFound("This run no longer exists.")
        run = _run(row)
        await self.get(run.pair_id)  # a run is as far away as its pair
        return run

    async def runs(self, pair_id: int, limit: int = 20) -> list[Run]:
        """The runs of a pair, newest first."""
        rows = await self._db.read(lambda work: work.rows("runs.of_pair", pair_id=pair_id, limit=limit))
        return [_run(row) for row in rows]

    async def runs_of_timer(self, timer_id: int, limit: int = 10) -> list[Run]:
        """The runs of a timer, newest first."""
        rows = await self._db.read(lambda work: work.rows("runs.of_timer", timer_id=timer_id, limit=limit))
        return [_run(row) for row in rows]

    async def running(self) -> list[Run]:
        """Runs that were not seen to end."""
        return [_run(row) for row in await self._db.read(lambda work: work.rows("runs.running"))]

    async def set_state(self, run_id: int, state: RunState) -> None:
        """How a run stands now; with that it ends, or runs again."""
        ended_at = None if state is RunState.RUNNING else utc_now()
        await self._db.write(lambda work: work.run("runs.set_state", id=run_id, state=state, ended_at=ended_at))


def _pair(row: Row) -> Pair:
    return Pair(
        id=row["id"],
        site_id=row["site_id"],
        other_site_id=row["other_site_id"],
        name=row["name"],
        here=SitePath.parse(row["here"]),
        there=SitePath.parse(row["there"]),
        wish=SyncWish(Direction(row["direction"]), Removals(row["removals"])),
        compare=Compare(row["compare"]),
        sends=bool(row["sends"]),
        send_after_s=row["send_after_s"],
        sends_account=row["sends_account"],
        read_at=row["read_at"],
        level_at=row["level_at"],
        unsent=row["unsent"],
        site_name=row["site_name"],
        other_name=row["other_name"],
    )


def _run_row(run: NewRun, state: RunState) -> Row:
    return {
        "pair_id": run.pair_id,
        "account_id": run.account_id,
        "timer_id": run.timer_id,
        "direction": run.wish.direction,
        "removals": run.wish.removals,
        "compare": run.compare,
        "state": state,
        "flow": json.dumps(asdict(run.flow)),
        "told": json.dumps(run.told),
        "not_read": run.not_read,
        "now": utc_now(),
        "ended_at": None,
    }


def _run(row: Row) -> Run:
    return Run(
        id=row["id"],
        pair_id=row["pair_id"],
        account_id=row["account_id"],
        account_name=row["account_name"],
        timer_id=row["timer_id"],
        timer_name=row["timer_name"],
        wish=SyncWish(Direction(row["direction"]), Removals(row["removals"])),
        compare=Compare(row["compare"]),
        state=RunState(row["state"]),
        there_job=row["there_job"],
        here_job=row["here_job"],
        flow=Flow(**json.loads(row["flow"])),
        told=tuple(json.loads(row["told"])),
        not_read=row["not_read"],
        started_at=row["started_at"],
        ended_at=row["ended_at"],
    )
