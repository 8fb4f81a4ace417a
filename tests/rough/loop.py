"""Random trees, random misbehaviours and random cuts under everything that Nailer does, and one law.

    Every byte that was on either side before is on a side or kept, and what was said of the work is true.

A run has a number; the same number does the same again. `python -m tests.rough.loop 1 200` does runs 1 to 200, and with
`sftp` behind that they meet the SFTP server.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import logging
import os
import random
import shutil
import sys
import tempfile
from dataclasses import dataclass, field
from pathlib import Path

import structlog

from nailer.core.compare.joint import Joint
from nailer.core.files.entry import SideName
from nailer.core.jobs.states import ItemState, JobState
from nailer.core.pairs.wishes import Direction, Removals
from nailer.core.plans.plan import Action
from nailer.errors import NailerError
from nailer.store.database import Database
from nailer.store.jobs import Job
from nailer.store.mariadb import PrivateMariaDB
from tests.conftest import empty_tables
from tests.rough import server, sftp_server
from tests.rough.worlds import a_rough_sftp_world, a_rough_world, hidden, items_of, read_pair
from tests.world import World

_log = logging.getLogger(__name__)

_NAMES = [
    "a.html",
    "b.css",
    "c.js",
    ".htaccess",
    "d e.txt",
    "img/x.svg",
    "img/y.svg",
    "img/deep/z.bin",
    "news/n.html",
    "m.bin",
]
_TOPS = ["a.html", "b.css", "c.js", ".htaccess", "d e.txt", "img", "news", "m.bin"]


@dataclass
class Told:
    """What one run did, for the message where the law does not hold."""

    number: int
    faults: list[str]
    lines: list[str] = field(default_factory=list)

    def note(self, text: str) -> None:
        self.lines.append(text)

    def __str__(self) -> str:
        return f"run {self.number}, {self.faults}:\n  " + "\n  ".join(self.lines)


class CutShort(AssertionError):
    """The law does not hold."""


async def one_run(number: int, database_url: str, place: Path, kind: str = "ftp") -> Told:
    """One run: some acts on a pair under some misbehaviours of a server of a kind. Raises Broken."""
    dice = random.Random(number)
    scripted, making = (sftp_server, a_rough_sftp_world) if kind == "sftp" else (server, a_rough_world)
    lasting = dice.sample(sorted(scripted.LASTING), dice.choice([0, 1, 1, 2, 3]))
    striking = dice.sample(sorted(scripted.STRIKING), dice.choice([0, 1, 1, 2]))
    told = Told(number, [*lasting, *striking])
    in_place = dice.random() < 0.4
    async with making(place, database_url, [], times=dice.choice([1, 1, 2, 3]), in_place=in_place) as world:
        _scatter(world.here, dice)
        _scatter(world.there, dice)
        for _ in range(dice.choice([1, 2])):
            await _act(world, dice, told)  # while all is well, so that there is a baseline
        world.host.faults |= {*lasting, *striking}
        world.host._left = dict.fromkeys(striking, dice.choice([1, 2]))
        for _ in range(dice.choice([2, 3, 4])):
            if dice.random() < 0.5:
                _touch(world, dice, told)
            await _act(world, dice, told)
        await _nothing_stays_unowned(world, told)
    return told


async def _act(world: World, dice: random.Random, told: Told) -> None:
    """One act, and the law around it."""
    before = _contents(world.here) | _contents(world.there)
    what = dice.choice(["upload", "download", "publish", "fetch", "level", "level", "remove", "take back"])
    job: Job | None = None
    try:
        async with asyncio.timeout(90):
            job = await _do(world, what, dice, told)
    except NailerError as error:
        told.note(f"{what}: {type(error).__name__} {error.what} {error.server_words or ''}")
    except TimeoutError:
        raise CutShort(f"{told}\n{what} did not end") from None
    lost = before - (_contents(world.here) | _contents(world.there))
    gone = [digest for digest in lost if not await _is_kept(world, digest)]
    if gone:
        raise CutShort(f"{told}\nlost after {what}: {[_NAMED.get(one, '?') for one in gone]}")
    if job is not None:
        told.note(f"{what}: job {job.id} {job.state} {job.trouble or ''}")
        await _what_is_said_is_true(world, job, told)


async def _do(world: World, what: str, dice: random.Random, told: Told) -> Job | None:
    nailer = world.nailer
    names = dice.sample(_TOPS, dice.choice([1, 2, 4]))
    if what in ("upload", "download"):
        side, root = (SideName.THERE, world.here) if what == "upload" else (SideName.HERE, world.there)
        present = [name for name in names if (root / name).exists()]
        return await world.transfer(side, *present) if present else None
    if what == "remove":
        side = dice.choice([SideName.HERE, SideName.THERE])
        root = world.here if side is SideName.HERE else world.there
        present = [name for name in names if (root / name).exists()]
        return await world.remove(side, *present) if present else None
    if what == "take back":
        jobs = await nailer.stores.jobs.ended(limit=5)
        jobs = [job for job in jobs if await nailer.stores.changes.of_job(job.id)]
        if not jobs:
            return None
        return await world.run(await nailer.plans.take_back.take_job_back(world.account_id, dice.choice(jobs).id))
    direction = {"publish": Direction.PUBLISH, "fetch": Direction.FETCH, "level": Direction.LEVEL}[what]
    plan = await read_pair(world, direction, dice.choice(list(Removals)))
    _check_plan(world, plan, told)
    if not plan.flow.steps:
        return None
    run = await nailer.pairs.runs.ended(
        await nailer.pairs.runs.carry_out(plan, typed=plan.word_to_type, guarded_confirmed=True)
    )
    told.note(f"{what}: run {run.state}")
    for job_id in run.jobs:
        await _what_is_said_is_true(world, await nailer.stores.jobs.get(job_id), told)
    return None


def _check_plan(world: World, plan: object, told: Told) -> None:
    """A plan never says 'only here' of what is there, nor the reverse."""
    for row in plan.rows:  # type: ignore[attr-defined]
        name = os.path.join(*map(os.fsdecode, row.below)) if row.below else ""
        here, there = os.path.lexists(world.here / name), os.path.lexists(world.there / name)
        if row.standing.joint is Joint.ONLY_HERE and there and _could_know(world, name):
            raise CutShort(f"{told}\n{name} is called only here, and is there")
        if row.standing.joint is Joint.ONLY_THERE and here:
            raise CutShort(f"{told}\n{name} is called only there, and is here")


def _could_know(world: World, name: str) -> bool:
    """Whether the server gives a way to know better: one that lies in every answer alike cannot be found out."""
    faults = world.host.faults
    silent = {"list-cut-unsaid", "hides-dots", "folds-case"} & faults
    return not silent


async def _what_is_said_is_true(world: World, job: Job, told: Told) -> None:
    """What a job says of its items, against the disks."""
    if job.state not in (JobState.DONE, JobState.NEEDS_YOU, JobState.STOPPED):
        raise CutShort(f"{told}\njob {job.id} ended as {job.state}")
    if "error in Nailer" in (job.trouble or ""):
        raise CutShort(f"{told}\n{job.trouble}")
    for item in await items_of(world, job):
        text = f"{item.error_text or ''} {item.server_words or ''} {item.reason}"
        if ".part" in text:
            raise CutShort(f"{told}\na temporary name is shown: {text}")
        if item.state is not ItemState.DONE:
            continue
        root = world.here if job.to_side is SideName.HERE else world.there
        start = world.site.start_here if job.to_side is SideName.HERE else world.top
        below = item.target.below(start)
        if below is None:
            continue
        place = root / os.path.join(*map(os.fsdecode, below))
        if item.action is Action.TRANSFER and not (place.is_file() and place.stat().st_size == item.entry.size):
            raise CutShort(f"{told}\n{place} is said to have landed")
        if item.action in (Action.REMOVE, Action.REMOVE_FOLDER) and _stands(place):
            raise CutShort(f"{told}\n{place} is said to be removed ({item.reason})")


async def _nothing_stays_unowned(world: World, told: Told) -> None:
    """Every temporary file that is left belongs to somebody, or is the try of a renaming, which is offered."""
    await world.nailer.plans.leftovers.clear()
    owned = {
        path.name.decode() for side in SideName for path in await world.nailer.stores.parts.owned(world.site.id, side)
    }
    owned |= {name.removesuffix(".part") + "-old.part" for name in owned}
    owned |= {name.removeprefix(".") for name in owned}
    left = [name for top in (world.here, world.there) for name in hidden(top) if "nailer-try" not in name]
    if unowned := [name for name in left if name not in owned]:
        raise CutShort(f"{told}\nleft without an owner: {unowned}")


def _scatter(root: Path, dice: random.Random) -> None:
    for name in dice.sample(_NAMES, dice.choice([3, 6, 9])):
        file = root / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(dice.randbytes(dice.choice([1, 40, 3000, 300_000])))
        at = 1_700_000_000 + dice.randrange(50_000_000)
        os.utime(file, (at, at))


def _touch(world: World, dice: random.Random, told: Told) -> None:
    """Something changes on a side, as people do it."""
    root = dice.choice([world.here, world.there])
    files = sorted(one for one in root.rglob("*") if one.is_file() and "nailer-" not in one.name)
    if files and dice.random() < 0.4:
        gone = dice.choice(files)
        told.note(f"somebody removes {gone.relative_to(root.parent)}")
        gone.unlink()
        return
    name = dice.choice(_NAMES)
    file = root / name
    if file.is_dir() or any(one.is_file() for one in file.parents if one != root and root in one.parents):
        return
    told.note(f"somebody writes {file.relative_to(root.parent)}")
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_bytes(dice.randbytes(dice.choice([5, 500, 200_000])))
    at = 1_760_000_000 + dice.randrange(30_000_000)
    os.utime(file, (at, at))


def _stands(place: Path) -> bool:
    return os.path.lexists(place)


_NAMED: dict[bytes, str] = {}


def _contents(root: Path) -> set[bytes]:
    found = set()
    for one in root.rglob("*"):
        if one.is_file() and not one.is_symlink() and "nailer-" not in one.name:
            digest = hashlib.sha256(one.read_bytes()).digest()
            _NAMED[digest] = f"{one.relative_to(root.parent)} ({one.stat().st_size})"
            found.add(digest)
    return found


async def _is_kept(world: World, digest: bytes) -> bool:
    """Whether a content is among the kept copies, found by reading them all: this trusts no table."""
    folder = world.nailer.settings.home / "kept"
    for file in folder.rglob("*.zst"):
        with contextlib.suppress(NailerError):
            content = b"".join([chunk async for chunk in world.nailer.engine.kept.read(bytes.fromhex(file.stem))])
            if hashlib.sha256(content).digest() == digest:
                return True
    return False


async def runs(first: int, last: int, kind: str) -> int:
    """Many runs in one process; return how many broke the law."""
    home = Path(tempfile.mkdtemp(prefix="rough-"))
    mariadb = PrivateMariaDB(home / "mariadb", durable=False)
    url = mariadb.start()
    database = Database(url)
    database.migrate()
    broken = 0
    try:
        for number in range(first, last + 1):
            place = home / str(number)
            place.mkdir()
            empty_tables(database)
            try:
                await one_run(number, url, place, kind)
            except Exception:
                broken += 1
                _log.exception("the law does not hold in run %d", number)
            shutil.rmtree(place, ignore_errors=True)
            if number % 10 == 0:
                _log.warning("%d done, %d broken", number, broken)
    finally:
        database.close()
        mariadb.stop()
        shutil.rmtree(home, ignore_errors=True)
    return broken


if __name__ == "__main__":
    structlog.configure(wrapper_class=structlog.make_filtering_bound_logger(logging.ERROR))
    sys.exit(1 if asyncio.run(runs(int(sys.argv[1]), int(sys.argv[2]), (sys.argv[3:] or ["ftp"])[0])) else 0)
