"""The script helper: goes down the list of what keeps a script from running, and mends it step by step."""

from __future__ import annotations

import asyncio
from contextlib import aclosing
from dataclasses import dataclass

from nailer.core.check.scripts import (
    Repair,
    ScriptMark,
    includes,
    interpreter,
    is_script,
    mended,
    of_answer,
    of_beginning,
    of_folders,
    of_permissions,
)
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.names import names_text
from nailer.core.files.sitepath import SitePath, address_of, shown_name
from nailer.errors import InvalidInput, NailerError, NotSupported, TransferError
from nailer.services.editing.live_check import LiveCheck
from nailer.services.files import Browse, PermissionsPlans
from nailer.services.plans import PlanMaker, PreparedFiles, ServerCommands, Write
from nailer.sides.side import Side, walk
from nailer.store.sites import Site

_MOST_SCRIPTS = 60
_MOST_FOLDERS = 2000
_LARGEST_BYTES = 2_000_000
_MOST_BESIDE = 12
_SMALL_BYTES = 60_000


@dataclass(frozen=True, slots=True)
class Report:
    """One script and what was found of it, in order."""

    path: SitePath
    marks: tuple[ScriptMark, ...]
    address: str | None

    @property
    def first_slip(self) -> ScriptMark | None:
        """The first thing that keeps the script from running; None where nothing was found."""
        return next((one for one in self.marks if one.good is False), None)


class Scripts:
    def __init__(
        self,
        browse: Browse,
        check: LiveCheck,
        on_server: ServerCommands,
        permit: PermissionsPlans,
        planning: PlanMaker,
        writing: PreparedFiles,
    ) -> None:
        self._browse = browse
        self._check = check
        self._on_server = on_server
        self._permit = permit
        self._planning = planning
        self._writing = writing

    async def find(self, site: Site) -> list[SitePath]:
        """Scripts in what the web address serves, or beside it in a `cgi-bin`; at most sixty."""
        found: list[SitePath] = []
        roots = [root.folder for root in site.document_roots] or [site.start_there]
        tops = {*roots, *(root.parent.child(b"cgi-bin") for root in roots if not root.is_root)}
        async with self._browse.side(site, SideName.THERE) as side:
            for top in sorted(tops):
                folders = 0
                async with aclosing(walk(side, top)) as readings:
                    async for reading in readings:
                        where = top.join(reading.below)
                        found += [
                            where.child(one.name) for one in reading.entries if one.is_file and is_script(one.name)
                        ]
                        folders += 1
                        if folders > _MOST_FOLDERS or len(found) >= _MOST_SCRIPTS:
                            break
        return list(dict.fromkeys(found))[:_MOST_SCRIPTS]

    async def look(self, site: Site, path: SitePath) -> Report:
        """Go down the list for one script."""
        address = address_of(path, site.document_roots)
        async with self._browse.side(site, SideName.THERE) as side:
            entry = await side.stat(path)
            if entry.size > _LARGEST_BYTES:
                raise InvalidInput(f"{path} is too large for a script.")
            (_, data), folders = await asyncio.gather(side.read_all(path), _folders(side, path))
            is_run = entry.permissions is None or entry.permissions & 0o111
            used_by = [] if is_run else await _included_by(side, path)
        if used_by:
            words = f"{names_text(used_by)} includes it, so it does not run on its own"
            return Report(path, (ScriptMark("Included", True, words),), address)
        answer = await self._check.once(address) if address else None
        place = ScriptMark("Place", True, f"served at {address}") if address else _outside()
        marks = [place, _ending(path), of_permissions(entry), of_folders(folders), *of_beginning(data)]
        marks += await self._run_there(site, path, data)
        marks.append(of_answer(answer))
        return Report(path, tuple(marks), address)

    async def repair(self, account_id: int, site: Site, path: SitePath, repair: Repair) -> int:
        """Mend one slip; return the job, for taking down a plan to be read. Raises InvalidInput where nothing is to mend."""
        there = SideName.THERE
        match repair:
            case Repair.PERMISSIONS:
                return await self._permit.set_one(account_id, site, there, path, 0o755)
            case Repair.FOLDERS:
                async with self._browse.side(site, there) as side:
                    folders = await _folders(side, path)
                closed = [
                    (SitePath(path.names[: depth + 1]), permissions)
                    for depth, (_, permissions) in enumerate(folders)
                    if permissions is not None and not permissions & 0o001
                ]
                if not closed:
                    raise InvalidInput("All folders above it are already accessible.")
                folder, permissions = closed[0]
                return await self._permit.set_one(account_id, site, there, folder, permissions | 0o111)
            case Repair.TAKE_DOWN:
                return await self._planning.removal(account_id, site, there, path.parent, [path.name])
            case Repair.FIRST_LINE:
                async with self._browse.side(site, there) as side:
                    entry, data = await side.read_all(path)
                if (content := mended(data)) == data:
                    raise InvalidInput("Its first line is already correct.")
                title = f"Fixing {shown_name(path.name)}"
                write = Write(path, content, entry, "first line fixed")
                return await self._writing.add(account_id, site, there, title, [write], at_once=True)

    async def _run_there(self, site: Site, path: SitePath, data: bytes) -> list[ScriptMark]:
        """Ask the server itself for interpreter and syntax, where the account has a shell."""
        program = interpreter(data)
        if program is None:
            return [ScriptMark("Interpreter", False, "the first line does not contain the full path of an interpreter")]
        shown = shown_name(program)
        try:
            exists, said = await self._on_server.script(site, path, program)
        except NotSupported:
            why = "only a shell on the server could tell; this account has none"
            return [ScriptMark("Interpreter", None, f"{shown}: {why}"), ScriptMark("Syntax", None, why)]
        except NailerError as error:
            return [ScriptMark("Interpreter", None, error.what)]
        marks = [ScriptMark("Interpreter", exists, f"{shown} {'is there' if exists else 'is not on the server'}")]
        if said is None:
            return [*marks, ScriptMark("Syntax", None, "there is no way to check this language without running it")]
        return [*marks, ScriptMark("Syntax", not said, said or "has no errors")]


