"""Buttons of findings: each makes a plan that is read before anything is touched."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from datetime import UTC, datetime

from nailer.acting import need
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.names import free_name
from nailer.core.files.sitepath import SitePath, common_folder, shown_name
from nailer.core.people.rights import Right
from nailer.core.site.findings import WATCHED, FindingKind, Mend, SiteFinding
from nailer.core.site.rules import NAME, forbidding, without_lists
from nailer.core.words import count_text
from nailer.errors import FileMissing, InvalidInput
from nailer.services.checks.ground import here_of, roots_there
from nailer.services.checks.watching import Watching
from nailer.services.editing import Editing
from nailer.services.files import Files
from nailer.services.plans import FromFolder, Plans, Rename, Write
from nailer.store.sites import Site

_THERE = SideName.THERE
_OFF = b"off-the-web"
_RIGHTS = {Mend.TAKE_DOWN: Right.REMOVE, Mend.CLOSE: Right.PERMISSIONS}


class Mending:
    def __init__(self, files: Files, plans: Plans, editing: Editing, watching: Watching) -> None:
        self._browse = files.browse
        self._permissions = files.permissions
        self._make = plans.make
        self._prepared = plans.prepared
        self._references = editing.references
        self._watching = watching

    async def plan(self, account_id: int, site: Site, mend: Mend, found: Sequence[SiteFinding]) -> int:
        """A plan that mends findings; return its job. Pages that it may make worse are watched. Raises InvalidInput where
        there is nothing that could be mended so."""
        need(_RIGHTS.get(mend, Right.CHANGE), site.id)
        job_id = await self._planned(account_id, site, mend, found)
        if mend in WATCHED:
            pages = [one.address for one in found if one.address and one.kind is not FindingKind.EXPOSED]
            await self._watching.watch(site, job_id, [*_first_pages(site, found), *pages])
        return job_id

    async def fetch_first(self, account_id: int, site: Site, paths: Sequence[SitePath]) -> int:
        """A plan that fetches files from there, each below a folder of today beside the one here; return its job."""
        need(Right.DOWNLOAD, site.id)
        day = datetime.now(UTC).strftime("%Y-%m-%d")
        beside = site.start_here.parent if len(site.start_here.names) > 1 else site.start_here
        target = beside.child(f"fetched-{day}".encode())
        folders: dict[SitePath, list[bytes]] = defaultdict(list)
        for path in paths:
            folders[path.parent].append(path.name)
        places = [FromFolder(folder, target.join(folder.names), tuple(names)) for folder, names in folders.items()]
        return await self._make.transfer_places(account_id, site, SideName.HERE, places)

    async def _planned(self, account_id: int, site: Site, mend: Mend, found: Sequence[SiteFinding]) -> int:
        paths = [one.path for one in found if one.path is not None]
        if not paths:
            raise InvalidInput("These files no longer exist. Scan the site again.")
        match mend:
            case Mend.SEND:
                return await self._send(account_id, site, paths)
            case Mend.RENAME:
                return await self._references_of(account_id, site, found)
            case Mend.REWRITE:
                return await self._lead_on(account_id, site, found)
            case Mend.TAKE_DOWN:
                top = common_folder([path.parent for path in paths])
                return await self._make.removal_found(account_id, site, _THERE, top, paths)
            case Mend.MOVE_OUT:
                return await self._move_out(account_id, site, paths)
            case Mend.CLOSE:
                for path in paths[:-1]:
                    await self._permissions.set_one(account_id, site, _THERE, path, 0o600)
                return await self._permissions.set_one(account_id, site, _THERE, paths[-1], 0o600)
            case Mend.SET_ASIDE:
                return await self._set_aside(account_id, site, found[0])
            case Mend.FORBID_LISTS | Mend.FORBID:
                return await self._rule(account_id, site, mend, found)

    async def _send(self, account_id: int, site: Site, paths: Sequence[SitePath]) -> int:
        """What lies here goes to where pages look for it."""
        folders: dict[SitePath, list[bytes]] = defaultdict(list)
        for path in paths:
            folders[path.parent].append(path.name)
        places = []
        for folder, names in folders.items():
            here = here_of(site, folder)
            if here is None:
                raise InvalidInput(f"{folder} is outside the folders of the pair.")
            places.append(FromFolder(here, folder, tuple(names)))
        return await self._make.transfer_places(account_id, site, _THERE, places)

    async def _references_of(self, account_id: int, site: Site, found: Sequence[SiteFinding]) -> int:
        """A name becomes what pages call it, and what refers to it by its real name follows."""
        renames: dict[SitePath, bytes] = {}
        for one in found:
            if one.path is None or one.other is None:
                continue
            depth = next(
                number
                for number, (wanted, real) in enumerate(zip(one.path.names, one.other.names, strict=False))
                if wanted != real
            )
            renames[SitePath(one.other.names[: depth + 1])] = one.path.names[depth]
        job_id, _ = await self._references.rename(account_id, site, _THERE, renames)
        return job_id

    async def _lead_on(self, account_id: int, site: Site, found: Sequence[SiteFinding]) -> int:
        leads = {one.path: one.other for one in found if one.path is not None and one.other is not None}
        job_id, _ = await self._references.lead_on(account_id, site, _THERE, leads)
        return job_id

    async def _move_out(self, account_id: int, site: Site, paths: Sequence[SitePath]) -> int:
        folder = paths[0].parent
        # The outermost: the folder above a document root in another one is on the web, too.
        root = min(
            (one.folder for one in roots_there(site) if folder.below(one.folder) is not None),
            key=lambda one: len(one.names),
            default=None,
        )
        if root is None or root.is_root:
            raise InvalidInput("The whole account is on the web, so there is no folder that visitors cannot reach.")
        target = root.parent.child(_OFF)
        names = [path.name for path in paths if path.parent == folder]
        title = f"Move {shown_name(names[0])} off the web" if len(names) == 1 else ""
        return await self._make.move(account_id, site, _THERE, folder, names, target, title=title)

    async def _set_aside(self, account_id: int, site: Site, finding: SiteFinding) -> int:
        """The first page that is served gets another name; the other one is served then. One step back by taking it back."""
        path = finding.other
        if path is None:
            raise InvalidInput(
                "Nailer cannot tell which start page visitors get. Open both and rename one in the files view."
            )
        async with self._browse.side(site, _THERE) as side:
            entry = await side.stat(path)
            taken = {one.name for one in (await side.list(path.parent)).entries}
        day = datetime.now(UTC).strftime("%Y-%m-%d").encode()
        stem, _, ending = path.name.rpartition(b".")
        wanted = b"%s-aside-%s.%s" % (stem, day, ending)
        name = free_name(wanted, taken) if wanted in taken else wanted
        new = path.parent.child(name)
        title = f"{shown_name(path.name)} is set aside"
        return await self._prepared.add(account_id, site, _THERE, title, [], [Rename(path, new, entry)])

    async def _rule(self, account_id: int, site: Site, mend: Mend, found: Sequence[SiteFinding]) -> int:
        """One more rule in the file that the web server reads in the document root."""
        paths = [(one.path, one.danger) for one in found if one.path is not None]
        root = next(
            (one.folder for one in roots_there(site) if all(path.below(one.folder) is not None for path, _ in paths)),
            None,
        )
        if root is None:
            raise InvalidInput(
                "The files are in different document roots. Create the rule for one document root at a time."
            )
        file = root.child(NAME)
        seen: Entry | None = None
        text = ""
        async with self._browse.side(site, _THERE) as side:
            try:
                seen, data = await side.read_all(file)
                text = data.decode("utf-8", "surrogateescape")
            except FileMissing:
                pass
        new = without_lists(text) if mend is Mend.FORBID_LISTS else forbidding(text, paths)
        if new == text:
            raise InvalidInput(f"{file} already contains this rule, but the web server ignores it.")
        title = (
            "Turn off directory listings" if mend is Mend.FORBID_LISTS else f"Block {count_text(len(paths), 'file')}"
        )
        write = Write(file, new.encode("utf-8", "surrogateescape"), seen, "rule added")
        return await self._prepared.add(account_id, site, _THERE, title, [write])


def _first_pages(site: Site, found: Sequence[SiteFinding]) -> list[str]:
    """The addresses of the document roots that findings lie in."""
    paths = [one.path for one in found if one.path is not None]
    return [root.address for root in roots_there(site) if any(path.below(root.folder) is not None for path in paths)]
