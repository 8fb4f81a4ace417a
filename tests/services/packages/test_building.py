"""What was built is compared with what was wanted by content, where its server has hashes of its own."""

from __future__ import annotations

import hashlib

import pytest
from blake3 import blake3

from nailer.core.files.entry import NS, Entry, Kind, Stamp
from nailer.core.files.sitepath import SitePath
from nailer.core.packages.manifest import Copied, Manifest
from nailer.services.packages.replacing.building import other_content
from nailer.sides.memory import MemorySide
from nailer.sides.side import Digest, once
from tests.builders import path

TOP = path("/skins/new")
WANTED = {b"a.css": b"a { top: 1 }", b"b.css": b"b { top: 1 }"}


class Hashing(MemorySide):
    """A side whose server computes hashes, as by the check-file extension."""

    async def own_hash(self, path: SitePath) -> Digest | None:
        return Digest("sha256", hashlib.sha256((await self.read_all(path))[1]).digest())


async def hashed(digest: bytes, algorithm: str) -> bytes:
    (content,) = [one for one in WANTED.values() if blake3(one).digest() == digest]
    return hashlib.new(algorithm, content).digest()


@pytest.mark.parametrize(
    ("there", "said"),
    [
        (WANTED, []),
        (WANTED | {b"b.css": b"b { top: 9 }"}, ["b.css has another content than was sent"]),
    ],
    ids=["as sent", "wrong bytes of the right size"],
)
async def test_what_was_built_is_told_by_its_content(there: dict[bytes, bytes], said: list[str]) -> None:
    side = Hashing()
    await side.make_folder(path("/skins"))
    await side.make_folder(TOP)
    for name, content in there.items():
        await side.write(TOP.child(name), once(content))
    wanted = Manifest(
        tuple(
            Copied((name,), Entry(name, Kind.FILE, len(content), Stamp(NS)), blake3(content).digest())
            for name, content in WANTED.items()
        )
    )
    assert await other_content(side, TOP, wanted, hashed) == said
