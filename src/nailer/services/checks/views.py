"""A page from here and the same page live, for a browser that shows them side by side. What each request got is written
down. A view is opened by somebody, has a name that nobody can guess, and ends."""

from __future__ import annotations

import asyncio
import mimetypes
import secrets
import time
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field
from urllib.parse import unquote_to_bytes, urlsplit

from blake3 import blake3

from nailer.acting import Acting, acting_as, need
from nailer.bounded import bounded
from nailer.core.check.live import Fetched, FetchedHow
from nailer.core.check.references import references, refers, target_of
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.kinds import FileKind, kind_by_name, kind_of_folder
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.files.tree import Tree
from nailer.core.people.rights import Right
from nailer.core.site.apart import Apart, Got, Told, told_apart
from nailer.core.site.names import Names, is_index
from nailer.core.site.read_files import runs
from nailer.core.site.within import within
from nailer.errors import FileMissing, InvalidInput, NailerError, NotFound, TransferError, Unreadable
from nailer.services.checks.broken_pages import address_asked, path_asked
from nailer.services.checks.ground import here_of, roots_there
from nailer.services.editing import Editing
from nailer.services.files import Browse, Files
from nailer.sides.confined import below
from nailer.sides.side import Side
from nailer.store.sites import Site
from nailer.store.stores import Stores

# As Python ships them: what the machine's own tables say must not matter.
_TYPES = {**mimetypes.types_map, ".webp": "image/webp", ".woff2": "font/woff2", ".avif": "image/avif"}
_LIVES_S = 1800.0
_MOST_EACH = 12
_MOST_TOLD_OF = 5000
_MOST_BYTES = 16_000_000
_MOST_ASKED = 400
_MOST_PAST = 12
_SECRET_KINDS = frozenset({FileKind.SECRET, FileKind.DATABASE, FileKind.LOG, FileKind.OLD, FileKind.VERSIONS})
# Programs whose text says how they work; those that make pages are told by `runs`, with words of their own.
_SOURCES = (
    b".inc",
    b".tpl",
    b".py",
    b".rb",
    b".sh",
    b".pl",
    b".cgi",
    b".lua",
    b".sql",
    b".ini",
    b".conf",
    b".yml",
    b".yaml",
)
_NOT_RUN = b"A program makes this page; it is not run here."


@dataclass(frozen=True, slots=True)
class Viewer:
    """Who looks: the view ends with this session. `framed_by` is the origin of the pages that may show the view."""

    account_id: int
    session_id: int
    framed_by: str


@dataclass(frozen=True, slots=True)
class SideView:
    """One side of a view: an origin of its own, and a name in its addresses that nobody can guess."""

    secret: str
    origin: str

    @property
    def top(self) -> str:
        """The address that everything of this side is below."""
        return f"{self.origin}/{self.secret}/"


@dataclass(slots=True)
class PageView:
    """One page looked at from both sides. `tail` is its address below the document root's. `told_of` are the paths there
    that the page here, and what it shows, refer to: nothing else of here is served."""

    token: str
    viewer: Viewer
    site: Site
    root: DocumentRoot
    tail: str
    opened_s: float
    sides: dict[SideName, SideView]
    scripts: bool = False
    told_of: set[SitePath] = field(default_factory=set)
    asked: dict[str, dict[SideName, Got]] = field(default_factory=dict)
    past: dict[str, Got] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class AskedFor:
    """One address that the page asked for on either side, and what makes the answers differ."""

    tail: str
    here: Got | None
    live: Got | None
    told: Told


