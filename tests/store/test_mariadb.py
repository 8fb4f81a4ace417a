"""The private MariaDB."""

from __future__ import annotations

import os
import signal
import time
from pathlib import Path

from nailer.errors import StoreUnavailable
from nailer.store.database import Database, utc_now
from nailer.store.mariadb import PrivateMariaDB


def test_a_killed_private_database_comes_back_with_its_data(tmp_path: Path) -> None:
    server = PrivateMariaDB(tmp_path)
    database = Database(server.start())
    database.migrate()
    database.write_now(lambda work: work.insert("accounts.add", name="maren", password_hash="x", now=utc_now()))
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
