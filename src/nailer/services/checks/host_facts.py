"""Facts of a host: learned by checks on one of its sites, dated, known to the others, and what contradicts them."""

from __future__ import annotations

import asyncio
import secrets
from dataclasses import replace
from urllib.parse import urlsplit

from nailer.acting import need, person
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath, address_of
from nailer.core.people.rights import Right
from nailer.core.site.capability import KINDS, Capability, ScriptKind, WasRun, is_script_folder, judged
from nailer.core.words import size_text, span_text
from nailer.errors import TransferError
from nailer.services.checks.ground import is_guarded, need_whole, roots_there
from nailer.services.checks.trying import TrialFile, TrialFiles
from nailer.services.editing import Editing
from nailer.services.files import Browse, Files
from nailer.sides.side import Side
from nailer.store.checks.host_facts import HostFact
from nailer.store.sites import Site
from nailer.store.stores import Stores

_THERE = SideName.THERE
_MOST_SCRIPT_FOLDERS = 3
_INTERPRETER = "interpreter for "


class HostFacts:
    def __init__(self, stores: Stores, files: Files, editing: Editing, trials: TrialFiles) -> None:
        self._browse: Browse = files.browse
        self._live = editing.live_check
        self._saving = editing.saving
        self._facts = stores.host_facts
        self._trials = trials

    async def of(self, site: Site) -> list[HostFact]:
        """What is known of the host of a site. Where a fact was learned on a site that is none of this person's, that site
        is not named; what belongs to another account of the host is left out."""
        need_whole(site)
        who = person()

        def _sees(site_id: int | None) -> bool:
            return who is None or who.is_admin or (site_id is not None and who.grant(site_id) is not None)

        found = await self._facts.of(site.host, site.user_name)
        return [one if _sees(one.site_id) else replace(one, site_name=None) for one in found]

    async def interpreters(self, site: Site) -> list[str]:
        """The programs that are known to have run a script on this host."""
        found = await self._facts.of(site.host, site.user_name)
        return [one.value for one in found if one.name.startswith(_INTERPRETER)]

    async def learn_of(self, site: Site) -> None:
        """Write down what a site shows of its host without a trial: clock, room, the folders that are served, its cache."""
        offset = site.clock_offset_s
        if offset is not None:
            how = "measured by a file" if site.clock_how == "measured" else "set by a person"
            text = f"{span_text(abs(offset))} {'ahead of' if offset > 0 else 'behind'} UTC" if offset else "UTC"
            await self._learn(site, "clock of its listings", text, how)
        for root in site.document_roots:
            await self._learn(site, root.address, root.folder.shown, "the settings of the site", is_account=True)
        ways = await self._saving.ways(site.id)
        if ways.purge_address:
            # Without what may be a key in it.
            asked = urlsplit(ways.purge_address)
            text = f"POST to {asked.netloc.rpartition('@')[2]}{asked.path}"
            await self._learn(site, "how its cache is emptied", text, "the settings of the site", is_account=True)
        if site.protocol.traits.accounts_room:
            room = await self._room(site)
            if room:
                await self._learn(site, "room", room, "the server says so", is_account=True)

    async def _room(self, site: Site) -> str:
        """What the server says of the account's room; '' where it does not: no scan fails for that."""
        try:
            async with self._browse.side(site, _THERE) as side:
                room = await side.room(await side.home())
        except TransferError:
            return ""
        return size_text(room.total_bytes) if room is not None and room.total_bytes else ""

    async def try_scripts(self, site: Site) -> list[Capability]:
        """Try what the server does with scripts: two harmless lines of each kind are put into the document root, and into
        the folder for scripts where there is one, fetched, and removed. Raises TransferError, InvalidInput, NotAllowed."""
        need_whole(site)
        need(Right.CHANGE, site.id)
        number = secrets.randbelow(10**8) + 10**7
        async with self._browse.side(site, _THERE) as side:
            places = await self._places(side, site)
            name = f"nailer-trial-{secrets.token_hex(6)}"
            files: dict[SitePath, tuple[ScriptKind, SitePath]] = {
                folder.child(f"{name}.{kind.ending}".encode()): (kind, folder) for kind, folder in places
            }
            wanted = [
                TrialFile(path, kind.content(number), 0o755 if kind.in_cgi else 0o644)
                for path, (kind, _) in files.items()
            ]
            async with self._trials.lying(site, side, wanted) as put:
                found = await asyncio.gather(*(self._tried(site, path, *files[path], number) for path in put))
        for one in found:
            if one.ran is not WasRun.UNKNOWN:
                await self._learn_script(site, one)
        return list(found)

    async def _places(self, side: Side, site: Site) -> list[tuple[ScriptKind, SitePath]]:
        """Each kind with a folder to try it in: what servers start in their own folder only where there is one."""
        places: list[tuple[ScriptKind, SitePath]] = []
        for root in roots_there(site):
            places += [(kind, root.folder) for kind in KINDS if not kind.in_cgi]
            folders = [one.name for one in (await side.list(root.folder)).entries if one.is_folder]
            cgi = [root.folder.child(one) for one in folders if is_script_folder(one)][:_MOST_SCRIPT_FOLDERS]
            places += [(kind, folder) for folder in cgi for kind in KINDS if kind.in_cgi]
        return [(kind, folder) for kind, folder in places if not is_guarded(site, folder)]

    async def _tried(self, site: Site, path: SitePath, kind: ScriptKind, folder: SitePath, number: int) -> Capability:
        address = address_of(path, roots_there(site)) or ""
        return judged(kind, folder, number, await self._live.once(address))

    async def _learn_script(self, site: Site, one: Capability) -> None:
        how = "two lines were put there, fetched and removed"
        where = "the document root" if not one.kind.in_cgi else one.folder.name.decode("utf-8", "replace")
        await self._learn(site, f"{one.kind.name} in {where}", one.ran.value, how)
        if one.ran is WasRun.RUNS and one.kind.interpreter:
            await self._learn(site, f"{_INTERPRETER}{one.kind.name}", one.kind.interpreter, how)

    async def _learn(self, site: Site, name: str, value: str, how: str, *, is_account: bool = False) -> None:
        """`is_account`: it holds for the site's own account on the host."""
        await self._facts.learn(site.host, site.user_name if is_account else "", site.id, name, value, how)
