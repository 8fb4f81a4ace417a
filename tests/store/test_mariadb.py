"""The private MariaDB."""

from __future__ import annotations

import os
import signal
import time
from pathlib import Path

import pymysql
import pytest

from nailer.errors import StoreUnavailable
from nailer.store.database import Database
from nailer.store.mariadb import PrivateMariaDB
from nailer.store.people.accounts import adding_account


def test_a_killed_private_database_comes_back_with_its_data(tmp_path: Path) -> None:
    server = PrivateMariaDB(tmp_path)
    database = Database(server.start())
    database.migrate()
    database.write_now(lambda work: adding_account(work, "maren", "x", is_admin=True))
    assert server.pid is not None
    os.kill(server.pid, signal.SIGKILL)

    for _ in range(200):
        try:
            count = database.read_now(lambda work: work.value("accounts.count"))
            break
        except StoreUnavailable:
            time.sleep(0.1)

    database.close()
    server.stop()
    assert count == 1


def test_its_account_has_rights_on_its_own_database_only(migrated_url: str) -> None:
    database = Database(migrated_url)
    with database.reading() as work:
        work._cursor.execute("SHOW GRANTS")
        grants = [next(iter(row.values())) for row in work._cursor.fetchall()]
        work._cursor.execute("SELECT LOAD_FILE('/etc/passwd') AS content")
        assert work._cursor.fetchall() == [{"content": None}]
        for forbidden in ("SELECT * FROM mysql.global_priv", "CREATE DATABASE other"):
            with pytest.raises(pymysql.err.OperationalError, match="denied"):
                work._cursor.execute(forbidden)
    database.close()

    assert any("`nailer`.*" in one for one in grants)
    assert not any("ALL PRIVILEGES ON *.*" in one for one in grants)