class Views:
    def __init__(self, stores: Stores, files: Files, editing: Editing) -> None:
        self._browse: Browse = files.browse
        self._grants = stores.grants
        self._accounts = stores.accounts
        self._live = editing.live_check
        self._views: OrderedDict[str, PageView] = OrderedDict()
        self._by_secret: dict[str, tuple[PageView, SideName]] = {}

    def open(
        self, site: Site, viewer: Viewer, asked: str, origin_of: Callable[[str], str], *, scripts: bool = False
    ) -> PageView:
        """Look at a page from both sides. `origin_of` gives the origin of a side by a label; `scripts` lets the page's
        own scripts run. Raises InvalidInput where the page is none of this site."""
        need(Right.LOOK, site.id)
        address, roots = address_asked(site, asked), roots_there(site)
        path = path_asked(site, address)
        within_it = [root for root in roots if path is not None and path.below(root.folder) is not None]
        if not within_it or path is None:
            raise InvalidInput(f"{address} is not a page of this site.")
        root = max(within_it, key=lambda one: len(one.folder.names))
        parts = urlsplit(address)
        tail = parts.path[len(urlsplit(root.address).path.rstrip("/")) :].lstrip("/")
        query = f"?{parts.query}" if parts.query else ""
        sides = {one: SideView(secrets.token_hex(16), origin_of(secrets.token_hex(8))) for one in SideName}
        view = PageView(secrets.token_hex(16), viewer, site, root, tail + query, time.monotonic(), sides, scripts)
        view.told_of.add(path)
        self._views[view.token] = view
        self._by_secret |= {one.secret: (view, side) for side, one in sides.items()}
        self._make_room(viewer.account_id)
        return view

    def _make_room(self, account_id: int) -> None:
        """A person's oldest views give way to their own new ones; nobody's give way to another's."""
        for one in [one for one in self._views.values() if time.monotonic() - one.opened_s > _LIVES_S]:
            self._close(one)
        own = [one for one in self._views.values() if one.viewer.account_id == account_id]
        for one in own[: max(0, len(own) - _MOST_EACH)]:
            self._close(one)

    def _close(self, view: PageView) -> None:
        self._views.pop(view.token, None)
        for one in view.sides.values():
            self._by_secret.pop(one.secret, None)

    def served(self, secret: str, host: str) -> tuple[PageView, SideName]:
        """The view and the side that an address names, at the host that it was opened for. Raises NotFound."""
        view, side = self._by_secret.get(secret, (None, None))
        if view is None or side is None or host != urlsplit(view.sides[side].origin).hostname:
            raise NotFound("This view has expired. Open it again.")
        self._check_age(view)
        return view, side

    def _check_age(self, view: PageView) -> None:
        if time.monotonic() - view.opened_s > _LIVES_S:
            self._close(view)
            raise NotFound("This view has expired. Open it again.")

    def own(self, token: str, account_id: int, site_id: int) -> PageView:
        """A view of somebody's own, of this site. Raises NotFound."""
        view = self._views.get(token)
        if view is None or view.viewer.account_id != account_id or view.site.id != site_id:
            raise NotFound("This view has expired. Open it again.")
        self._check_age(view)
        return view

    async def get(self, view: PageView, side: SideName, tail: str, query: str) -> tuple[Got, bytes]:
        """What one request of a view gets on a side, and what of it a browser is shown; it is written down. `tail` is
        percent-encoded. Raises NotFound where its session has ended, or its person may no longer look."""
        viewer = view.viewer
        if not await self._accounts.session_lasts(viewer.account_id, viewer.session_id):
            self._close(view)
            raise NotFound("This view has expired. Open it again.")
        with acting_as(Acting(await self._grants.person(viewer.account_id), program="a view")):
            need(Right.LOOK, view.site.id)
            got, data = await (self._of_here(view, tail) if side is SideName.HERE else self._of_live(view, tail, query))
        key = tail + (f"?{query}" if query else "")
        if key in view.asked or len(view.asked) < _MOST_ASKED:
            view.asked.setdefault(key, {})[side] = got
        shown = await bounded(within, data, got.media_type, view.root.address, f"/{view.sides[side].secret}")
        return got, shown

    async def _of_here(self, view: PageView, tail: str) -> tuple[Got, bytes]:
        names = [one for one in unquote_to_bytes(tail).split(b"/") if one]
        top = here_of(view.site, view.root.folder)
        if top is None:
            return Got(None, words="the pair maps no folder here to this document root"), b""
        if any(one in (b".", b"..") or b"\0" in one for one in names):
            return Got(404), b""
        there = view.root.folder.join(tuple(names))
        if why := _withheld(view, there):
            return Got(None, words=why, is_withheld=True), b""
        try:
            async with self._browse.side(view.site, SideName.HERE) as whole:
                side = below(whole, top)  # no link leads out of what the page's address stands for
                path = top.join(tuple(names))
                entry = await side.stat(path)
                if entry.is_folder:
                    indexes = [
                        one.name for one in (await side.list(path)).entries if one.is_file and is_index(one.name)
                    ]
                    if not indexes:
                        return Got(403, words="the folder has no first page"), b""
                    index = min(indexes, key=lambda one: (runs(one), one))
                    path, there = path.child(index), there.child(index)
                    entry = await side.stat(path)
                got, data = await self._file_here(side, path, entry)
        except FileMissing:
            return Got(404), b""
        except TransferError as error:
            return Got(None, words=error.what), b""
        await self._note_references(view, there, data)
        return got, data

    async def _note_references(self, view: PageView, there: SitePath, data: bytes) -> None:
        """What a page or style here refers to may be served as well."""
        if not refers(there.name):
            return
        try:
            listed = await bounded(references, there.name, data)
        except Unreadable:
            return
        for one in listed[:_MOST_TOLD_OF]:
            target = target_of(one.address, there, (view.root,))
            if target is not None and len(view.told_of) < _MOST_TOLD_OF:
                view.told_of.add(target)

    @staticmethod
    async def _file_here(side: Side, path: SitePath, entry: Entry) -> tuple[Got, bytes]:
        if not entry.is_file:
            return Got(404), b""
        if runs(path.name):
            return Got(200, entry.size, words="a program: it is not run here", is_program=True), _NOT_RUN
        if entry.size > _MOST_BYTES:
            return Got(None, words="it is too large to be shown here"), b""
        _, data = await side.read_all(path)
        media_type = _media_type(path.name)
        return Got(200, len(data), media_type, blake3(data).digest()), data

    async def _of_live(self, view: PageView, tail: str, query: str) -> tuple[Got, bytes]:
        answer, data = await self._live.content(_address_of(view, tail, query))
        return _got(answer), data

    async def told(self, view: PageView) -> list[AskedFor]:
        """What every request got so far, with what makes the two sides differ: what differs first."""
        rows = dict(view.asked)
        doubtful = [key for key, got in rows.items() if _is_doubtful(got) and key not in view.past][:_MOST_PAST]
        answers = await asyncio.gather(
            *(self._live.once(_address_of(view, *_cut(key)), FetchedHow.PAST_CACHES) for key in doubtful)
        )
        view.past |= {key: _got(answer) for key, answer in zip(doubtful, answers, strict=True)}
        others = await self._others(view, rows)
        told = [
            AskedFor(
                key, got.get(SideName.HERE), got.get(SideName.THERE), _told(got, view.past.get(key), others.get(key))
            )
            for key, got in rows.items()
        ]
        return sorted(told, key=lambda one: one.told.apart is Apart.SAME)

    async def _others(self, view: PageView, rows: dict[str, dict[SideName, Got]]) -> dict[str, SitePath]:
        """What differs in writing from names that are not found live, by the address that was asked for."""
        wanted = {}
        for key, got in rows.items():
            live = got.get(SideName.THERE)
            if live is not None and live.status in (404, 410):
                names = tuple(one for one in unquote_to_bytes(_cut(key)[0]).split(b"/") if one)
                if names:
                    wanted[key] = view.root.folder.join(names)
        found: dict[str, SitePath] = {}
        for folder in list(dict.fromkeys(path.parent for path in wanted.values()))[:_MOST_PAST]:
            try:
                listing = await self._browse.listing(view.site, SideName.THERE, folder, max_age_s=60)
            except NailerError:
                continue
            names_there = Names({folder: Tree({(): listing.entries})})
            for key, path in wanted.items():
                other = names_there.other_writing(path) if path.parent == folder else None
                if other is not None:
                    found[key] = other
        return found


