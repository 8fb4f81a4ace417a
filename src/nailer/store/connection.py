"""A connection to MariaDB that leaves no open socket behind where nobody answers."""

from __future__ import annotations

import socket
from typing import Any

import pymysql
from pymysql.connections import Connection
from pymysql.constants import CR


class OwnConnection(Connection):
    """PyMySQL's connection. Its own way to a unix socket keeps the socket open where connecting fails."""

    def connect(self, sock: Any = None) -> None:
        """Connect, by a socket that is opened here where the address names a unix socket. Raises pymysql.MySQLError."""
        if sock is None and self.unix_socket:
            sock = _opened(str(self.unix_socket), self.connect_timeout)
            self.host_info = "Localhost via UNIX socket"
            self._secure = True
        super().connect(sock)


def connect(**how: Any) -> OwnConnection:
    """A new connection; the arguments are PyMySQL's. Raises pymysql.MySQLError."""
    return OwnConnection(**how)


# By this the pool finds the module whose errors and thread safety hold.
connect.dbapi = pymysql  # type: ignore[attr-defined]


def _opened(path: str, timeout_s: float | None) -> socket.socket:
    line = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    try:
        line.settimeout(timeout_s)
        line.connect(path)
    except OSError as error:
        line.close()
        raise pymysql.err.OperationalError(CR.CR_CONNECTION_ERROR, f"No database answers at {path}.") from error
    return line
