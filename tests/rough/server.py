"""A scripted FTP server that misbehaves in named ways, over real sockets and a real folder.

`FAULTS` says of each misbehaviour what it does. A server is made with the names of those that it has; some hold for every
command, some strike only so many times (`times`), as a line that is cut does. What it does is written down in `log`.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import stat
import time
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from pathlib import Path

from tests.rough.faulty import Faulty

# Every misbehaviour by its name. Those in the second group strike a bounded number of times.
LASTING = {
    "list-says-cut": "LIST stops half-way and answers 226 Output truncated",
    "list-cut-in-a-row": "LIST ends in the middle of a row and answers a plain 226",
    "list-cut-unsaid": "LIST leaves out the second half and answers a plain 226",
    "list-could-not-open": "LIST is empty and answers 226 Transfer done (but failed to open directory)",
    "list-empty": "LIST is empty with a plain 226, as if the folder could not be read",
    "list-no-files-found": "LIST of any folder answers 450 No files found",
    "list-refused": "LIST answers 550 after a good CWD",
    "list-451": "LIST answers 451 after some rows",
    "option-is-a-pattern": "LIST -a looks for a file called -a: no rows, 226",
    "option-refused": "LIST -a answers 501",
    "option-missing": "LIST -a answers 550 No such file or directory",
    "rows-unread": "two rows of LIST are ornament that nobody can read",
    "rows-of-year-0000": "one row of LIST is of the year 0000",
    "rows-too-large": "one row of LIST says a size of thirty digits",
    "rows-in-another-language": "LIST names months as another language does",
    "rows-with-blank-owners": "owner and group in LIST hold blanks",
    "rows-iso": "LIST prints ISO times",
    "rows-bare-lf": "rows end with a bare LF",
    "rows-twice": "one row of LIST comes twice, with another size",
    "rows-easily-parsed": "LIST prints rows of facts behind a plus (EPLF)",
    "rows-of-days": "LIST shows days only",
    "hides-dots": "names that begin with a dot are in no listing",
    "shows-no-dot": "LIST -a does not show the folder itself",
    "no-facts": "MLST and MLSD are not on offer",
    "facts-500": "MLSD and MLST are on offer and answer 500",
    "facts-550": "MLSD is on offer and answers 550, MLST works",
    "facts-of-year-0000": "one row of MLSD is of the year 0000",
    "facts-without-size": "MLSD says no sizes",
    "facts-without-type": "one row of MLSD says no type",
    "facts-empty": "MLSD is empty with a plain 226",
    "facts-say-cut": "MLSD stops half-way and answers 226 Limit of entries reached",
    "no-feat": "FEAT answers 500",
    "no-size": "SIZE answers 502",
    "no-mdtm": "MDTM answers 502",
    "says-nothing": "a refusal never says why: 550 Failed.",
    "rnfr-refused": "RNFR answers 550: nothing can be renamed",
    "rnto-refused": "RNTO answers 550: nothing can be renamed",
    "rnto-keeps": "RNTO answers 553 where the name is taken",
    "stor-keeps": "STOR answers 550 where the name is taken",
    "no-hidden-names": "STOR and RNTO answer 553 for a name that begins with a dot",
    "stor-short": "every third STOR keeps only half, and answers 226",
    "rest-refused": "REST answers 502",
    "times-hours-off": "MFMT sets a time two hours off",
    "times-ignored": "MFMT answers 213 and sets nothing",
    "permissions-refused": "SITE CHMOD answers 502",
    "permissions-ignored": "SITE CHMOD answers 200 and sets nothing",
    "umask-077": "new files are for their owner only",
    "epsv-refused": "EPSV answers 500",
    "dele-refused": "DELE answers 550",
    "rmd-refused": "RMD answers 550",
    "mkd-refused": "MKD answers 550",
    "rnto-lies": "RNTO answers 250 and does nothing",
    "rnto-lies-where-taken": "RNTO answers 250 and does nothing where the name is taken",
    "rnto-late": "RNTO is carried out a moment after it was answered",
    "rnto-eats": "RNTO answers 550 where the name is taken, and removes what had it",
    "rnto-loses": "RNTO answers 250 where the name is taken, removes the new file and keeps the old",
    "dele-lies": "DELE answers 250 and removes nothing",
    "dele-late": "DELE removes a moment after it was answered",
    "rmd-lies": "RMD answers 250 and removes nothing",
    "stor-drops": "every third STOR of more than a few bytes answers 226 and keeps nothing",
    "mkd-lies": "MKD answers 257 and makes nothing",
    "telnet": "a byte 255 begins a Telnet command",
}
STRIKING = {
    "cut-before-rnto": "the line is cut at RNTO, and nothing was renamed",
    "cut-after-rnto": "the line is cut after RNTO was carried out",
    "cut-after-dele": "the line is cut after DELE was carried out",
    "cut-after-mkd": "the line is cut after MKD was carried out",
    "cut-in-stor": "the line is cut in the middle of STOR",
    "cut-after-stor": "the line is cut after STOR had everything",
    "cut-in-retr": "the line is cut in the middle of RETR",
    "retr-short": "RETR sends half and answers 226",
    "full-in-stor": "STOR answers 552 half-way",
    "closes-421": "any command is answered 421, and the line closed",
    "data-port-dead": "the data port that PASV names does not answer",
    "list-426": "LIST is answered 426 half-way",
}
FAULTS = {**LASTING, **STRIKING}
_MOMENT_S = 0.4
_MONTHS = ("janv", "févr", "mars", "avril", "mai", "juin", "juil", "août", "sept", "oct", "nov", "déc")


class Cut(Exception):
    """The line is cut here."""


class RoughFtp(Faulty):
    """Serves `root` to anybody who signs in. `faults` are names of `FAULTS`; each of the striking ones strikes `times`."""

    def __init__(self, root: Path, faults: Iterable[str] = (), *, times: int = 1) -> None:
        super().__init__(root, set(FAULTS), set(STRIKING), faults, times)
        self.address = "127.0.0.1"
        self.stored = 0
        self.lay: set[tuple[str, int]] = set()  # names, and the permissions with which content came into them
        self._server: asyncio.Server | None = None
        self._lines: set[asyncio.Task[None]] = set()

    async def start(self) -> None:
        self._server = await asyncio.start_server(self._meet, self.address, 0)
        self.port = self._server.sockets[0].getsockname()[1]

    async def stop(self) -> None:
        assert self._server is not None
        self._server.close()
        for line in self._lines:
            line.cancel()
        await asyncio.gather(*self._lines, return_exceptions=True)

    async def cut_all(self) -> None:
        """Cut every line that is open."""
        lines, self._lines = self._lines, set()
        for line in lines:
            line.cancel()
        await asyncio.gather(*lines, return_exceptions=True)

    async def _meet(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        task = asyncio.current_task()
        assert task is not None
        self._lines.add(task)
        try:
            await _Line(self, reader, writer).serve()
        except (Cut, ConnectionError, asyncio.IncompleteReadError, asyncio.CancelledError):
            pass
        finally:
            self._lines.discard(task)
            writer.transport.abort()


class _Line:
    def __init__(self, host: RoughFtp, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self.host, self.reader, self.writer = host, reader, writer
        self.folder = b"/"
        self.renaming: Path | None = None
        self.start = 0
        self.data: asyncio.Server | None = None
        self.channel: asyncio.Future[tuple[asyncio.StreamReader, asyncio.StreamWriter]] | None = None

    async def serve(self) -> None:
        self.say(220, "rough")
        try:
            while True:
                line = (await self.reader.readuntil(b"\n")).rstrip(b"\r\n")
                if self.host.has("telnet") and b"\xff" in line:
                    if b"\xff\xfe" in line and b"\xff\xff" not in line:
                        self.writer.write(b"\xff\xfc" + line[line.index(b"\xff\xfe") + 2 :][:1])
                        line = line[: line.index(b"\xff\xfe")]
                    line = line.replace(b"\xff\xff", b"\xff")
                self.host.log.append(line.decode("utf-8", "replace"))
                verb, _, argument = line.partition(b" ")
                if verb.upper() not in (b"USER", b"PASS", b"QUIT") and self.host.strikes("closes-421"):
                    self.say(421, "Going away.")
                    await self.writer.drain()
                    raise Cut
                do = getattr(self, "do_" + verb.decode("ascii", "replace").lower(), None)
                try:
                    if do is None:
                        self.say(500, "Unknown command.")
                    else:
                        await do(argument)
                except OSError as error:
                    self.refuse(error)
                await self.writer.drain()
                if verb.upper() == b"QUIT":
                    return
        finally:
            self.close_data()

    def later(self, fault: str, act: Callable[[], object]) -> None:
        """Act now, or in a moment where the host is such a one."""
        if self.host.has(fault):
            asyncio.get_running_loop().call_later(_MOMENT_S, _quietly, act)
        else:
            act()

    def say(self, code: int, words: str) -> None:
        if self.writer.is_closing():
            raise Cut  # whoever asked is gone
        self.writer.write(f"{code} {words}\r\n".encode())

    def refuse(self, error: OSError) -> None:
        self.say(550, "Failed." if self.host.has("says-nothing") else (error.strerror or "Failed."))

    def place(self, argument: bytes) -> Path:
        path = argument if argument.startswith(b"/") else self.folder.rstrip(b"/") + b"/" + argument
        names: list[bytes] = []
        for name in path.split(b"/"):
            if name == b"..":
                names[-1:] = []
            elif name not in (b"", b"."):
                names.append(name)
        return Path(os.fsdecode(b"/".join([os.fsencode(self.host.root), *names])))

    async def do_user(self, _: bytes) -> None:
        self.say(331, "Who?")

    async def do_pass(self, _: bytes) -> None:
        self.say(230, "In.")

    async def do_feat(self, _: bytes) -> None:
        if self.host.has("no-feat"):
            return self.say(500, "Unknown command.")
        facts = "" if self.host.has("no-facts") else " MLST type*;size*;modify*;unix.mode*;\r\n"
        self.writer.write(f"211-Features\r\n{facts} SIZE\r\n MDTM\r\n MFMT\r\n REST STREAM\r\n211 End\r\n".encode())
        return None

    async def do_opts(self, _: bytes) -> None:
        self.say(200, "Fine.")

    do_type = do_noop = do_opts

    async def do_quit(self, _: bytes) -> None:
        self.say(221, "Bye.")

    async def do_pwd(self, _: bytes) -> None:
        self.writer.write(b'257 "' + self.folder + b'"\r\n')

    async def do_cwd(self, argument: bytes) -> None:
        place = self.place(argument)
        if not place.is_dir():
            return self.say(550, "Failed." if self.host.has("says-nothing") else "No such directory.")
        self.folder = argument if argument.startswith(b"/") else self.folder.rstrip(b"/") + b"/" + argument
        return self.say(250, "Fine.")

    async def do_epsv(self, _: bytes) -> None:
        if self.host.has("epsv-refused"):
            return self.say(500, "Unknown command.")
        return self.say(229, f"Entering ({'|' * 3}{await self.listen()}|)")

    async def do_pasv(self, _: bytes) -> None:
        port = await self.listen()
        self.say(227, f"Entering (127,0,0,1,{port // 256},{port % 256})")

    async def listen(self) -> int:
        self.close_data()
        self.channel = asyncio.get_running_loop().create_future()
        channel = self.channel

        def met(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            if not channel.done():
                channel.set_result((reader, writer))

        self.data = await asyncio.start_server(met, "127.0.0.1", 0)
        port: int = self.data.sockets[0].getsockname()[1]
        if self.host.strikes("data-port-dead"):
            self.data.close()
            self.data = None
        return port

    def close_data(self) -> None:
        if self.data is not None:
            self.data.close()
            self.data = None
        if self.channel is not None and self.channel.done() and not self.channel.cancelled():
            self.channel.result()[1].close()
        self.channel = None

    async def open_data(self) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        assert self.channel is not None
        self.say(150, "Here it comes.")
        await self.writer.drain()
        async with asyncio.timeout(5):
            return await self.channel

    async def send(self, data: bytes, code: int, words: str) -> None:
        try:
            _, writer = await self.open_data()
        except TimeoutError:
            return self.say(425, "Nobody came.")
        with contextlib.suppress(ConnectionError):
            writer.write(data)
            await writer.drain()
        writer.close()
        with contextlib.suppress(ConnectionError):
            await writer.wait_closed()
        self.close_data()
        return self.say(code, words)

    # --- listings

    def names_in(self, place: Path) -> list[bytes]:
        names = sorted(os.listdir(os.fsencode(place)))
        return [one for one in names if not one.startswith(b".")] if self.host.has("hides-dots") else names

    async def do_list(self, argument: bytes) -> None:
        host = self.host
        if argument and host.has("option-refused"):
            return self.say(501, "No options.")
        if argument and host.has("option-missing"):
            return self.say(550, "-a: No such file or directory")
        if argument and host.has("option-is-a-pattern"):
            return await self.send(b"", 226, "Transfer complete.")
        if host.has("list-no-files-found"):
            return self.say(450, "No files found")
        if host.has("list-refused"):
            return self.say(550, "Failed.")
        if host.has("list-could-not-open"):
            return await self.send(b"", 226, "Transfer done (but failed to open directory).")
        if host.has("list-empty"):
            return await self.send(b"", 226, "Transfer complete.")
        place = self.place(self.folder)
        names = self.names_in(place)
        rows = [self.row(place, name, number) for number, name in enumerate(names)]
        if not argument:
            rows = [row for row, name in zip(rows, names, strict=True) if not name.startswith(b".")]
        if rows and host.has("rows-twice"):
            rows.append(rows[0].replace(b" 1 web", b" 9 web"))
        if host.has("rows-unread"):
            rows += [b"?" * 9 + b" unreadable", b"<b>advertisement</b>"]
        code, words = 226, "Transfer complete."
        if host.has("list-says-cut"):
            rows, words = rows[: len(rows) // 2], f"Output truncated to {len(rows) // 2} matches"
        if host.has("list-cut-unsaid"):
            rows = rows[: len(rows) // 2]
        if host.has("list-451"):
            rows, code, words = rows[: len(rows) // 2], 451, "Local error."
        if host.strikes("list-426"):
            rows, code, words = rows[: len(rows) // 2], 426, "Aborted."
        if argument and not host.has("shows-no-dot"):
            rows = [self.row(place, b".", -1), self.row(place, b"..", -1), *rows]
        data = b"".join(row + (b"\n" if host.has("rows-bare-lf") else b"\r\n") for row in rows)
        if host.has("list-cut-in-a-row") and len(rows) > 2:
            data = data[: len(data) * 2 // 3].rstrip(b"\r\n")
        return await self.send(data, code, words)

    async def do_nlst(self, _: bytes) -> None:
        if self.host.has("list-no-files-found"):
            return self.say(450, "No files found")
        if self.host.has("list-empty"):
            return await self.send(b"", 226, "Transfer complete.")
        names = self.names_in(self.place(self.folder))
        return await self.send(b"".join(one + b"\r\n" for one in names), 226, "Transfer complete.")

    def row(self, place: Path, name: bytes, number: int) -> bytes:
        host = self.host
        found = os.lstat(os.path.join(os.fsencode(place), name))
        at = datetime.fromtimestamp(found.st_mtime, UTC)
        month = _MONTHS[at.month - 1] if host.has("rows-in-another-language") else at.strftime("%b")
        recent = time.time() - found.st_mtime < 180 * 86_400 and not host.has("rows-of-days")
        when = f"{month} {at.day:2d} {at:%H:%M}" if recent else f"{month} {at.day:2d}  {at.year}"
        if host.has("rows-iso"):
            when = f"{at:%Y-%m-%d %H:%M}"
        size = str(found.st_size)
        if host.has("rows-easily-parsed"):
            kind = "/" if stat.S_ISDIR(found.st_mode) else "r"
            facts = f"+i{found.st_ino},m{int(found.st_mtime)},s{size},up{found.st_mode & 0o777:o},{kind},"
            return facts.encode() + b"\t" + name
        if number == 1 and host.has("rows-of-year-0000"):
            when = "Jan  1  0000"
        if number == 1 and host.has("rows-too-large"):
            size = "9" * 30
        who = "Domain Users Web Team" if host.has("rows-with-blank-owners") else "web      www"
        mode = stat.filemode(found.st_mode)
        target = b""
        if stat.S_ISLNK(found.st_mode):
            target = b" -> " + os.readlink(os.path.join(os.fsencode(place), name))
        return f"{mode}   1 {who} {size:>10} {when} ".encode() + name + target

    async def do_mlsd(self, argument: bytes) -> None:
        host = self.host
        if host.has("no-facts") or host.has("facts-500"):
            return self.say(500, "Unknown command.")
        if host.has("facts-550"):
            return self.say(550, "Failed.")
        place = self.place(argument)
        if not place.is_dir():
            return self.say(550, "Failed." if host.has("says-nothing") else "No such directory.")
        if host.has("facts-empty"):
            return await self.send(b"", 226, "Transfer complete.")
        rows = [self.facts(place, name, number) for number, name in enumerate(self.names_in(place))]
        words = "Transfer complete."
        if host.has("facts-say-cut"):
            rows, words = rows[: len(rows) // 2], "Limit of entries reached."
        return await self.send(b"".join(row + b"\r\n" for row in rows), 226, words)

    def facts(self, place: Path, name: bytes, number: int) -> bytes:
        host = self.host
        path = os.path.join(os.fsencode(place), name)
        found = os.stat(path) if os.path.exists(path) else os.lstat(path)
        kind = "" if number == 1 and host.has("facts-without-type") else "type=" + _kind(found.st_mode) + ";"
        at = datetime.fromtimestamp(found.st_mtime, UTC).strftime("%Y%m%d%H%M%S")
        if number == 1 and host.has("facts-of-year-0000"):
            at = "00000000000000"
        size = "" if host.has("facts-without-size") else f"size={found.st_size};"
        return f"{kind}{size}modify={at};unix.mode={found.st_mode & 0o7777:04o}; ".encode() + name

    async def do_mlst(self, argument: bytes) -> None:
        if self.host.has("no-facts") or self.host.has("facts-500"):
            return self.say(500, "Unknown command.")
        place = self.place(argument)
        if not place.exists():
            return self.say(550, "Failed." if self.host.has("says-nothing") else "No such file or directory.")
        self.writer.write(
            b"250-It is\r\n " + self.facts(place.parent, os.fsencode(place.name), -1) + b"\r\n250 End\r\n"
        )
        return None

    async def do_size(self, argument: bytes) -> None:
        place = self.place(argument)
        if self.host.has("no-size"):
            return self.say(502, "Not here.")
        if not place.is_file():
            return self.say(550, "Could not get file size.")
        return self.say(213, str(place.stat().st_size))

    async def do_mdtm(self, argument: bytes) -> None:
        place = self.place(argument)
        if self.host.has("no-mdtm"):
            return self.say(502, "Not here.")
        if not place.is_file():
            return self.say(550, "Could not get file modification time.")
        return self.say(213, datetime.fromtimestamp(place.stat().st_mtime, UTC).strftime("%Y%m%d%H%M%S"))

    # --- changes

    async def do_rest(self, argument: bytes) -> None:
        if self.host.has("rest-refused"):
            return self.say(502, "Not here.")
        self.start = int(argument)
        return self.say(350, "From there.")

    async def do_retr(self, argument: bytes) -> None:
        place, start, self.start = self.place(argument), self.start, 0
        data = place.read_bytes()[start:]
        if self.host.strikes("cut-in-retr"):
            _, writer = await self.open_data()
            writer.write(data[: len(data) // 2])
            await writer.drain()
            writer.transport.abort()
            raise Cut
        if len(data) > 1 and self.host.strikes("retr-short"):
            data = data[: len(data) // 2]
        await self.send(data, 226, "Transfer complete.")

    async def do_stor(self, argument: bytes) -> None:
        host, place, start = self.host, self.place(argument), self.start
        self.start = 0
        if host.has("no-hidden-names") and place.name.startswith("."):
            return self.say(553, "File name not allowed.")
        if host.has("stor-keeps") and place.exists() and not start:
            return self.say(550, "Overwriting is not allowed.")
        if not place.parent.is_dir() or place.is_dir():
            return self.say(553, "Could not create file.")
        try:
            reader, writer = await self.open_data()
        except TimeoutError:
            return self.say(425, "Nobody came.")
        data = await reader.read(-1)
        writer.close()
        self.close_data()
        host.stored += 1
        before = place.read_bytes()[:start] if start and place.exists() else b""
        cut = host.strikes("cut-in-stor")
        full = not cut and len(data) > 10 and host.strikes("full-in-stor")
        short = len(data) > 1 and host.has("stor-short") and host.stored % 3 == 0
        if len(data) > 10 and host.has("stor-drops") and host.stored % 3 == 0:
            place.unlink(missing_ok=True)
            return self.say(226, "Transfer complete.")
        if not place.exists():
            place.touch()
            place.chmod(0o600 if host.has("umask-077") else 0o644)
        if data:
            host.lay.add((place.name, place.stat().st_mode & 0o777))
        place.write_bytes(before + (data[: len(data) // 2] if cut or full or short else data))
        if cut or host.strikes("cut-after-stor"):
            raise Cut
        return self.say(552, "Quota exceeded.") if full else self.say(226, "Transfer complete.")

    async def do_dele(self, argument: bytes) -> None:
        if self.host.has("dele-refused"):
            return self.say(550, "Permission denied.")
        place = self.place(argument)
        os.lstat(place)
        if not self.host.has("dele-lies"):
            self.later("dele-late", lambda: place.unlink(missing_ok=True))
        if self.host.strikes("cut-after-dele"):
            raise Cut
        return self.say(250, "Gone.")

    async def do_mkd(self, argument: bytes) -> None:
        if self.host.has("mkd-refused"):
            return self.say(550, "Permission denied.")
        if not self.host.has("mkd-lies"):
            os.mkdir(self.place(argument))
        if self.host.strikes("cut-after-mkd"):
            raise Cut
        return self.say(257, "Made.")

    async def do_rmd(self, argument: bytes) -> None:
        if self.host.has("rmd-refused"):
            return self.say(550, "Permission denied.")
        place = self.place(argument)
        os.lstat(place)
        if not self.host.has("rmd-lies"):
            os.rmdir(place)
        return self.say(250, "Gone.")

    async def do_rnfr(self, argument: bytes) -> None:
        self.renaming = None
        if self.host.has("rnfr-refused"):
            return self.say(550, "Permission denied.")
        place = self.place(argument)
        os.lstat(place)
        self.renaming = place
        return self.say(350, "To what?")

    async def do_rnto(self, argument: bytes) -> None:
        host, old, place = self.host, self.renaming, self.place(argument)
        self.renaming = None
        if old is None:
            return self.say(503, "RNFR first.")
        if host.has("rnto-refused"):
            return self.say(550, "Permission denied.")
        if host.has("no-hidden-names") and place.name.startswith("."):
            return self.say(553, "File name not allowed.")
        if host.has("rnto-keeps") and _is_taken(place):
            return self.say(553, "File exists.")
        taken = _is_taken(place)
        if taken and place.is_file() and host.has("rnto-eats"):
            place.unlink()
            return self.say(550, "Failed.")
        if taken and place.is_file() and host.has("rnto-loses"):
            old.unlink()
            return self.say(250, "Renamed.")
        tried = "nailer-try" in old.name
        if not tried and host.strikes("cut-before-rnto"):
            raise Cut
        if not (host.has("rnto-lies") or (taken and host.has("rnto-lies-where-taken"))):
            os.lstat(old)
            self.later("rnto-late", lambda: os.rename(old, place))
        if not tried and host.strikes("cut-after-rnto"):
            raise Cut
        return self.say(250, "Renamed.")

    async def do_mfmt(self, argument: bytes) -> None:
        when, _, path = argument.partition(b" ")
        place = self.place(path)
        at = datetime.strptime(when.decode()[:14], "%Y%m%d%H%M%S").replace(tzinfo=UTC).timestamp()
        if self.host.has("times-hours-off"):
            at += 7200
        if not self.host.has("times-ignored"):
            os.utime(place, (at, at))
        self.say(213, "Modify set.")

    async def do_site(self, argument: bytes) -> None:
        verb, _, rest = argument.partition(b" ")
        if verb.upper() != b"CHMOD" or self.host.has("permissions-refused"):
            return self.say(502, "Not here.")
        mode, _, path = rest.partition(b" ")
        place = self.place(path)
        if not self.host.has("permissions-ignored"):
            place.chmod(int(mode, 8))
        return self.say(200, "Set.")


def _quietly(act: Callable[[], object]) -> None:
    with contextlib.suppress(OSError):
        act()


def _is_taken(place: Path) -> bool:
    return os.path.lexists(place)


def _kind(mode: int) -> str:
    if stat.S_ISLNK(mode):
        return "OS.unix=slink"
    return "dir" if stat.S_ISDIR(mode) else "file"