async def _included_by(side: Side, path: SitePath) -> list[bytes]:
    """The scripts of the same folder that bring it in; at most twelve, and no large ones, are read."""
    beside = [one for one in (await side.list(path.parent)).entries if one.is_file and is_script(one.name)]
    others = [one for one in beside if one.name != path.name and one.size <= _SMALL_BYTES][:_MOST_BESIDE]
    texts = await asyncio.gather(
        *(side.read_all(path.parent.child(one.name)) for one in others), return_exceptions=True
    )
    found = []
    for one, read in zip(others, texts, strict=True):
        if isinstance(read, BaseException):
            if not isinstance(read, NailerError):
                raise read
            continue  # what cannot be read here is told of where it is looked at itself
        if includes(read[1], path.name):
            found.append(one.name)
    return found


async def _folders(side: Side, path: SitePath) -> list[tuple[str, int | None]]:
    """Every folder above a path but the root, with its permissions."""
    above = path.ancestors()[1:-1]

    async def _one(folder: SitePath) -> tuple[str, int | None]:
        try:
            entry: Entry = await side.stat(folder)
        except TransferError:
            return folder.shown, None
        return folder.shown, entry.permissions

    return list(await asyncio.gather(*(_one(folder) for folder in above)))


def _outside() -> ScriptMark:
    return ScriptMark("Place", False, "outside the folders that the web address serves: the web cannot reach it")


def _ending(path: SitePath) -> ScriptMark:
    ending = path.name.rpartition(b".")[2].decode("utf-8", "replace")
    if b"cgi-bin" in path.names:
        return ScriptMark("Ending", True, f".{ending}, in cgi-bin")
    usual = ending.lower() in ("cgi", "pl")
    words = (
        f".{ending} is run by most servers" if usual else f"few servers run .{ending} outside cgi-bin; most run .cgi"
    )
    return ScriptMark("Ending", True if usual else None, words)
