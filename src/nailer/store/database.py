"""The way to MariaDB: a small pool, reading and writing contexts, named queries, calls that leave the event loop."""

from __future__ import annotations

import asyncio
import contextlib
import json
import re
import time
from collections.abc import Awaitable, Callable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from importlib import resources
from typing import Any, TypeVar

import pymysql
from dbutils.pooled_db import PooledDB
from pymysql.connections import Connection
from pymysql.cursors import DictCursor

from nailer.errors import InvalidInput, NailerError, NotFound, OwnDiskFull, StoreUnavailable
from nailer.store.address import DatabaseAddress
from nailer.store.connection import connect
from nailer.store.query import Query, load_queries
from nailer.unbroken import in_thread

_R = TypeVar("_R")
Row = dict[str, Any]

_TRY_AGAIN = (1205, 1213)  # lock wait timeout, deadlock: the server says to start the transaction anew
_LOST = (2002, 2003, 2006, 2013, 2055, 1053, 1927)
_FULL = (1021, 1114)
_FROM_ENGINE = 1030  # the number of the system's own error is in its words
_BELONGS_TO_NOTHING = 1452  # a foreign key leads nowhere
_DOES_NOT_FIT = (1264, 1366, 1406)
_COLUMN = re.compile(r"column '(?:`[^']*`\.)?`?(\w+)`?'")
_MOST_TRIES = 4
_TRIES_OF_AN_END, _PAUSE_S = 120, 1.0
_POOL_SIZE = 12


class Work:
    """One transaction's cursor, speaking in named queries."""

    def __init__(self, cursor: DictCursor, queries: Mapping[str, Query]) -> None:
        self._cursor = cursor
        self._queries = queries

    def rows(self, name: str, /, **values: Any) -> list[Row]:
        """All rows of a query."""
        self._run(name, "", values)
        return list(self._cursor.fetchall())

    def one(self, name: str, /, **values: Any) -> Row | None:
        """The one row of a query; None where there is none."""
        self._run(name, "^", values)
        return self._cursor.fetchone()

    def value(self, name: str, /, **values: Any) -> Any:
        """The one value of a query; None where there is none."""
        self._run(name, "$", values)
        row = self._cursor.fetchone()
        return None if row is None else next(iter(row.values()))

    def run(self, name: str, /, **values: Any) -> int:
        """Rows affected."""
        return self._run(name, "!", values)

    def insert(self, name: str, /, **values: Any) -> int:
        """The id of the row that was made."""
        self._run(name, "!", values)
        return int(self._cursor.lastrowid or 0)

    def many(self, name: str, rows: Sequence[Mapping[str, Any]]) -> None:
        """One statement for many rows: an INSERT goes as multi-row statements, a query of shape '*' as one with JSON."""
        if rows and self._queries[name].shape == "*":
            query = self._named(name, "*", rows[0])
            self._cursor.execute(query.sql, {"rows": json.dumps(rows, default=_json_value)})
        elif rows:
            self._cursor.executemany(self._named(name, "!", rows[0]).sql, rows)

    def _run(self, name: str, shape: str, values: Mapping[str, Any]) -> int:
        # Always a mapping: with None PyMySQL would leave `%%` as it stands.
        return self._cursor.execute(self._named(name, shape, values).sql, dict(values))

    def _named(self, name: str, shape: str, values: Mapping[str, Any]) -> Query:
        query = self._queries[name]
        if query.shape != shape or set(query.arguments) != set(values):
            raise TypeError(f"{name}({', '.join(query.arguments)}){query.shape} called as {sorted(values)}{shape}")
        return query


