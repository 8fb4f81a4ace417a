"""How much memory a job takes: the peak of this process after a small job, and how far a far larger one raises it."""

from __future__ import annotations

import resource
from pathlib import Path

from bench import content
from bench.servers import NEAR, Server
from bench.through import Through
from nailer.core.connecting.protocol import Protocol
from nailer.core.files.entry import SideName


def _peak_mib() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def _tree(folder: Path, files: int) -> None:
    for number in range(files):
        file = folder / f"part-{number // 500}" / f"leaf-{number}.txt"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(b"leaf")


def _film(file: Path, mib: int) -> None:
    with file.open("wb") as out:
        for _ in range(mib):
            out.write(bytes(2**20))


async def measure(through: Through, server: Server, sizes: content.Sizes) -> dict[str, object]:
    """Carry few files and many, a large file and a huge one; return the peaks in MiB."""
    site = await through.site(server, NEAR, Protocol.SFTP)
    found: dict[str, object] = {"case": "memory"}
    for name, make, each in (("files", _tree, sizes.memory_files), ("MiB", _film, sizes.memory_mib)):
        for size in each:
            thing = through.here / f"memory-{name}-{size}"
            make(thing, size)
            await through.transfer(site, SideName.THERE, [thing.name])
            content.empty(server.root)
            found[f"{size} {name}"] = round(_peak_mib())
    print(
        "peak memory of Nailer's process: "
        + ", ".join(f"{key} {value} MiB" for key, value in found.items() if key != "case")
    )
    return found
