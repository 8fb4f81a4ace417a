"""`nailer accounts`: people are added, and let in again, from the machine that Nailer runs on.

It works while Nailer runs and while it does not: with a database of its own it finds the running one by the file in its
home, else it starts it for the moment.
"""

from __future__ import annotations

import argparse
import asyncio
import getpass
import os
import sys

from nailer.app import Nailer, join
from nailer.errors import InvalidInput, NotFound
from nailer.services.people import Did
from nailer.settings import load_settings
from nailer.store.mariadb import PrivateMariaDB


def manage(options: argparse.Namespace) -> None:
    """Do what `nailer accounts` was asked for. Raises NailerError."""
    settings = load_settings(**({"home": options.home} if options.home is not None else {}))
    server = None if settings.database_url else PrivateMariaDB(settings.home)
    url = settings.database_url or (server.running() if server is not None else None)
    started = server if url is None else None
    try:
        nailer = join(settings, url or (started.start() if started is not None else ""))
        try:
            nailer.stores.database.migrate()
            asyncio.run(_act(nailer, options))
        finally:
            nailer.people.accounts.close()
            nailer.stores.database.close()
    finally:
        if started is not None:
            started.stop()


async def _act(nailer: Nailer, options: argparse.Namespace) -> None:
    accounts = nailer.people.accounts
    if options.act == "list":
        for one in await accounts.all():
            standing = "deactivated" if one.is_off else "administrator" if one.is_admin else ""
            _say(f"{one.name}\t{standing}".rstrip())
        return
    if options.act == "add":
        await accounts.make(options.name, _password(), is_admin=options.runs_nailer)
        await nailer.people.log.add(Did.ACCOUNT, f"{options.name} was added on the server")
        _say(f"{options.name} can sign in.")
        return
    account = await accounts.by_name(options.name)
    if account is None:
        raise NotFound(f"There is no account named {options.name}. `nailer accounts list` shows all accounts.")
    await accounts.set_password(account.id, _password())
    await nailer.people.second.forget_all(account.id)
    await accounts.end_everything(account.id)
    await nailer.people.log.add(Did.ACCOUNT, f"{account.name} account reset on the server")
    _say(f"The password of {account.name} was changed. All sessions were signed out and all tokens revoked.")


def _password() -> str:
    """The password, asked for twice on a terminal, else the first line of standard input. Raises InvalidInput."""
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\r\n")
    password = getpass.getpass("The new password: ")
    if getpass.getpass("Repeat the password: ") != password:
        raise InvalidInput("The two passwords do not match.")
    return password


def _say(text: str) -> None:
    sys.stdout.write(text + os.linesep)
