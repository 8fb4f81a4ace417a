"""The commands of the server: `nailer serve`, `nailer demo`, `nailer accounts`. What each does lies beside this module.

Loading them takes a second or two. It happens once the signals are in hand, so that Ctrl-C ends a start at any moment.
"""

from __future__ import annotations

import argparse
import os
import sys
from pathlib import Path

from nailer.ending import INTERRUPTED, begin, catch_signals


def main(arguments: list[str] | None = None) -> int:
    """Run a command; return its exit status. A setup that fails is one sentence, not a trace."""
    catch_signals()
    try:
        return _run(_parser().parse_args(arguments))
    except KeyboardInterrupt:
        return INTERRUPTED


def _run(options: argparse.Namespace) -> int:
    from nailer import cli_accounts, cli_serve
    from nailer.errors import NailerError

    begin()
    cli_serve.set_up_logging()
    run = {"demo": cli_serve.demo, "serve": cli_serve.serve, "accounts": cli_accounts.manage}[options.command]
    try:
        run(options)
    except NailerError as failed:
        sys.stdout.write(f"{failed.title}: {failed.what}{os.linesep}")
        return 1
    return 0


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="nailer", description="Looks after the files of websites on rented hosting.")
    commands = parser.add_subparsers(dest="command", required=True)
    serve = commands.add_parser("serve", help="run Nailer; you create the first account in the browser")
    demo = commands.add_parser("demo", help="run Nailer with its demo sites on this machine")
    demo.add_argument("--fresh", action="store_true", help="reset the demo")
    accounts = commands.add_parser("accounts", help="manage accounts: add, reset a password, list")
    acts = accounts.add_subparsers(dest="act", required=True)
    add = acts.add_parser("add", help="add a person; asks for the password, or reads it from standard input")
    add.add_argument("name")
    add.add_argument("--runs-nailer", action="store_true", help="make this person an administrator")
    reset = acts.add_parser("reset", help="reset a person's password and remove their second factors")
    reset.add_argument("name")
    listing = acts.add_parser("list", help="list all accounts")
    for command in (add, reset, listing):
        command.add_argument("--home", type=Path, help="the folder for Nailer's own data")
    for command in (serve, demo):
        command.add_argument("--port", type=int, help="the port to answer on (0: a free one)")
        command.add_argument("--host", help="the address to answer on")
        command.add_argument("--home", type=Path, help="the folder for Nailer's own data")
    return parser


if __name__ == "__main__":
    status = main()
    sys.stdout.flush()
    # Everything has ended in order; tearing the interpreter down, too, takes seconds.
    os._exit(status)
