"""What Nailer makes of each misbehaviour: the same acts on a server that has it, and what a person reads of them.

`python -m tests.rough.matrix` writes docs/servers.md anew; a test holds each of its rows against a server.
"""

from __future__ import annotations

import asyncio
import re
import shutil
import tempfile
from dataclasses import dataclass
from pathlib import Path
from types import ModuleType

from nailer.core.jobs.states import ItemState
from nailer.core.plans.plan import Action
from nailer.errors import NailerError
from nailer.store.database import Database
from nailer.store.jobs import Job
from nailer.store.mariadb import PrivateMariaDB
from tests.builders import NOON_S, write
from tests.conftest import empty_tables
from tests.rough import server, sftp_server
from tests.rough.worlds import a_rough_sftp_world, a_rough_world, hidden, items_of
from tests.world import World

PLACE = Path(__file__).parent.parent.parent / "docs" / "servers.md"
KINDS: dict[str, ModuleType] = {"ftp": server, "sftp": sftp_server}
_HEAD = """# Servers that do otherwise

Each row is a server with one way of being odd, as two scripted servers in the tests have them. The same acts are tried on
each: replacing six pages and adding four, one of them in a new folder, fetching six that changed there, and removing a
folder of two. *Done* was said only where the disk said the same. This page is written by `python -m tests.rough.matrix`,
and a test holds every row of it.
"""
_COLUMNS = "| the server | what was done | what a person reads first |\n| --- | --- | --- |\n"
_OLD = {f"p{number}.html": f"the old page number {number}" for number in range(6)}
_NEW = {f"p{number}.html": f"the new page number {number}, longer" for number in range(9)} | {
    "news/p9.html": "a page in a new folder"
}
_SENT = sorted({name.partition("/")[0] for name in _NEW})


@dataclass(frozen=True, slots=True)
class Row:
    """How the acts ended, and the first thing that a person reads where one did not end well. `untrue` counts what was said
    to be done and was not."""

    acts: str
    reads: str
    untrue: int

    @property
    def cells(self) -> str:
        return f"{self.acts} | {self.reads or 'nothing: it is done another way'}"


async def tried(kind: str, fault: str, place: Path, url: str) -> Row:
    """The acts on a server with one misbehaviour."""
    making = a_rough_sftp_world if kind == "sftp" else a_rough_world
    async with making(place, url, []) as world:
        for name, text in _OLD.items():
            write(world.there, name, text, NOON_S - 900)
        for name in ("a.html", "b.html"):
            write(world.there, f"old/{name}", "to be removed")
        for name, text in _NEW.items():
            write(world.here, name, text)
        world.host.faults.add(fault)
        world.host._left = {fault: 1} if fault in KINDS[kind].STRIKING else {}
        said, reads, untrue = [], "", 0
        for word, act in (
            ("sent", lambda: world.upload(*_SENT)),
            ("fetched", lambda: world.download(*_OLD)),
            ("removed", lambda: world.remove_there("old")),
        ):
            if word == "fetched":
                for name in _OLD:
                    write(world.there, name, "changed there by somebody", NOON_S + 900)
            try:
                job = await act()
            except NailerError as error:
                said.append(f"{word}: not begun")
                reads = reads or _clean(error.what, world)
                continue
            done, failed, lies, first = await _counted(world, job)
            count = f"{done}" + (f", {failed} failed" if failed else "")
            said.append(f"{word}: {'stopped' if job.trouble else count}")  # how far it came is chance
            untrue += lies
            reads = reads or first
        await world.nailer.plans.leftovers.clear()
        # The try of a renaming that was cut is offered where it lies.
        left = [name for name in hidden(world.there) if "nailer-try" not in name]
        untrue += len(left) if fault not in _STAYS else 0
        return Row("; ".join(said), reads or _UNSEEN.get(fault, ""), untrue)


# What lies in every answer alike is seen by the bytes only.
_UNSEEN = {"write-corrupts": "nothing; with *Read back* set for the site: what lies there now is not what was sent"}
# What cannot be cleared on these servers has an owner, and is offered where it lies.
_STAYS = ("dele-refused", "dele-lies", "remove-refused", "remove-lies")


async def _counted(world: World, job: Job) -> tuple[int, int, int, str]:
    """Files done and failed, how many are said to be done and are not, and the first reason that is given."""
    done = failed = lies = 0
    first = _clean(job.trouble or "", world)
    root, start = (world.here, world.site.start_here) if job.to_side == "here" else (world.there, world.top)
    for item in await items_of(world, job):
        if item.action is Action.MAKE_FOLDER:
            is_there = root.joinpath(*(name.decode() for name in item.target.below(start) or ())).is_dir()
            lies += item.state is ItemState.DONE and not is_there
            first = first or _clean(item.error_text or "", world)
            continue
        place = root.joinpath(*(name.decode() for name in item.target.below(start) or ()))
        if item.state is ItemState.DONE:
            done += 1
            size = item.entry.size
            is_so = place.is_file() and place.stat().st_size == size
            lies += place.exists() if item.action is not Action.TRANSFER else not is_so
        elif item.state is ItemState.LEFT and "same" not in item.reason:
            first = first or _clean(f"left: {item.reason}", world)
        elif item.state is ItemState.FAILED:
            failed += 1
            first = first or _clean(item.error_text or "", world)
    return done, failed, lies, first


def _clean(text: str, world: World) -> str:
    """A sentence without what differs from run to run."""
    text = text.replace(str(world.host.port), "PORT").replace(str(world.host.root), "")
    text = re.sub(r"/htdocs/(p\d|old/[ab]|news/p\d)\.html", "/htdocs/page.html", text)
    return text.replace("|", "/").replace("\n", " ")


def page(rows: dict[tuple[str, str], Row]) -> str:
    """The document."""
    parts = [_HEAD]
    for kind, scripted in KINDS.items():
        parts.append(f"\n## By {kind.upper()}\n\n{_COLUMNS}")
        parts += [f"| {what} | {rows[kind, fault].cells} |\n" for fault, what in scripted.FAULTS.items()]
    return "".join(parts)


async def main() -> None:
    home = Path(tempfile.mkdtemp(prefix="matrix-"))
    mariadb = PrivateMariaDB(home / "mariadb", durable=False)
    url = mariadb.start()
    database = Database(url)
    database.migrate()
    rows = {}
    try:
        for kind, scripted in KINDS.items():
            for fault in scripted.FAULTS:
                empty_tables(database)
                rows[kind, fault] = await tried(kind, fault, home / kind / fault, url)
                assert not rows[kind, fault].untrue, (kind, fault, rows[kind, fault])
    finally:
        database.close()
        mariadb.stop()
        shutil.rmtree(home, ignore_errors=True)
    PLACE.write_text(page(rows))


if __name__ == "__main__":
    asyncio.run(main())