def _withheld(view: PageView, there: SitePath) -> str:
    """Why a file here is not shown by the path there that it stands for; '' where it is. What is secret stays so whoever
    refers to it."""
    names = there.below(view.root.folder) or ()
    if any(one.startswith(b".") for one in names):
        return "its name is hidden"
    if any(there.below(one) is not None for one in view.site.guarded):
        return "it is in a guarded folder"
    if any(kind_of_folder(one) is FileKind.VERSIONS for one in names):
        return "it is the history of the site"
    if there.name and kind_by_name(there.name) in _SECRET_KINDS:
        return "its name says that it holds secrets"
    if there.name.lower().endswith(_SOURCES):
        return "it is the source of a program"
    if there not in view.told_of:
        return "the page here does not use it"
    return ""


def _media_type(name: bytes) -> str:
    ending = name.lower().rpartition(b".")[2].decode("ascii", "replace")
    return _TYPES.get(f".{ending}", "application/octet-stream")


def _told(got: dict[SideName, Got], past: Got | None, other: SitePath | None) -> Told:
    return told_apart(got.get(SideName.HERE), got.get(SideName.THERE), past=past, other=other)


def _is_doubtful(got: dict[SideName, Got]) -> bool:
    here, live = got.get(SideName.HERE), got.get(SideName.THERE)
    return bool(here and live and here.is_good and live.is_good and here.digest != live.digest and not here.is_program)


def _cut(key: str) -> tuple[str, str]:
    tail, _, query = key.partition("?")
    return tail, query


def _address_of(view: PageView, tail: str, query: str) -> str:
    return view.root.address.rstrip("/") + "/" + tail + (f"?{query}" if query else "")


def _got(answer: Fetched) -> Got:
    return Got(answer.status, answer.size, answer.media_type, answer.digest, answer.age_s, answer.words)
