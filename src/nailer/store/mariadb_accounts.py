"""The accounts of the private MariaDB: Nailer's own with its password, and one for mending by hand. Every other is dropped.

MariaDB begins with accounts that have no password: whoever may open a port on this machine would own the database. The
server runs these statements before it answers anybody (its `init-file`), and writes down what it found and what it left,
so that Nailer can look instead of believing.
"""

from __future__ import annotations

import os
import pwd
from dataclasses import dataclass

import pymysql

from nailer.errors import SetupFailed
from nailer.store.address import DatabaseAddress
from nailer.store.connection import connect

DATABASE = "nailer"
# MariaDB's own, locked: its system views belong to it.
_SYSTEM = "mariadb.sys"


@dataclass(frozen=True, slots=True)
class DatabaseAccounts:
    """Who may sign in to the private database: `own` with a password, `by_hand` through the socket, as the same user of
    this machine (empty where that user has no name)."""

    own: str
    by_hand: str

    @classmethod
    def of_this_user(cls) -> DatabaseAccounts:
        """For the user that Nailer runs as. Where that one is called nailer, Nailer's own account has another name."""
        try:
            name = pwd.getpwuid(os.geteuid()).pw_name
        except KeyError:
            name = ""
        if not name.replace("-", "").replace("_", "").replace(".", "").isalnum():
            name = ""
        return cls(f"{DATABASE}_app" if name == DATABASE else DATABASE, name)

    @property
    def expected(self) -> set[tuple[str, str]]:
        """User and host of every account that there should be."""
        by_hand = {(self.by_hand, "localhost")} if self.by_hand else set()
        return {(self.own, "localhost"), (self.own, "127.0.0.1"), (_SYSTEM, "localhost")} | by_hand

    def statements(self, password: str) -> str:
        """SQL that leaves these accounts and no other. The password is ours and has no quotes in it."""
        own = f"'{self.own}'@localhost, '{self.own}'@'127.0.0.1'"
        identified = own.replace(",", f" IDENTIFIED BY '{password}',") + f" IDENTIFIED BY '{password}'"
        rest = " ".join(
            f"DELETE FROM mysql.{table} WHERE User <> '{_SYSTEM}';\n"
            for table in (
                "global_priv",
                "db",
                "tables_priv",
                "columns_priv",
                "procs_priv",
                "proxies_priv",
                "roles_mapping",
            )
        )
        by_hand = (
            f"CREATE USER '{self.by_hand}'@localhost IDENTIFIED VIA unix_socket;\n"
            f"GRANT ALL ON *.* TO '{self.by_hand}'@localhost WITH GRANT OPTION;\n"
            if self.by_hand
            else ""
        )
        return (
            f"CREATE DATABASE IF NOT EXISTS {DATABASE} CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;\n"
            f"CREATE OR REPLACE TABLE {DATABASE}.accounts_found AS SELECT User, Host FROM mysql.global_priv;\n"
            f"{rest}"
            "FLUSH PRIVILEGES;\n"
            f"ALTER USER '{_SYSTEM}'@localhost ACCOUNT LOCK;\n"
            f"CREATE USER {identified};\n"
            f"GRANT ALL ON {DATABASE}.* TO {own};\n"
            f"{by_hand}"
            f"CREATE OR REPLACE TABLE {DATABASE}.accounts_left AS SELECT User, Host FROM mysql.global_priv;\n"
        )

    def seen(self, address: DatabaseAddress) -> tuple[str, ...]:
        """Look at what the statements did; return the accounts that were dropped, as user@host. Raises SetupFailed where
        another account is left."""
        try:
            with connect(**address.connect_with()) as connection, connection.cursor() as cursor:
                found, left = _accounts(cursor, "accounts_found"), _accounts(cursor, "accounts_left")
                cursor.execute("DROP TABLE accounts_found, accounts_left")
        except pymysql.MySQLError as error:
            raise SetupFailed(
                "The private MariaDB did not close its other accounts; Nailer does not use it."
            ) from error
        if left != self.expected:
            raise SetupFailed("The private MariaDB has other accounts than Nailer's own; Nailer does not use it.")
        return tuple(f"{user}@{host}" for user, host in sorted(found - self.expected))


def _accounts(cursor: pymysql.cursors.Cursor, table: str) -> set[tuple[str, str]]:
    cursor.execute(f"SELECT User, Host FROM {table}")
    return {(_text(user), _text(host)) for user, host in cursor.fetchall()}


def _text(value: str | bytes) -> str:
    return value.decode() if isinstance(value, bytes) else value
