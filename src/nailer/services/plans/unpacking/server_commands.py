"""What an account with a shell can have the server do itself: unpack an archive where it is.

Nothing is unpacked over what is there. The names in the archive are checked first; it is unpacked into a hidden folder of
its own and counted; what came out is then moved or copied to its place by a plan like any other.
"""

from __future__ import annotations

import secrets
import shlex
from dataclasses import dataclass

from nailer.acting import grant_on
from nailer.core.files.charset import to_wire
from nailer.core.files.entry import SideName
from nailer.core.files.names import is_staging_name, staging_name
from nailer.core.files.sitepath import SitePath, shown_name
from nailer.core.words import size_text
from nailer.errors import InvalidInput, NoSpaceLeft, NotSupported, ServerFailed
from nailer.services.files import Browse
from nailer.sides.connection import CommandResult
from nailer.sides.pool import Pool
from nailer.store.sites import Site

_WITHIN_S = 600.0
_MOST_NAMES = 200_000
_MOST_RATIO = 200
_RATIO_FREE_BYTES = 50_000_000

# The script finds the archive by the path that SFTP shows, or below the account's own folder where SFTP shows that as the
# root, and knows it by its size. Exit statuses of its own tell what went wrong.
_FIND = b"""
a=%(path)s; f=%(folder)s
[ -f "$a" ] || { a=".$a"; f=".$f"; }
case "$a" in /*) ;; *) a="$PWD/$a"; f="$PWD/$f" ;; esac
[ -f "$a" ] && [ "$(wc -c <"$a")" -eq %(size)d ] || exit 91
"""
_TAR_NAMES = b"""
command -v tar >/dev/null || exit 92
tar -tf "$a" </dev/null || exit 93
printf '\\0'
tar -xOf "$a" </dev/null 2>/dev/null | head -c %(most)d | wc -c
"""
_ZIP_NAMES = b"""
if command -v unzip >/dev/null; then
  unzip -Z1 "$a" </dev/null || exit 93
  printf '\\0'
  unzip -p "$a" </dev/null 2>/dev/null | head -c %(most)d | wc -c
elif command -v python3 >/dev/null; then
  python3 -c 'import sys, zipfile
infos = zipfile.ZipFile(sys.argv[1]).infolist()
out = sys.stdout.buffer
out.write("\\n".join(one.filename for one in infos).encode("utf-8", "surrogateescape"))
out.write(b"\\0%%d" %% sum(one.file_size for one in infos))' "$a" || exit 93
else exit 92; fi
"""
_TAR_UNPACK = b"""
tar -xof "$a" -C "$s" </dev/null || { rm -rf "$s"; exit 93; }
"""
_ZIP_UNPACK = b"""
if command -v unzip >/dev/null; then unzip -qq -d "$s" "$a" </dev/null
else python3 -m zipfile -e "$a" "$s"; fi || { rm -rf "$s"; exit 93; }
"""
# Links and special files are taken out again, whatever the unpacking program thought of them.
_STAGE = b"""
s="$f"/%(staging)s
mkdir -m 700 "$s" || exit 94
%(unpack)s
find "$s" ! -type f ! -type d | wc -l
find "$s" ! -type f ! -type d -exec rm -f {} +
chmod -R u+rwX "$s"
find "$s" -type f | wc -l
"""
_CLEAR = b"""
f=%(folder)s
[ -d "$f"/%(staging)s ] || f=".$f"
rm -rf "$f"/%(staging)s
"""
# Parses without running, as far as the language lets; 95: there is no way for this one.
_SYNTAX = b"""
i=%(program)s; f=%(path)s
[ -f "$f" ] || f=".$f"
[ -x "$i" ] && echo yes || echo no
case "$(basename "$i") $(head -n 1 "$f")" in
  *perl*) perl -c "$f" 2>&1 >/dev/null </dev/null || exit 96 ;;
  *python*) python3 -c 'import ast, sys
ast.parse(open(sys.argv[1], "rb").read(), sys.argv[1])' "$f" 2>&1 </dev/null || exit 96 ;;
  *ruby*) ruby -c "$f" 2>&1 </dev/null >/dev/null || exit 96 ;;
  *php*) php -l "$f" 2>&1 </dev/null || exit 96 ;;
  *sh*) sh -n "$f" 2>&1 </dev/null || exit 96 ;;
  *) exit 95 ;;
esac
"""
_TROUBLE = {
    91: "The server's shell sees other paths than SFTP, so Nailer cannot unpack the archive on the server.",
    92: "The server has no program to unpack this type of archive.",
    93: "The server could not unpack this archive.",
    94: "The server's shell may not make a folder beside the archive.",
}


@dataclass(frozen=True, slots=True)
class Staged:
    """What was unpacked: the hidden folder it lies in, how many files, and how many links were taken out again."""

    folder: SitePath
    files: int
    links: int


