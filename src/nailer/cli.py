"""The command line of the server: `nailer serve`, `nailer demo`, `nailer accounts`."""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import errno
import fcntl
import os
import signal
import socket
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import structlog
import uvicorn
import uvloop

from nailer.app import Nailer, join
from nailer.cli_accounts import manage
from nailer.errors import NailerError, SetupFailed
from nailer.settings import Settings, load_settings
from nailer.standins.demo import run, scenario
from nailer.store.mariadb import PrivateMariaDB
from nailer.web.app import create_app
from nailer.web.checks.views import create_views
from nailer.web.shell.http import StrictHttp

_GRACE_S = 5


def main(arguments: list[str] | None = None) -> int:
    """Run a command; return its exit status. A setup that fails is one sentence, not a trace."""
    options = _parser().parse_args(arguments)
    _set_up_logging()
    # SIGTERM before the server runs must still end the private database and the stand-ins.
    signal.signal(signal.SIGTERM, _as_interrupt)
    try:
        if options.command == "demo":
            _demo(options)
        elif options.command == "accounts":
            manage(options)
        else:
            _serve(options)
    except NailerError as failed:
        _say(f"{failed.title}: {failed.what}")
        return 1
    except KeyboardInterrupt:
        return 130
    return 0


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="nailer", description="Looks after the files of websites on rented hosting.")
    commands = parser.add_subparsers(dest="command", required=True)
    serve = commands.add_parser("serve", help="run Nailer; the first visit makes the first account")
    demo = commands.add_parser("demo", help="run Nailer with its demo sites on this machine")
    demo.add_argument("--fresh", action="store_true", help="put the demo back to how it begins")
    accounts = commands.add_parser("accounts", help="add people, reset a password, list who there is")
    acts = accounts.add_subparsers(dest="act", required=True)
    add = acts.add_parser("add", help="add a person; the password is asked for, or read from standard input")
    add.add_argument("name")
    add.add_argument("--runs-nailer", action="store_true", help="this person may do everything")
    reset = acts.add_parser("reset", help="give a person another password, and take lost second proofs away")
    reset.add_argument("name")
    listing = acts.add_parser("list", help="list everybody")
    for command in (add, reset, listing):
        command.add_argument("--home", type=Path, help="the folder for Nailer's own data")
    for command in (serve, demo):
        command.add_argument("--port", type=int, help="the port to answer on (0: a free one)")
        command.add_argument("--host", help="the address to answer on")
        command.add_argument("--home", type=Path, help="the folder for Nailer's own data")
    return parser


def _given(options: argparse.Namespace) -> dict[str, object]:
    return {key: value for key in ("port", "host", "home") if (value := getattr(options, key)) is not None}


def _serve(options: argparse.Namespace) -> None:
    settings = load_settings(**_given(options))
    with contextlib.ExitStack() as stack:
        stack.enter_context(_locked(settings.home))
        listener = stack.enter_context(_listening(settings, settings.port, "--port"))
        views = stack.enter_context(_listening(settings, settings.view_port, "NAILER_VIEW_PORT"))
        url = settings.database_url or _database(stack, settings.home)
        nailer = join(settings, url)
        if not settings.roots:
            _say("No folder of this machine is allowed yet: set NAILER_ROOTS (docs/settings.md).")
        _run(nailer, listener, views)


def _demo(options: argparse.Namespace) -> None:
    home = (options.home or Path("var/demo")).expanduser().absolute()
    given = _given(options) | {"home": home / "nailer"}
    # What can fail at once, fails before anything is made.
    with contextlib.ExitStack() as stack:
        first = load_settings(**given)
        listener = stack.enter_context(_listening(first, first.port, "--port"))
        views = stack.enter_context(_listening(first, first.view_port, "NAILER_VIEW_PORT"))
        stack.enter_context(_locked(home.parent, f".{home.name}.lock"))
        new = run.prepare(home, fresh=options.fresh)
        standins = run.StandIns(home)
        stack.callback(standins.stop)
        ports = standins.start()
        overrides = given | {
            "roots": {"studio": home / "here"},
            "routes": scenario.routes(ports),
            "name_servers": [f"127.0.0.1:{ports['names']['files']}"],
            "mail_host": "127.0.0.1",
            "mail_port": ports["mail"]["files"],
            "mail_from": "nailer@gorsegannet.example",
            "sign_in_note": f"This is the demo. Sign in as {scenario.PERSON} with the password {scenario.PASSWORD}. "
            f"Its servers, with faults to switch and letters to try: http://127.0.0.1:{ports['desk']['web']}/",
        }
        settings = load_settings(**overrides)
        url = settings.database_url or _database(stack, settings.home)
        if new:
            uvloop.run(_fill(settings, url, home))
            run.laid_out(home)
        port = listener.getsockname()[1]
        _say(
            f"Sign in as {scenario.PERSON} with the password {scenario.PASSWORD}. Ctrl-C ends the demo; its data is kept.\n"
            f"Two more people: {scenario.COLLEAGUE} ({scenario.COLLEAGUES_PASSWORD}) has two sites, {scenario.CLERK} "
            f"({scenario.CLERKS_PASSWORD}) has the news of the ferries.\n"
            f"A program's token to try (docs/command-line.md): {scenario.TOKEN}\n"
            f"An invitation to try: http://{settings.host}:{port}/invited/{scenario.INVITATION}\n"
            f"The demo's servers, their faults and letters to try: http://127.0.0.1:{ports['desk']['web']}/"
        )
        _run(join(settings, url), listener, views)


