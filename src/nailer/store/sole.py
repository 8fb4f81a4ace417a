"""One Nailer on one database: a lock that the database holds for as long as this process lives.

The lock of the data folder keeps two out of one folder; this one keeps two machines out of one database, as jobs, timers
and uploads in memory belong to one process. It goes with the connection that took it.
"""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Callable
from types import TracebackType
from typing import Any

import pymysql
import structlog

from nailer.errors import SetupFailed
from nailer.store.address import DatabaseAddress
from nailer.store.connection import connect

_log = structlog.get_logger()

_LOOK_EVERY_S = 5.0
_NAME_BYTES = 16  # a lock's name may have 64 characters (MariaDB, GET_LOCK)


class SoleUse:
    """Holds a database against a second Nailer, as a context. Raises SetupFailed where another one has it.

    The database may be started anew under it: the lock is taken again. Where another Nailer took it in between, `lost` is
    called, once, from a thread of its own.
    """

    def __init__(self, address: str, lost: Callable[[], None]) -> None:
        self._address = DatabaseAddress.read(address)
        digest = hashlib.blake2b(self._address.name.encode(), digest_size=_NAME_BYTES).hexdigest()
        self._name = f"nailer:{digest}"
        self._lost = lost
        self._ending = threading.Event()
        self._connection: Any = None
        self._keeper = threading.Thread(target=self._keep, name="sole-use", daemon=True)

    def __enter__(self) -> SoleUse:
        try:
            taken = self._take()
        except pymysql.MySQLError as error:
            raise SetupFailed(f"The database {self._address!r} cannot be used: {error.args[-1]}.") from error
        if not taken:
            self._drop()
            raise SetupFailed("Another Nailer is running on this database. Stop it first, or name another database.")
        self._keeper.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._ending.set()
        self._keeper.join()
        self._drop()

    def _take(self) -> bool:
        self._connection = connect(connect_timeout=5, read_timeout=10, **self._address.connect_with())
        with self._connection.cursor() as cursor:
            cursor.execute("SELECT GET_LOCK(%s, 0)", (self._name,))
            return bool(cursor.fetchone()[0])

    def _drop(self) -> None:
        if self._connection is not None and self._connection.open:
            self._connection.close()

    def _keep(self) -> None:
        while not self._ending.wait(_LOOK_EVERY_S):
            try:
                self._connection.ping(reconnect=False)
            except pymysql.MySQLError:
                if not self._taken_again():
                    self._lost()
                    return

    def _taken_again(self) -> bool:
        """False only where another Nailer has the lock; a database that does not answer is asked again later."""
        self._drop()
        try:
            if self._take():
                _log.info("the database answers again, and is held again")
                return True
            return False
        except pymysql.MySQLError:
            return True
