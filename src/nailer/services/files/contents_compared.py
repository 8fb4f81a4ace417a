"""Comparing contents: by the server's own means where it has any, so that no byte is sent; else by reading both sides.

A server with a shell is asked for many files at once; one that speaks FTP with a hash command for each. What it says is held
against a hash of the near file by the same algorithm. A file of which nothing could be learned is left out.
"""

from __future__ import annotations

import asyncio
import hashlib
import shlex
from collections.abc import Callable, Mapping, Sequence
from contextlib import aclosing
from dataclasses import dataclass

from blake3 import blake3

from nailer.core.files.charset import to_wire
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath
from nailer.engine.tasks import at_once
from nailer.errors import NotSupported, TransferError
from nailer.sides.pool import Pool
from nailer.sides.side import CHUNK_BYTES, Digest, Side
from nailer.store.sites import Site

_AT_ONCE = 24
_PATHS_AT_ONCE = 300
_WITHIN_S = 600.0
_CHEAP_BYTES = 8_000_000

# Each file by the path that SFTP shows, or below the account's own folder where SFTP shows that as the root; it must have
# the size that was listed. One line a file: its hash, or a dash.
_SUMS = b"""
command -v sha256sum >/dev/null || { echo none; exit 0; }
echo sums
one() {
  f=$1
  [ -f "$f" ] || f=".$f"
  if [ -f "$f" ] && [ "$(wc -c <"$f")" -eq "$2" ] && h=$(sha256sum <"$f"); then echo "${h%% *}"; else echo -; fi
}
"""


@dataclass(frozen=True, slots=True)
class ComparedEnd:
    """One end whose files are compared. `site` is None for this machine."""

    side: Side
    top: SitePath
    site: Site | None


class ContentComparer:
    def __init__(self, pool: Pool) -> None:
        self._pool = pool

    async def equal(
        self,
        near: ComparedEnd,
        far: ComparedEnd,
        names: Sequence[tuple[RelativePath, int]],
        heard: Callable[[int], None],
    ) -> dict[RelativePath, bool]:
        """Whether the contents of names (with their sizes) below two folders are the same. `heard` is told how many are
        done."""
        known = await self._by_shell(far, names)
        found: dict[RelativePath, bool] = {}

        async def _one(below: RelativePath) -> None:
            try:
                found_here = await self._same(near, far, below, known.get(below))
            except TransferError as error:
                if error.retryable:
                    raise
                return
            found[below] = found_here
            heard(len(found))

        async with aclosing(at_once((_one(below) for below, _ in names), _AT_ONCE)) as ended:
            async for _ in ended:
                pass
        return found

    async def equal_if_cheap(
        self, near: ComparedEnd, far: ComparedEnd, names: Sequence[tuple[RelativePath, int]]
    ) -> dict[RelativePath, bool]:
        """As `equal`, without many bytes over the line: of a server that tells no hash only so much is read."""
        told = await self._by_shell(far, names)
        silent = sorted((size, below) for below, size in names if below not in told)
        cheap, budget = [below for below, _ in names if below in told], _CHEAP_BYTES
        for size, below in silent:
            budget -= size
            if budget < 0:
                break
            cheap.append(below)

        async def _one(below: RelativePath) -> tuple[RelativePath, bool]:
            return below, await self._same(near, far, below, told.get(below))

        async with aclosing(at_once(map(_one, cheap), _AT_ONCE)) as ended:
            return {below: is_same async for below, is_same in ended}

    async def _same(self, near: ComparedEnd, far: ComparedEnd, below: RelativePath, told: Digest | None) -> bool:
        digest = told or await far.side.own_hash(far.top.join(below))
        if digest is not None:
            return digest.value == await content_hash(near.side, near.top.join(below), digest.algorithm)
        ours, theirs = await asyncio.gather(
            content_hash(near.side, near.top.join(below)), content_hash(far.side, far.top.join(below))
        )
        return ours == theirs

    async def _by_shell(
        self, far: ComparedEnd, names: Sequence[tuple[RelativePath, int]]
    ) -> Mapping[RelativePath, Digest]:
        """What a server's shell says of many files; nothing where the account has none."""
        found: dict[RelativePath, Digest] = {}
        site = far.site
        if site is None or not site.protocol.traits.commands:
            return found
        for start in range(0, len(names), _PATHS_AT_ONCE):
            some = names[start : start + _PATHS_AT_ONCE]
            calls = b"".join(b"one %s %d\n" % (_quoted(site, far.top.join(below)), size) for below, size in some)
            try:
                ran = await self._pool.run(site.id, _SUMS + calls, within_s=_WITHIN_S)
            except NotSupported:
                return found
            _, marked, text = ran.out.partition(b"sums\n")
            lines = text.split(b"\n")
            if not marked or len(lines) < len(some):
                return found
            for (below, _), line in zip(some, lines, strict=False):
                if len(line) == 64:
                    found[below] = Digest("sha256", bytes.fromhex(line.decode("ascii", "replace")))
        return found


async def content_hash(side: Side, path: SitePath, algorithm: str = "") -> bytes:
    """The hash of a file's content, BLAKE3 unless another is asked for. Raises what reading raises."""
    hashed = hashlib.new(algorithm) if algorithm else blake3()
    async with aclosing(side.read(path, ahead=4 * CHUNK_BYTES)) as chunks:
        async for chunk in chunks:
            hashed.update(chunk)
    return bytes(hashed.digest())


def _quoted(site: Site, path: SitePath) -> bytes:
    raw = b"/" + b"/".join(to_wire(name, site.charset) for name in path.names)
    return shlex.quote(raw.decode("latin-1")).encode("latin-1")