async def _fill(settings: Settings, url: str, home: Path) -> None:
    nailer = join(settings, url)
    try:
        await asyncio.to_thread(nailer.stores.database.migrate)
        await scenario.remember(nailer, home)
    finally:
        nailer.stores.database.close()


def _database(stack: contextlib.ExitStack, home: Path) -> str:
    server = PrivateMariaDB(home)
    stack.callback(server.stop)
    return server.start()


class _Server(uvicorn.Server):
    """Ends the streams of events first, so that stopping does not wait for open pages."""

    def __init__(self, config: uvicorn.Config, nailer: Nailer, views: socket.socket) -> None:
        super().__init__(config)
        self._nailer = nailer
        self._views = _Views(_config(create_views(nailer)))
        self._views_at = views
        self._serving: asyncio.Task[None] | None = None

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        """Answer, and print the word that the first account of a fresh Nailer needs."""
        await super().startup(sockets)
        self._serving = asyncio.create_task(self._views.serve(sockets=[self._views_at]))
        accounts = self._nailer.people.accounts
        if self.started and await accounts.is_empty():
            _say(f"Nobody has an account yet. The first one needs this word: {accounts.first_word}")

    def handle_exit(self, sig: int, frame: object) -> None:
        """Let every page's stream end first: the server waits for open answers."""
        self._nailer.engine.live.end_streams()
        super().handle_exit(sig, frame)  # type: ignore[arg-type]

    async def shutdown(self, sockets: list[socket.socket] | None = None) -> None:
        """End the views, too, before the parts they are served from."""
        self._views.should_exit = True
        if self._serving is not None:
            await self._serving
        await super().shutdown(sockets)


class _Views(uvicorn.Server):
    """The server of views, beside the other in one process: signals are the other's."""

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        yield


def _run(nailer: Nailer, listener: socket.socket, views: socket.socket) -> None:
    host, port = listener.getsockname()[:2]
    app = create_app(nailer)
    app.state.view_port = views.getsockname()[1]
    config = _config(
        app,
        # What a client says of its address and of TLS counts only where a proxy that the settings name has said it.
        proxy_headers=bool(nailer.settings.trusted_proxies),
        forwarded_allow_ips=nailer.settings.trusted_proxies,
    )
    _say(f"Nailer answers at http://{host}:{port}/")
    _Server(config, nailer, views).run(sockets=[listener])


def _config(app: Callable[..., Any], **more: Any) -> uvicorn.Config:
    return uvicorn.Config(
        app,
        loop="uvloop",
        http=StrictHttp,
        ws="none",
        log_config=None,
        access_log=False,
        server_header=False,
        timeout_graceful_shutdown=_GRACE_S,
        timeout_keep_alive=30,
        **more,
    )


@contextlib.contextmanager
def _listening(settings: Settings, port: int, named_by: str) -> Iterator[socket.socket]:
    """A listening socket, taken before anything else is started. Raises SetupFailed."""
    listener = socket.socket()
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((settings.host, port))
        listener.listen(128)
    except OSError as error:
        listener.close()
        if error.errno == errno.EADDRINUSE:
            what = f"Port {port} is taken by another program. Name another with {named_by}, or 0 for a free one."
        elif error.errno == errno.EACCES:
            what = f"Port {port} needs more rights than you have. Name one above 1023 with {named_by}."
        else:
            what = f"{settings.host}:{port} cannot be listened on: {error.strerror}."
        raise SetupFailed(what) from error
    try:
        yield listener
    finally:
        listener.close()


@contextlib.contextmanager
def _locked(home: Path, name: str = ".lock") -> Iterator[None]:
    """Hold a data folder against a second Nailer. The lock goes with the process, however it ends."""
    try:
        home.mkdir(parents=True, exist_ok=True)
        file = open(home / name, "w")  # noqa: SIM115 - held open for as long as the lock
    except OSError as error:
        raise SetupFailed(
            f"The folder {home} cannot be written to: {error.strerror}. Name another with --home."
        ) from error
    with file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            raise SetupFailed(f"Another Nailer is running on {home}. End it first, or name another --home.") from error
        yield


def _set_up_logging() -> None:
    """Lines for people on a terminal, JSON elsewhere; to standard error, so that output stays what was asked for."""
    last = structlog.dev.ConsoleRenderer() if sys.stderr.isatty() else structlog.processors.JSONRenderer()
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            last,
        ],
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
    )


def _as_interrupt(number: int, frame: object) -> None:
    raise KeyboardInterrupt


def _say(text: str) -> None:
    sys.stdout.write(text + os.linesep)
    sys.stdout.flush()


if __name__ == "__main__":
    sys.exit(main())
