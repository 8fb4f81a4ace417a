"""`nailer serve` and `nailer demo`: everything that has to run, started in order and ended in the reverse order."""

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
from collections.abc import Callable, Coroutine, Iterator
from pathlib import Path
from typing import Any

import structlog
import uvicorn
import uvloop

from nailer.app import Nailer, join
from nailer.bounded import pool
from nailer.ending import RUNNING_WITHIN_S, SIGNALS, START_WITHIN_S, catch_signals, check, end_at_last
from nailer.errors import SetupFailed
from nailer.settings import Settings, load_settings
from nailer.standins.demo import run, scenario
from nailer.store.mariadb import PrivateMariaDB
from nailer.store.sole import SoleUse
from nailer.watchdog import watched
from nailer.web.app import create_app
from nailer.web.checks.views import create_views
from nailer.web.shell.http import StrictHttp

_GRACE_S = 5


def _given(options: argparse.Namespace) -> dict[str, object]:
    return {key: value for key in ("port", "host", "home") if (value := getattr(options, key)) is not None}


def serve(options: argparse.Namespace) -> None:
    """Run Nailer until it is told to stop. Raises NailerError."""
    settings = load_settings(**_given(options))
    with contextlib.ExitStack() as stack:
        stack.enter_context(_locked(settings.home))
        listener = stack.enter_context(_listening(settings, settings.port, "--port"))
        views = stack.enter_context(_listening(settings, settings.view_port, "NAILER_VIEW_PORT"))
        url = settings.database_url or _database(stack, settings.home)
        stack.enter_context(SoleUse(url, _stop_myself))
        nailer = join(settings, url)
        if not settings.roots:
            _say("Nailer may not use any folder on its machine yet. Set NAILER_ROOTS (see docs/settings.md).")
        _run(nailer, listener, views)


def demo(options: argparse.Namespace) -> None:
    """Run Nailer with the demo and its servers until it is told to stop. Raises NailerError."""
    home = (options.home or Path("var/demo")).expanduser().absolute()
    given = _given(options) | {"home": home / "nailer"}
    # What can fail at once, fails before anything is made.
    with contextlib.ExitStack() as stack:
        first = load_settings(**given)
        listener = stack.enter_context(_listening(first, first.port, "--port"))
        views = stack.enter_context(_listening(first, first.view_port, "NAILER_VIEW_PORT"))
        stack.enter_context(_locked(home.parent, f".{home.name}.lock"))
        check()
        new = run.prepare(home, fresh=options.fresh)
        standins = run.StandIns(home)
        stack.callback(standins.stop)
        ports = standins.start()
        check()
        settings = load_settings(**_of_the_demo(given, home, ports))
        url = settings.database_url or _database(stack, settings.home)
        stack.enter_context(SoleUse(url, _stop_myself))
        check()
        if new:
            uvloop.run(_unless_stopped(_fill(settings, url, home)))
            run.laid_out(home)
        _say_how_to_begin(settings, listener.getsockname()[1], ports)
        _run(join(settings, url), listener, views)


def _of_the_demo(given: dict[str, object], home: Path, ports: dict[str, dict[str, int]]) -> dict[str, object]:
    """The settings by which a Nailer uses the demo's folders and servers."""
    return given | {
        "roots": {"studio": home / "here"},
        "routes": scenario.routes(ports),
        "name_servers": [f"127.0.0.1:{ports['names']['files']}"],
        "mail_host": "127.0.0.1",
        "mail_port": ports["mail"]["files"],
        "mail_from": "nailer@gorsegannet.example",
        "sign_in_note": f"This is the demo. Sign in as {scenario.PERSON} with the password {scenario.PASSWORD}. "
        f"Its servers, with faults to switch and letters to try: http://127.0.0.1:{ports['desk']['web']}/",
    }