class ServerCommands:
    def __init__(self, pool: Pool, browse: Browse) -> None:
        self._pool = pool
        self._browse = browse

    async def unpack(self, site: Site, archive: SitePath) -> Staged:
        """Unpack an archive there into a hidden folder beside it.

        Raises NotSupported where the account has no shell or no program for it, InvalidInput where the archive means
        harm, NoSpaceLeft, ServerFailed.
        """
        async with self._browse.side(site, SideName.THERE) as side:
            entry = await side.stat(archive)
            room = await side.room(archive.parent)
        is_zip = archive.name.lower().endswith(b".zip")
        most = max(_RATIO_FREE_BYTES, _MOST_RATIO * entry.size)
        find = _FIND % {
            b"path": _quoted(site, archive),
            b"folder": _quoted(site, archive.parent),
            b"size": entry.size,
        }
        names = (_ZIP_NAMES if is_zip else _TAR_NAMES) % {b"most": most + 1}
        listed = await self._run(site, find + names)
        text, _, total = listed.out.rpartition(b"\0")
        check_names(text.split(b"\n"))
        size = int(total.strip() or b"0")
        if size > most:
            raise InvalidInput("This archive grows without end when it is unpacked. It was not unpacked.")
        if room is not None and room.free_bytes is not None and size > room.free_bytes:
            raise NoSpaceLeft(
                f"It would need {size_text(size)} there, and {size_text(room.free_bytes)} are free. It was not unpacked."
            )
        staging = staging_name(secrets.token_hex(4))
        unpack = _ZIP_UNPACK if is_zip else _TAR_UNPACK
        done = await self._run(site, find + _STAGE % {b"staging": staging, b"unpack": unpack})
        links, files = (int(one) for one in done.out.split()[-2:])
        return Staged(archive.parent.child(staging), files, links)

    async def script(self, site: Site, path: SitePath, program: bytes) -> tuple[bool, str | None]:
        """Whether a program is there and may be run, and what it says of a script's syntax: empty where that is well,
        None where it cannot be checked without running. Raises NotSupported where the account has no shell."""
        values = {b"program": _quoted_raw(program), b"path": _quoted(site, path)}
        ran = await self._greeted(site, _SYNTAX % values)
        exists, _, said = ran.out.partition(b"\n")
        if ran.status == 95:
            return exists == b"yes", None
        words = said.decode("utf-8", "replace").strip()[-300:]
        return exists == b"yes", (words or "it does not parse") if ran.status else ""

    async def clear(self, site: Site, place: SitePath) -> None:
        """Remove the hidden folder that a place lies in. Anything that is no such folder is left alone."""
        depth = next((at for at, name in enumerate(place.names) if is_staging_name(name)), None)
        if depth is None:
            return
        folder = SitePath(place.names[:depth])
        values = {b"folder": _quoted(site, folder), b"staging": place.names[depth]}
        await self._pool.run(site.id, _CLEAR % values, within_s=_WITHIN_S)

    async def _run(self, site: Site, script: bytes) -> CommandResult:
        ran = await self._greeted(site, script)
        if ran.status == 92:
            raise NotSupported(_TROUBLE[92])
        if ran.status:
            raise ServerFailed(
                _TROUBLE.get(ran.status, "The server could not do that."), server_words=ran.words or None
            )
        return ran

    async def _greeted(self, site: Site, script: bytes) -> CommandResult:
        """Run a script where there is a shell to run it, whatever its status. A shell knows no folder that it must not
        leave: whoever has only one of the site runs nothing."""
        grant = grant_on(site.id)
        if grant is not None and not grant.is_whole:
            raise NotSupported("Only people with access to the whole site can run commands on the server.")
        ran = await self._pool.run(site.id, b"echo nailer-shell\n" + script, within_s=_WITHIN_S)
        _, _, rest = ran.out.partition(b"nailer-shell\n")
        if not rest and b"nailer-shell" not in ran.out:
            raise NotSupported("This account has no shell: its server runs no commands for it.", server_words=ran.words)
        return CommandResult(ran.status, rest, ran.err)


def check_names(lines: list[bytes]) -> None:
    """Return where all names of an archive stay within its own folder. Raises InvalidInput.

    >>> check_names([b"skin/", b"skin/a.css"])
    >>> check_names([b"../../.ssh/authorized_keys"])
    Traceback (most recent call last):
    ...
    nailer.errors.InvalidInput: ../../.ssh/authorized_keys leads out of the archive. It was not unpacked.
    """
    names = [line for line in lines if line]
    if len(names) > _MOST_NAMES:
        raise InvalidInput(f"This archive contains more than {_MOST_NAMES} names. Unpack it yourself.")
    if not names:
        raise InvalidInput("There is nothing in this archive.")
    files = {name for name in names if not name.endswith(b"/")}
    for name in names:
        parts = name.replace(b"\\", b"/").split(b"/")
        if parts[0] == b"" or b".." in parts:
            raise InvalidInput(f"{shown_name(name)[:120]} leads out of the archive. It was not unpacked.")
        # A link that a later name goes through would lead out, too.
        through = next((b"/".join(parts[:at]) for at in range(1, len(parts)) if b"/".join(parts[:at]) in files), None)
        if through is not None:
            shown = shown_name(through)[:120]
            raise InvalidInput(f"{shown} is a file and a folder in this archive. It was not unpacked.")


def _quoted(site: Site, path: SitePath) -> bytes:
    """A path for a POSIX shell, in the character set of the server's names."""
    return _quoted_raw(b"/" + b"/".join(to_wire(name, site.charset) for name in path.names))


def _quoted_raw(raw: bytes) -> bytes:
    return shlex.quote(raw.decode("latin-1")).encode("latin-1")