class Database:
    """A MariaDB by its address (`nailer.store.address`)."""

    def __init__(self, address: str) -> None:
        self.address = DatabaseAddress.read(address)
        self._connect_with: dict[str, Any] = self.address.connect_with() | {
            "charset": "utf8mb4",
            "cursorclass": DictCursor,
            "autocommit": False,
            "connect_timeout": 5,
            "init_command": "SET time_zone = '+00:00', sql_mode = 'STRICT_ALL_TABLES,NO_ZERO_DATE'",
        }
        self.queries = load_queries()
        self._pool = PooledDB(connect, maxconnections=_POOL_SIZE, maxcached=4, blocking=True, **self._connect_with)

    def migrate(self) -> list[str]:
        """Run the migrations that have not run; return their names. Safe to call at every start."""
        done: list[str] = []
        with self._connection() as connection, connection.cursor() as cursor:
            cursor.execute(
                "CREATE TABLE IF NOT EXISTS migrations (name VARCHAR(120) PRIMARY KEY, run_at DATETIME(6) NOT NULL)"
            )
            cursor.execute("SELECT name FROM migrations")
            known = {row["name"] for row in cursor.fetchall()}
            for name, sql in load_migrations():
                if name in known:
                    continue
                for statement in split_statements(sql):
                    cursor.execute(statement)
                cursor.execute("INSERT INTO migrations (name, run_at) VALUES (%s, %s)", (name, utc_now()))
                connection.commit()
                done.append(name)
        return done

    @contextlib.contextmanager
    def reading(self) -> Iterator[Work]:
        """A consistent view; changes nothing."""
        with self._connection() as connection, connection.cursor() as cursor:
            try:
                yield Work(cursor, self.queries)
            finally:
                connection.rollback()

    @contextlib.contextmanager
    def writing(self) -> Iterator[Work]:
        """A transaction: committed at the end, rolled back where anything is raised."""
        with self._connection() as connection, connection.cursor() as cursor:
            try:
                yield Work(cursor, self.queries)
                connection.commit()
            except BaseException:
                # A lost connection cannot roll back, and has nothing to.
                with contextlib.suppress(pymysql.MySQLError):
                    connection.rollback()
                raise

    async def read(self, ask: Callable[[Work], _R]) -> _R:
        """`ask` in a reading context, outside the event loop."""
        return await in_thread(self.read_now, ask)

    async def write(self, change: Callable[[Work], _R]) -> _R:
        """`change` in a transaction, outside the event loop; again from the start where the server found a deadlock.

        Cancelling the caller does not cut a transaction in two: it ends first.
        """
        return await in_thread(self.write_now, change)

    def read_now(self, ask: Callable[[Work], _R]) -> _R:
        """Read, waiting: for whoever is not on the event loop."""
        with self.reading() as work:
            return ask(work)

    def write_now(self, change: Callable[[Work], _R]) -> _R:
        """Write, waiting: for whoever is not on the event loop."""
        for tries in range(1, _MOST_TRIES + 1):
            try:
                with self.writing() as work:
                    return change(work)
            except pymysql.err.OperationalError as error:
                if error.args[0] not in _TRY_AGAIN or tries == _MOST_TRIES:
                    raise
                time.sleep(0.02 * 2**tries)
        raise AssertionError("the last try returns or raises")

    def close(self) -> None:
        """Close every connection."""
        self._pool.close()

    @contextlib.contextmanager
    def _connection(self) -> Iterator[Connection[DictCursor]]:
        try:
            connection = self._pool.connection()
        except pymysql.MySQLError as error:
            raise StoreUnavailable("The database does not answer.", server_words=_words(error)) from error
        try:
            yield connection
        except pymysql.MySQLError as error:
            ours = _as_ours(error)
            if ours is None:
                raise
            raise ours from error
        finally:
            connection.close()


async def written_down(write: Callable[[], Awaitable[None]], *, patiently: bool = True) -> bool:
    """Write how something ended, once the database answers; False where it stays away. An end that is not written down
    leaves its thing under way for ever."""
    for left in reversed(range(_TRIES_OF_AN_END if patiently else 1)):
        try:
            await write()
            return True
        except StoreUnavailable:
            if left:
                await asyncio.sleep(_PAUSE_S)
    return False


def _as_ours(error: pymysql.MySQLError) -> NailerError | None:
    """What the database refuses for a reason outside the program; None for what is a defect, and for what is tried again."""
    code = error.args[0] if error.args else 0
    if isinstance(error, pymysql.err.OperationalError | pymysql.err.InterfaceError) and code in (*_LOST, 0):
        return StoreUnavailable("The connection to the database was lost.", server_words=_words(error))
    if code in _FULL or (code == _FROM_ENGINE and "error 28" in _words(error)):
        return OwnDiskFull("The database has no space left.", server_words=_words(error))
    if code == _BELONGS_TO_NOTHING:
        return NotFound("What this belongs to does not exist, or was removed in the meantime.")
    if code in _DOES_NOT_FIT:
        column = _COLUMN.search(_words(error))
        said = "The text is too long, or contains characters that cannot be stored."
        return InvalidInput(
            "A value is too long, or contains characters that cannot be stored.",
            fields={column[1]: said} if column else None,
        )
    return None


def _json_value(value: object) -> str:
    """What JSON has no form for: bytes in hex, times as MariaDB reads them."""
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, datetime):
        return value.isoformat(" ")
    raise TypeError(f"{type(value).__name__} cannot go into a statement of many rows")


def utc_now() -> datetime:
    """Now, in UTC, without zone: as every DATETIME column holds it."""
    return datetime.now(UTC).replace(tzinfo=None)


def like(text: str) -> str:
    """A pattern of SQL for what has this text anywhere in it; for no text everything."""
    return "%" + text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"


def load_migrations() -> list[tuple[str, str]]:
    """Names and texts of the migrations that ship with Nailer, in order."""
    files = [file for file in resources.files("nailer.store.migrations").iterdir() if file.name.endswith(".sql")]
    return [(file.name, file.read_text("utf-8")) for file in sorted(files, key=lambda one: one.name)]


def split_statements(sql: str) -> list[str]:
    """Statements end with a semicolon at the end of a line.

    >>> split_statements("SELECT 1;\\n\\nSELECT 2\\n;\\n")
    ['SELECT 1', 'SELECT 2']
    """
    parts = [part.strip() for part in (sql + "\n").split(";\n")]
    return [part for part in parts if part]


def _words(error: Exception) -> str:
    return str(error.args[1]) if len(error.args) > 1 else str(error)
