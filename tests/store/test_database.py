"""Migrations, queries and transactions on a real MariaDB."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pymysql
import pytest

from nailer.errors import InvalidInput, NailerError, OwnDiskFull, StoreUnavailable
from nailer.seal import Seal
from nailer.store.database import Database, Work, load_migrations, split_statements
from nailer.store.mariadb import PrivateMariaDB
from nailer.store.people.accounts import AccountStore, adding_account
from nailer.store.query import load_queries, parse_queries
from nailer.store.sites import SiteStore

LISTS = ("pair_keys", "names", "places", "sites", "whole", "kinds")


@pytest.fixture
def sites(database: Database, tmp_path: Path) -> SiteStore:
    return SiteStore(database, Seal.at(tmp_path / "seal.key"))


def test_migrations_run_once(migrated_url: str) -> None:
    database = Database(migrated_url)

    assert database.migrate() == []
    database.close()


def test_a_migration_that_was_cut_short_is_run_again(tmp_path: Path) -> None:
    """A change of the schema ends a transaction: a start that was killed within a migration leaves a part of it."""
    server = PrivateMariaDB(tmp_path, durable=False)
    database = Database(server.start())
    try:
        with database.writing() as work:
            for _, sql in load_migrations():
                statements = split_statements(sql)
                for count in range(1, len(statements) + 1):
                    for statement in statements[:count]:
                        work._cursor.execute(statement)
    finally:
        database.close()
        server.stop()


def test_every_query_runs_against_the_schema(database: Database) -> None:
    """Prepared by the server itself: a column that does not exist fails here."""
    with database.reading() as work:
        for query in load_queries().values():
            if "LOCK(" in query.sql:
                continue
            lists = {
                name: [b"1"]
                for name in ("pair_keys", "names", "places", "sites", "whole", "kinds")
                if name in query.arguments
            }
            values = {"rows": "[{}]"} if query.shape == "*" else dict.fromkeys(query.arguments, 1) | lists
            work._cursor.execute("EXPLAIN " + query.sql, values)


def test_queries_are_called_as_they_are_written(database: Database) -> None:
    with database.reading() as work:
        with pytest.raises(TypeError, match="called as"):
            work.rows("sites.by_id", id=1)
        with pytest.raises(TypeError, match="called as"):
            work.one("sites.by_id", number=1)
    with pytest.raises(ValueError, match="two queries"):
        parse_queries("x", "-- name: a()\nSELECT 1;\n-- name: a()\nSELECT 2;")


def test_a_transaction_is_all_or_nothing(database: Database) -> None:
    def change(work: Work) -> None:
        adding_account(work, "one", "x", is_admin=True)
        raise RuntimeError("half-way")

    with pytest.raises(RuntimeError):
        database.write_now(change)

    with database.reading() as work:
        assert work.value("accounts.count") == 0


async def test_a_deadlock_is_tried_again(database: Database) -> None:
    tries = 0

    def change(work: Work) -> int:
        nonlocal tries
        tries += 1
        if tries < 3:
            raise pymysql.err.OperationalError(1213, "Deadlock found")
        return adding_account(work, "one", "x", is_admin=True)

    assert await database.write(change)
    assert tries == 3


async def test_a_database_that_is_gone_is_said_in_our_words() -> None:
    database = await asyncio.to_thread(Database, "mysql://nailer:x@127.0.0.1:9/nailer")

    with pytest.raises(StoreUnavailable):
        await AccountStore(database).count()

    database.close()


@pytest.mark.parametrize(
    ("error", "kind"),
    [
        (pymysql.err.OperationalError(1114, "The table 'jobs' is full"), OwnDiskFull),
        (pymysql.err.OperationalError(1021, "Disk full (/tmp)"), OwnDiskFull),
        (pymysql.err.InternalError(1030, 'Got error 28 "No space left on device" from storage engine'), OwnDiskFull),
        (pymysql.err.DataError(1406, "Data too long for column 'here' at row 1"), InvalidInput),
        (pymysql.err.OperationalError(2013, "Lost connection"), StoreUnavailable),
    ],
)
def test_what_the_database_cannot_do_is_said_as_ours(
    database: Database, error: pymysql.MySQLError, kind: type[NailerError]
) -> None:
    with pytest.raises(kind) as raised, database.writing():
        raise error
    if isinstance(raised.value, InvalidInput):
        assert list(raised.value.fields) == ["here"]


def test_what_is_a_defect_stays_what_it_is(database: Database) -> None:
    with pytest.raises(pymysql.err.ProgrammingError), database.writing() as work:
        work._cursor.execute("SELEKT 1")
