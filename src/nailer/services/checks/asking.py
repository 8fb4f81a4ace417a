"""Asking the web about what a scan suspects: nothing is called missing or exposed that its address does not prove."""

from __future__ import annotations

import asyncio
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

from nailer.core.check.live import Fetched
from nailer.core.files.kinds import FileKind, kind_by_name
from nailer.core.files.sitepath import DocumentRoot, SitePath, address_of
from nailer.core.site.exposed import Exposed, exposed, hands_out
from nailer.core.site.findings import REFERENCES, FindingKind, SiteFinding, of_broken, of_exposed, of_way
from nailer.core.site.first_page import (
    Bare,
    Rivals,
    bare_folders,
    lists_contents,
    placeholder_words,
    rival_folders,
    served_of,
)
from nailer.core.site.graph import BrokenReference, Fault, Graph, RefersAt
from nailer.core.site.links import Use
from nailer.core.site.names import Names
from nailer.core.site.read_files import ReadFile
from nailer.core.words import size_text
from nailer.services.checks.addresses import Addresses
from nailer.services.checks.ground import roots_there
from nailer.services.editing import Editing
from nailer.store.sites import Site

_AT_ONCE = 6
MOST = 400  # addresses of one sort: a site of thousands of faults is told by its first
_MOST_BARE = 60
_FILES = frozenset({FileKind.PICTURE, FileKind.STYLE, FileKind.FONT, FileKind.SOUND, FileKind.DOCUMENT})
_ASKED = (Fault.MISSING, Fault.WRITTEN_OTHERWISE, Fault.ONLY_HERE, Fault.RENAMED)


@dataclass(frozen=True, slots=True)
class Suspects:
    """What the names of a site make worth asking for: names that should not be public, folders with rival first pages, and
    folders without one."""

    exposed: tuple[Exposed, ...]
    rivals: tuple[Rivals, ...]
    bare: tuple[Bare, ...]

    @classmethod
    def of(cls, there: Names, roots: tuple[DocumentRoot, ...], graph: Graph, guarded: Collection[SitePath]) -> Suspects:
        """The suspects of a site; `guarded` are folders that nobody looks into."""
        return cls(
            tuple(exposed(there, roots, graph.targets)[:MOST]),
            tuple(rival_folders(there, roots)[:MOST]),
            tuple(bare_folders(there, roots, guarded=guarded)[:_MOST_BARE]),
        )


class Asker:
    def __init__(self, editing: Editing, addresses: Addresses) -> None:
        self._live = editing.live_check
        self._addresses = addresses
        self._gate = asyncio.Semaphore(_AT_ONCE)

    async def findings(
        self,
        site: Site,
        there: Names,
        files: Mapping[SitePath, ReadFile],
        broken: Sequence[BrokenReference],
        suspects: Suspects,
    ) -> tuple[list[FindingKind], list[SiteFinding]]:
        """What was looked for, and what of it was found: each with what its address answered."""
        roots = roots_there(site)
        gone, open_to_all, rivals, lists, hosts_own, known = await asyncio.gather(
            self._broken(broken),
            self._exposed(there, roots, suspects.exposed),
            self._rivals(roots, files, suspects.rivals),
            self._lists(roots, suspects.bare),
            self._placeholders(roots),
            self._addresses.look(site),
        )
        ways = [of_way(wrong) for one in known for wrong in one.wrong]
        looked_for = [
            *REFERENCES,
            FindingKind.EXPOSED,
            FindingKind.RIVALS,
            FindingKind.LISTS,
            FindingKind.PLACEHOLDER,
            FindingKind.WAY,
        ]
        return looked_for, [*gone, *open_to_all, *rivals, *lists, *hosts_own, *ways]

    async def _ask(self, address: str, *, body: bool = True) -> Fetched:
        """One address, with few others at the same time."""
        async with self._gate:
            return await self._live.once(address, body=body)

    async def _broken(self, broken: Sequence[BrokenReference]) -> list[SiteFinding]:
        """References that lead nowhere, without those whose address answers all the same: a rule of the server, or a
        program, may serve what is no file."""

        async def _one(one: BrokenReference) -> SiteFinding | None:
            if one.fault not in _ASKED:
                return of_broken(one)
            answer = await self._ask(one.address.partition("#")[0], body=False)
            if answer.status is None:
                # Only of what is a file for certain the listing tells enough: a page may be made by a program.
                is_file = one.path is not None and kind_by_name(one.path.name) in _FILES
                return of_broken(one, "no file; the web did not answer") if is_file else None
            return of_broken(one, str(answer.status)) if answer.status >= 400 else None

        asked = await asyncio.gather(*(_one(one) for one in broken[:MOST]))
        return [one for one in asked if one is not None]

    async def _exposed(
        self, there: Names, roots: tuple[DocumentRoot, ...], suspects: Sequence[Exposed]
    ) -> list[SiteFinding]:
        async def _one(suspect: Exposed) -> SiteFinding | None:
            address, asked = address_of(suspect.asked, roots), there.entry(suspect.asked)
            if address is None or asked is None:
                return None
            answer = await self._ask(address, body=False)
            if not hands_out(answer, asked, suspect.danger):
                return None
            return of_exposed(suspect, address, f"answers {answer.status}, {size_text(answer.size)}")

        found = await asyncio.gather(*(_one(one) for one in suspects))
        return [one for one in found if one is not None]

    async def _rivals(
        self, roots: tuple[DocumentRoot, ...], files: Mapping[SitePath, ReadFile], suspects: Sequence[Rivals]
    ) -> list[SiteFinding]:
        async def _one(rivals: Rivals) -> SiteFinding:
            address = address_of(rivals.folder, roots, is_folder=True) or ""
            digests = {
                path: digest for path, _ in rivals.files if path in files and (digest := files[path].digest) is not None
            }
            known = served_of(rivals, digests, await self._ask(address))
            places = tuple(RefersAt(path, path.name.decode("utf-8", "replace"), Use.PAGE) for path, _ in rivals.files)
            return SiteFinding(
                FindingKind.RIVALS, rivals.folder.token, rivals.folder, known.served, address, places, known.said
            )

        return list(await asyncio.gather(*(_one(one) for one in suspects)))

    async def _lists(self, roots: tuple[DocumentRoot, ...], suspects: Sequence[Bare]) -> list[SiteFinding]:
        async def _one(folder: SitePath, names: int) -> SiteFinding | None:
            address = address_of(folder, roots, is_folder=True) or ""
            answer = await self._ask(address)
            if answer.status != 200 or not lists_contents(answer.begins):
                return None
            return SiteFinding(FindingKind.LISTS, folder.token, folder, None, address, (), f"{names} names")

        found = await asyncio.gather(*(_one(one.folder, one.names) for one in suspects))
        return [one for one in found if one is not None]

    async def _placeholders(self, roots: tuple[DocumentRoot, ...]) -> list[SiteFinding]:
        async def _one(root: DocumentRoot) -> SiteFinding | None:
            answer = await self._ask(root.address)
            words = placeholder_words(answer.begins)
            if not words:
                return None
            folder = root.folder
            return SiteFinding(FindingKind.PLACEHOLDER, folder.token, folder, address=root.address, said=words)

        found = await asyncio.gather(*(_one(root) for root in roots))
        return [one for one in found if one is not None]
