"""Runs the demo's servers in a process of their own: `python -m nailer.standins.serve PLAN.json`.

When all answer, prints one JSON line with the ports; ends when its input is closed.
"""

from __future__ import annotations

import asyncio
import json
import socket
import sys
from pathlib import Path
from typing import Any

import asyncssh
import uvicorn
import uvloop

from nailer.standins.desk import Shown, make_desk
from nailer.standins.ftp import FtpHost
from nailer.standins.mail import MailHost
from nailer.standins.names import NameHost
from nailer.standins.pages import Pages
from nailer.standins.proxy import ProxyHost
from nailer.standins.sftp import SftpHost


class _QuietServer(uvicorn.Server):
    """Leaves signals to this process."""

    def install_signal_handlers(self) -> None:
        """Nothing: the stand-ins end with their input."""


async def serve(plan: dict[str, Any]) -> None:
    """Start what the plan names and run until standard input ends."""
    shown: dict[str, Shown] = {}
    sockets, roots = [], {}
    ports: dict[str, dict[str, int]] = {}
    held_s: dict[tuple[str, int], int] = {}
    leads_on: set[tuple[str, int]] = set()
    by_tls: list[tuple[socket.socket, str]] = []
    proxy = ProxyHost(port=plan["proxy"].get("port", 0), route=_route(plan, ports))
    for name, one in plan["hosts"].items():
        host = _host(one)
        port = await _start(host)
        ports[name] = {"files": port}
        change = _change_key(host) if isinstance(host, SftpHost) else None
        shown[name] = Shown(one["server"], one["sign_in"], one["about"], host, change)
        if "web_root" in one:
            bound = _bound(one["web_address"], one.get("web_port", 0))
            web_port = bound.getsockname()[1]
            sockets.append(bound)
            roots[(one["web_address"], web_port)] = Path(one["root"]) / one["web_root"]
            if one.get("web_cache_s"):
                held_s[(one["web_address"], web_port)] = one["web_cache_s"]
            ports[name]["web"] = web_port
            plain = _bound(one["web_address"], one.get("plain_port", 0))
            sockets.append(plain)
            ports[name]["plain"] = plain.getsockname()[1]
            leads_on.add((one["web_address"], ports[name]["plain"]))
            if one.get("web_certificate"):
                secure = _bound(one["web_address"], one.get("tls_port", 0))
                ports[name]["tls"] = secure.getsockname()[1]
                roots[(one["web_address"], ports[name]["tls"])] = roots[(one["web_address"], web_port)]
                by_tls.append((secure, one["web_certificate"]))
    ports["proxy"] = {"files": await proxy.start()}
    mail = MailHost(_free(plan["mail"].get("port", 0)))
    ports["mail"] = {"files": mail.start()}
    desk_socket = _bound("127.0.0.1", plan["desk"].get("port", 0))
    ports["desk"] = {"web": desk_socket.getsockname()[1]}
    names = NameHost(plan.get("names", {}).get("table", {}), plan.get("names", {}).get("port", 0))
    ports["names"] = {"files": await names.start()}
    served = Pages(roots, held_s=held_s, leads_on=leads_on)
    pages = _QuietServer(uvicorn.Config(served, log_level="warning", lifespan="off"))
    secured = [
        (_QuietServer(uvicorn.Config(served, log_level="warning", lifespan="off", ssl_certfile=file)), bound)
        for bound, file in by_tls
    ]
    letters = [Path(one) for one in plan["desk"]["letters"]]
    desk = _QuietServer(uvicorn.Config(make_desk(shown, letters, mail), log_level="warning", lifespan="off"))
    running = [
        asyncio.create_task(pages.serve(sockets=sockets)),
        asyncio.create_task(desk.serve(sockets=[desk_socket])),
        *(asyncio.create_task(one.serve(sockets=[bound])) for one, bound in secured),
    ]
    sys.stdout.write(json.dumps(ports) + "\n")
    sys.stdout.flush()
    await asyncio.to_thread(sys.stdin.read)
    for server in (pages, desk, *(one for one, _ in secured)):
        server.should_exit = True
    names.stop()
    await asyncio.gather(*running)
    mail.stop()
    await asyncio.gather(*(one.host.stop() for one in shown.values()), proxy.stop())


def _host(one: dict[str, Any]) -> FtpHost | SftpHost:
    root, manners = Path(one["root"]), dict(one.get("manners", {}))
    if one["kind"] == "sftp":
        key = asyncssh.read_private_key(one["host_key"])
        question = tuple(manners.pop("question", ("", "")))
        return SftpHost(
            root,
            one["user"],
            one["password"],
            one.get("authorized_key"),
            key,
            port=one.get("port", 0),
            question=question,
            **manners,
        )
    certificate = Path(one["certificate"]) if one.get("certificate") else None
    lacks = tuple(manners.pop("lacks", ()))
    return FtpHost(
        root, one["user"], one["password"], certificate=certificate, port=one.get("port", 0), lacks=lacks, **manners
    )


async def _start(host: FtpHost | SftpHost) -> int:
    """On the port of the last time where it is free, so that nothing that was noted goes stale."""
    try:
        return await host.start()
    except OSError:
        host.port = 0
        return await host.start()


def _change_key(host: SftpHost) -> Any:
    async def _change() -> None:
        await host.stop()
        host.host_key = asyncssh.generate_private_key("ssh-ed25519")
        await host.start()

    return _change


def _route(plan: dict[str, Any], ports: dict[str, dict[str, int]]) -> Any:
    """Where the made-up names lead, for a proxy that is asked for them."""

    def _route(host: str, port: int) -> tuple[str, int]:
        for name, one in plan["hosts"].items():
            if host == one["server"] and name in ports:
                return "127.0.0.1", ports[name]["files"]
        return host, port

    return _route


def _free(port: int) -> int:
    """That port where nobody has it, else any that is free."""
    bound = _bound("127.0.0.1", port)
    with bound:
        return int(bound.getsockname()[1])


def _bound(address: str, port: int) -> socket.socket:
    bound = socket.socket()
    bound.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        bound.bind((address, port))
    except OSError:
        bound.bind((address, 0))
    return bound


if __name__ == "__main__":
    uvloop.run(serve(json.loads(Path(sys.argv[1]).read_text())))
