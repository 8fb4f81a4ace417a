"""`./nailer bench [NAMES] [--rounds N] [--json FILE]`: every case interleaved, the median ratio, and its goal.

A ratio is the bare library's time divided by Nailer's: 1.0 is as fast, 60 is sixty times faster. Cases whose bare part
would take minutes run it on a share of the work and multiply, as one call after another takes time in proportion.
"""

from __future__ import annotations

import argparse
import asyncio
import json
import os
import platform
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Awaitable, Callable
from contextlib import AsyncExitStack
from dataclasses import dataclass
from pathlib import Path

import uvloop

from bench import bare, content, memory, plans, rows, views
from bench.content import Sizes
from bench.servers import FAR, NEAR, ROUND_TRIP_MS, Server, ftp, openssh
from bench.through import Through, a_nailer
from nailer.core.connecting.protocol import Protocol
from nailer.core.files.entry import SideName
from nailer.store.sites import Site

WHOLE = Sizes()
LITTLE = Sizes(
    small_files=6,
    small_folders=2,
    big_bytes=3 * 2**20,
    tree_folders=10,
    plan_folders=3,
    plan_files=200,
    job_rows=50,
    view_names=(5, 20),
    memory_files=(3, 6),
    memory_mib=(1, 2),
)

Seconds = Callable[[], Awaitable[float]]


@dataclass(frozen=True, slots=True)
class Case:
    """What is compared: the bare library and Nailer, each run to its seconds; `goal` is the ratio to reach."""

    name: str
    goal: float
    plain: Seconds
    ours: Seconds
    tidy: Callable[[], None]


async def _timed(work: Awaitable[None], share: float = 1.0) -> float:
    started = time.perf_counter()
    await work
    return (time.perf_counter() - started) / share


