"""What all tests share: a real MariaDB, guards against blocking and leaking, and the event loop's library."""

from __future__ import annotations

import asyncio
import os
import sys
import threading
import time
from collections.abc import AsyncIterator, Iterator
from pathlib import Path

import hypothesis
import pytest

from nailer.bounded import pool
from nailer.store.database import Database
from nailer.store.mariadb import PrivateMariaDB
from tests.real.grounds import CONFIGURATIONS, RealHosts
from tests.world import World, a_world

# One profile for every property: on a busy machine a deadline fails what is right.
hypothesis.settings.register_profile("nailer", deadline=None, print_blob=True)
hypothesis.settings.load_profile("nailer")

SOURCE = Path(__file__).parent.parent / "src" / "nailer"

# What must not happen on the event loop's thread: it would hold up everybody.
_BLOCKING = {
    "open",
    "os.listdir",
    "os.scandir",
    "os.mkdir",
    "os.remove",
    "os.rename",
    "os.rmdir",
    "os.chmod",
    "os.utime",
    "os.symlink",
    "time.sleep",
    "socket.connect",
    "subprocess.Popen",
    "shutil.rmtree",
}
_WATCHED = tuple(str(SOURCE / part) for part in ("sides", "store", "engine", "services", "seal.py"))
_ZONES = str(SOURCE / "core" / "zones.py")
_blocked: list[str] = []


def _watch(event: str, arguments: tuple[object, ...]) -> None:
    if not _BLOCKING or event not in _BLOCKING or asyncio._get_running_loop() is None:
        return  # the names of a module are gone while Python ends
    if event == "socket.connect" and arguments[0].gettimeout() == 0:  # type: ignore[attr-defined]
        return  # a socket that does not block
    frame = sys._getframe(1)
    for _ in range(12):
        if "importlib" in frame.f_code.co_filename or frame.f_code.co_filename == _ZONES:
            return  # a module, or a time zone, read for the first time in the process
        if frame.f_code.co_filename.startswith(_WATCHED):
            _blocked.append(f"{event} in {frame.f_code.co_filename}:{frame.f_lineno}")
            return
        if frame.f_back is None:
            return
        frame = frame.f_back


sys.addaudithook(_watch)


@pytest.fixture(scope="session")
def anyio_backend() -> tuple[str, dict[str, bool]]:
    return "asyncio", {"use_uvloop": True}


@pytest.fixture(autouse=True)
def _loop_stays_free() -> Iterator[None]:
    """Fails a test in which Nailer's own code blocks the event loop."""
    _blocked.clear()
    yield
    assert not _blocked, f"blocked the event loop: {_blocked[:3]}"


def _open_things() -> tuple[set[str], set[str], set[str]]:
    threads = {f"{one.name} {one.ident}" for one in threading.enumerate() if not one.name.startswith("asyncio_")}
    sockets = set()
    for descriptor in os.listdir("/proc/self/fd"):
        try:
            target = os.readlink(f"/proc/self/fd/{descriptor}")
        except OSError:
            continue
        if target.startswith("socket:"):
            sockets.add(target)
    children = set(Path(f"/proc/self/task/{os.getpid()}/children").read_text().split())
    # What reads is shared by all tests of the process.
    children -= {str(pid) for pid in pool.pids}
    return threads, sockets, children


@pytest.fixture(autouse=True)
def _nothing_leaks(request: pytest.FixtureRequest) -> Iterator[None]:
    """Fails a test that leaves a thread, a socket or a process behind. What a whole session shares may stay."""
    if "browser" in request.keywords:
        yield
        return
    if any(name in request.fixturenames for name in ("database", "world", "client", "nailer")):
        request.getfixturevalue("database_url")
    if "real_hosts" in request.fixturenames:
        hosts = request.getfixturevalue("real_hosts")
        for kind in _named(request):
            hosts.get(kind)
    before = _open_things()
    yield
    deadline = time.monotonic() + 5
    while True:
        left = [now - then for now, then in zip(_open_things(), before, strict=True)]
        if not any(left) or time.monotonic() > deadline:
            break
        time.sleep(0.02)
    assert not any(left), f"left behind: threads {left[0]}, sockets {left[1]}, processes {left[2]}"


def _named(request: pytest.FixtureRequest) -> list[str]:
    """The real servers that a test names by its parameters: they run on for the next test."""
    given = getattr(request.node, "callspec", None)
    values = given.params.values() if given is not None else ()
    return [value for value in values if isinstance(value, str) and value in CONFIGURATIONS]


@pytest.fixture(scope="session")
def real_hosts(tmp_path_factory: pytest.TempPathFactory) -> Iterator[RealHosts]:
    """Real servers, each started once."""
    hosts = RealHosts(tmp_path_factory.mktemp("real"))
    yield hosts
    hosts.close()


@pytest.fixture(scope="session")
def database_url(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """A MariaDB of the tests' own, or the one that TEST_DATABASE_URL names."""
    given = os.environ.get("TEST_DATABASE_URL")
    if given:
        yield given
        return
    server = PrivateMariaDB(tmp_path_factory.mktemp("mariadb"), durable=False)
    yield server.start()
    server.stop()


@pytest.fixture(scope="session")
def migrated_url(database_url: str) -> str:
    database = Database(database_url)
    database.migrate()
    database.close()
    return database_url


@pytest.fixture
def database(migrated_url: str) -> Iterator[Database]:
    """The migrated schema with empty tables."""
    database = Database(migrated_url)
    empty_tables(database)
    yield database
    database.close()


def empty_tables(database: Database) -> None:
    with database._connection() as connection, connection.cursor() as cursor:
        cursor.execute("SET FOREIGN_KEY_CHECKS = 0")
        cursor.execute("SELECT table_name AS name FROM information_schema.tables WHERE table_schema = DATABASE()")
        for row in cursor.fetchall():
            if row["name"] != "migrations":
                cursor.execute(f"DELETE FROM `{row['name']}`")
        cursor.execute("SET FOREIGN_KEY_CHECKS = 1")
        connection.commit()


@pytest.fixture
async def world(database: Database, migrated_url: str, tmp_path: Path) -> AsyncIterator[World]:
    """A running Nailer with one site on a real SFTP server."""
    async with a_world(tmp_path, migrated_url) as made:
        yield made