def _say_how_to_begin(settings: Settings, port: int, ports: dict[str, dict[str, int]]) -> None:
    _say(
        f"Sign in as {scenario.PERSON} with the password {scenario.PASSWORD}. Ctrl-C ends the demo; its data is kept.\n"
        f"Two more people: {scenario.COLLEAGUE} (password {scenario.COLLEAGUES_PASSWORD}) has access to two sites, "
        f"{scenario.CLERK} (password {scenario.CLERKS_PASSWORD}) to the folder with the ferries' news.\n"
        f"An API token to try (see docs/command-line.md): {scenario.TOKEN}\n"
        f"An invitation to try: http://{settings.host}:{port}/invited/{scenario.INVITATION}\n"
        f"The demo's servers, with faults and letters to try: http://127.0.0.1:{ports['desk']['web']}/"
    )


async def _unless_stopped(work: Coroutine[Any, Any, None]) -> None:
    """Do the work; give it up where this process is told to end. Raises KeyboardInterrupt."""
    task = asyncio.create_task(work)
    try:
        while not task.done():
            check()
            await asyncio.wait({task}, timeout=0.1)
        await task
    finally:
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)


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
    url = server.start()
    if server.closed:
        _say(
            f"The private database had accounts without a password that any user of this machine could use: "
            f"{', '.join(server.closed)}. Nailer has removed them. Check that People lists no one you do not know."
        )
    return url


def _stop_myself() -> None:
    """End this process as a person would who presses Ctrl-C."""
    _say("Another Nailer took over this database while it was away. This one stops.")
    os.kill(os.getpid(), signal.SIGTERM)


class _Server(uvicorn.Server):
    """Ends the streams of events first, so that stopping does not wait for open pages."""

    def __init__(self, config: uvicorn.Config, nailer: Nailer, views: socket.socket) -> None:
        super().__init__(config)
        self._nailer = nailer
        self._views = _Views(_config(create_views(nailer)))
        self._views_at = views
        self._serving: asyncio.Task[None] | None = None
        self.was_told_to_stop = False

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        """Answer, and print the word that the first account of a fresh Nailer needs."""
        await super().startup(sockets)
        self._serving = asyncio.create_task(self._views.serve(sockets=[self._views_at]))
        accounts = self._nailer.people.accounts
        if self.started and await accounts.is_empty():
            _say(f"There are no accounts yet. Setup code for the first account: {accounts.first_word}")

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        """Signals reach the loop as calls of its own, between two steps. A handler that runs in the middle of whatever is
        under way may raise there, and the signal is lost."""
        loop = asyncio.get_running_loop()
        for number in SIGNALS:
            loop.add_signal_handler(number, self.handle_exit, number, None)
        check()
        try:
            with watched():
                yield
        finally:
            for number in SIGNALS:
                loop.remove_signal_handler(number)
            catch_signals()

    def handle_exit(self, sig: int, frame: object) -> None:
        """Let every page's stream end first: the server waits for open answers."""
        end_at_last(RUNNING_WITHIN_S if self.started else START_WITHIN_S)
        self.was_told_to_stop = True
        super().handle_exit(sig, frame)  # type: ignore[arg-type]
        self._nailer.engine.live.end_streams()

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
    _say(f"Nailer is running at http://{host}:{port}/")
    server = _Server(config, nailer, views)
    try:
        server.run(sockets=[listener])
    finally:
        pool.close()
    if server.was_told_to_stop:
        raise KeyboardInterrupt


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
            what = f"Port {port} is in use by another program. Choose another with {named_by}, or 0 for any free port."
        elif error.errno == errno.EACCES:
            what = f"Port {port} needs more rights than you have. Name one above 1023 with {named_by}."
        else:
            what = f"Nailer cannot listen on {settings.host}:{port}: {error.strerror}."
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
            raise SetupFailed(
                f"Another Nailer is running on {home}. Stop it first, or use another folder with --home."
            ) from error
        yield


def set_up_logging() -> None:
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


def _say(text: str) -> None:
    sys.stdout.write(text + os.linesep)
    sys.stdout.flush()