class Cases:
    """Everything that can be measured, with the content it needs. Servers start when first asked for."""

    def __init__(self, stack: AsyncExitStack, home: Path, through: Through, sizes: Sizes) -> None:
        self._sizes = sizes
        self._stack = stack
        self._home = home
        self._through = through
        self._servers: dict[str, Server] = {}
        self._views: views.Views | None = None
        self._sites: dict[tuple[str, str], Site] = {}
        self.small = content.small(through.here / "small", sizes)
        self.big = content.big(through.here / "big.bin", sizes)
        self.landing = home / "landing"
        self.landing.mkdir()

    @property
    def _folders(self) -> float:
        """How many folders the tree has in all, those in between included."""
        return self._sizes.tree_folders * 1.111

    def server(self, kind: str) -> Server:
        if kind not in self._servers:
            home = self._home / kind
            making = openssh(home) if kind.startswith("sftp") else ftp(home, "explicit" if kind == "ftps" else "")
            self._servers[kind] = self._stack.enter_context(making)
            if kind.endswith("tree"):
                content.tree(self._servers[kind].root, self._sizes)
        return self._servers[kind]

    async def site(self, kind: str, address: str) -> Site:
        protocol = {"sf": Protocol.SFTP, "ftps": Protocol.FTP_TLS}.get(kind[:2] if kind[:2] == "sf" else kind)
        if (kind, address) not in self._sites:
            self._sites[kind, address] = await self._through.site(self.server(kind), address, protocol or Protocol.FTP)
        return self._sites[kind, address]

    def _tidy(self, kind: str, *, down: bool = False) -> Callable[[], None]:
        def tidy() -> None:
            if down:
                self.big.unlink(missing_ok=True)
                (self.landing / "big.bin").unlink(missing_ok=True)
            else:
                content.empty(self.server(kind).root)

        return tidy

    def sftp_big(self, name: str, address: str, goal: float, *, up: bool, best: bool) -> Case:
        server = self.server("sftp")

        async def ours() -> float:
            site = await self.site("sftp", address)
            return await self._through.transfer(site, SideName.THERE if up else SideName.HERE, ["big.bin"])

        async def plain() -> float:
            file = self.big if up else self.landing / "big.bin"
            return await _timed(bare.sftp_big(server, address, file, up=up, best=best))

        def tidy() -> None:
            if up:
                content.empty(server.root)
                if not self.big.exists():
                    content.big(self.big, self._sizes)
            else:
                if not (server.root / "big.bin").exists():
                    content.big(server.root / "big.bin", self._sizes)
                self.big.unlink(missing_ok=True)

        return Case(name, goal, plain, ours, tidy)

    def small_files(self, kind: str, address: str, goal: float, share: float) -> Case:
        server = self.server(kind)

        async def ours() -> float:
            return await self._through.transfer(await self.site(kind, address), SideName.THERE, ["small"])

        async def plain() -> float:
            if kind == "sftp":
                return await _timed(bare.sftp_small(server, address, self.small, share), share)
            tls = kind == "ftps"
            return await _timed(asyncio.to_thread(bare.ftp_small, server, address, self.small, share, tls=tls), share)

        name = f"{kind} small, {'40 ms' if address == FAR else 'loopback'}"
        return Case(name, goal, plain, ours, self._tidy(kind))

    def tree(self, kind: str, address: str, goal: float, share: float) -> Case:
        server = self.server(f"{kind}-tree")

        async def ours() -> float:
            return await self._through.read_tree(await self.site(f"{kind}-tree", address), self._sizes.tree_files)

        async def plain() -> float:
            if kind == "sftp":
                return await _timed(bare.sftp_tree(server, address, share * self._folders), share)
            return await _timed(asyncio.to_thread(bare.ftp_tree, server, address, share * self._folders), share)

        name = f"{kind} reading 20,000 in 1,000, {'40 ms' if address == FAR else 'loopback'}"
        return Case(name, goal, plain, ours, lambda: None)

    def pair(self) -> Case:
        server = self.server("sftp-tree")

        async def ours() -> float:
            return await plans.read_pair(self._through, await self.site("sftp-tree", FAR), self._sizes)

        async def plain() -> float:
            return await _timed(bare.sftp_tree(server, FAR, 0.05 * self._folders), 0.05)

        return Case("a pair of 20,000 read and planned, 40 ms", 40, plain, ours, lambda: None)

    def million(self) -> Case:
        names = plans.Million(self._sizes)
        return Case(
            "plan of 3 x 1,000,000 names",
            0.5,
            names.plain,
            names.ours,
            lambda: print(f"  {names.added_mib} MiB above the entries"),
        )

    def ftp_big(self, kind: str, goal: float, *, up: bool) -> Case:
        server = self.server(kind)

        async def ours() -> float:
            site = await self.site(kind, NEAR)
            return await self._through.transfer(site, SideName.THERE if up else SideName.HERE, ["big.bin"])

        async def plain() -> float:
            file = self.big if up else self.landing / "big.bin"
            return await _timed(asyncio.to_thread(bare.ftp_big, server, file, up=up, tls=kind == "ftps"))

        def tidy() -> None:
            if up:
                content.empty(server.root)
                if not self.big.exists():
                    content.big(self.big, self._sizes)
            else:
                if not (server.root / "big.bin").exists():
                    content.big(server.root / "big.bin", self._sizes)
                self.big.unlink(missing_ok=True)

        return Case(f"{kind} big {'up' if up else 'down'}, loopback", goal, plain, ours, tidy)

    def job_rows(self) -> Case:
        """Plans of 20,000 items stored, against the bare library's multi-row inserts of the same columns."""
        return Case(
            "rows of a job, 20,000 items",
            0.5,
            lambda: rows.plain(self._through, self._sizes.job_rows),
            lambda: rows.ours(self._through, self._sizes.job_rows),
            lambda: None,
        )

    async def views(self) -> views.Views:
        """A visitor of the files view of a site near by."""
        if self._views is None:
            self._views = views.Views(self._through, await self.site("sftp-views", NEAR), self.server("sftp-views"))
            await self._views.sign_in()
            self._stack.push_async_callback(self._views.close)
        return self._views

    def files_view(self, name: str, *, fresh: bool) -> Case:
        async def first_rows(names: int) -> float:
            visitor = await self.views()
            await visitor.folder(names)
            await visitor.first_rows(names, fresh=fresh)
            return min([await visitor.first_rows(names, fresh=fresh) for _ in range(3)])

        few, many, *_ = self._sizes.view_names
        return Case(name, 0.33, lambda: first_rows(few), lambda: first_rows(many), lambda: None)

    def all(self) -> dict[str, Callable[[], Case]]:
        return {
            "job-rows": self.job_rows,
            "sftp-big-up": lambda: self.sftp_big("sftp big up, loopback", NEAR, 0.9, up=True, best=True),
            "sftp-big-down": lambda: self.sftp_big("sftp big down, loopback", NEAR, 0.9, up=False, best=True),
            "sftp-big-up-far": lambda: self.sftp_big("sftp big up, 40 ms", FAR, 0.95, up=True, best=True),
            "sftp-big-down-far": lambda: self.sftp_big("sftp big down, 40 ms", FAR, 4, up=False, best=False),
            "sftp-small": lambda: self.small_files("sftp", NEAR, 2, 1),
            "sftp-small-far": lambda: self.small_files("sftp", FAR, 60, 0.1),
            "sftp-tree": lambda: self.tree("sftp", NEAR, 2.5, 1),
            "sftp-tree-far": lambda: self.tree("sftp", FAR, 80, 0.05),
            "sync-pair-far": self.pair,
            "plan-million": self.million,
            "view": lambda: self.files_view("files view of 10,000 names beside 100", fresh=False),
            "view-anew": lambda: self.files_view("the same, both sides listed anew", fresh=True),
            "ftp-small-far": lambda: self.small_files("ftp", FAR, 15, 0.1),
            "ftps-small-far": lambda: self.small_files("ftps", FAR, 15, 0.1),
            "ftp-tree-far": lambda: self.tree("ftp", FAR, 8, 0.05),
            "ftp-big-up": lambda: self.ftp_big("ftp", 0.9, up=True),
            "ftp-big-down": lambda: self.ftp_big("ftp", 0.9, up=False),
            "ftps-big-up": lambda: self.ftp_big("ftps", 0.9, up=True),
            "ftps-big-down": lambda: self.ftp_big("ftps", 0.9, up=False),
        }


async def _measure(case: Case, rounds: int) -> dict[str, object]:
    plain, ours = [], []
    for _ in range(rounds):
        case.tidy()
        plain.append(await case.plain())
        case.tidy()
        ours.append(await case.ours())
    case.tidy()
    ratios = [one / other for one, other in zip(plain, ours, strict=True)]
    median = statistics.median(ratios)
    print(
        f"{case.name:42} bare {statistics.median(plain):8.2f} s   Nailer {statistics.median(ours):7.2f} s   "
        f"{median:6.2f}x ({min(ratios):.2f} to {max(ratios):.2f})   goal {case.goal:g}x   "
        f"{'reached' if median >= case.goal else 'NOT reached'}",
        flush=True,
    )
    return {"case": case.name, "bare_s": plain, "nailer_s": ours, "ratio": median, "goal": case.goal}


async def main(names: list[str], rounds: int, out: Path, sizes: Sizes = WHOLE) -> None:
    with tempfile.TemporaryDirectory(prefix="nailer-bench-") as folder:
        async with a_nailer(Path(folder)) as through, AsyncExitStack() as stack:
            cases = Cases(stack, Path(folder), through, sizes)
            known = cases.all()
            if [*known, "views", "memory"] != CASES:
                raise SystemExit("CASES does not name what there is.")
            print(f"{rounds} rounds, interleaved; 40 ms is a relay that adds {ROUND_TRIP_MS} ms of round trip.\n")
            results = []
            for name in names:
                if name == "views":
                    results.append(await views.measure(await cases.views(), sizes))
                elif name == "memory":
                    results.append(await memory.measure(through, cases.server("sftp"), sizes))
                elif name in known:
                    results.append(await _measure(known[name](), rounds))
                else:
                    raise SystemExit(f"There is no case {name}. There are: {', '.join(known)}, views, memory.")
    _keep(results, out)


def _keep(results: list[dict[str, object]], out: Path) -> None:
    out.parent.mkdir(parents=True, exist_ok=True)
    machine = {
        "cores": os.cpu_count(),
        "python": platform.python_version(),
        "at": time.strftime("%FT%TZ", time.gmtime()),
    }
    out.write_text(json.dumps({"machine": machine, "results": results}, indent=1) + "\n")
    print(f"\nkept in {out}")


CASES = [
    "job-rows",
    "sftp-big-up",
    "sftp-big-down",
    "sftp-big-up-far",
    "sftp-big-down-far",
    "sftp-small",
    "sftp-small-far",
    "sftp-tree",
    "sftp-tree-far",
    "sync-pair-far",
    "plan-million",
    "view",
    "view-anew",
    "ftp-small-far",
    "ftps-small-far",
    "ftp-tree-far",
    "ftp-big-up",
    "ftp-big-down",
    "ftps-big-up",
    "ftps-big-down",
    "views",
    "memory",
]


def everything(rounds: int, out: Path) -> None:
    """Every case in a process of its own: what one leaves in memory neither slows nor counts in another."""
    results: list[dict[str, object]] = []
    with tempfile.TemporaryDirectory(prefix="nailer-bench-") as folder:
        for name in CASES:
            part = Path(folder) / f"{name}.json"
            command = [sys.executable, "-m", "bench", name, "--rounds", str(rounds), "--json", str(part)]
            if subprocess.run(command, check=False).returncode == 0:
                results += json.loads(part.read_text())["results"]
    _keep(results, out)


if __name__ == "__main__":
    parser = argparse.ArgumentParser(prog="./nailer bench")
    parser.add_argument("names", nargs="*")
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--little", action="store_true", help="on next to nothing, to see that every case still runs")
    parser.add_argument("--json", type=Path, default=Path("var/bench.json"))
    given = parser.parse_args()
    if given.names:
        uvloop.run(main(given.names, given.rounds, given.json, LITTLE if given.little else WHOLE))
    elif given.little:
        uvloop.run(main(CASES, 1, given.json, LITTLE))
    else:
        everything(given.rounds, given.json)
