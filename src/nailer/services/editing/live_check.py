"""The live check: what visitors get at an address, fetched and compared with what is on the server."""

from __future__ import annotations

import asyncio
import functools
import secrets
import socket
import ssl
from collections.abc import Awaitable, Callable, Sequence
from contextlib import suppress
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from urllib.parse import urljoin, urlsplit, urlunsplit

import httpx2
from blake3 import blake3

from nailer.bounded import bounded
from nailer.core.check.live import MOVES, Fetched, FetchedHow, LiveVerdict, keeps, trouble_in, verdict
from nailer.core.connecting.public import Network, may_be_fetched
from nailer.core.connecting.routes import Route
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath, address_of, without_scheme
from nailer.core.numbers import number_in
from nailer.errors import FileMissing, InvalidInput, Unreadable
from nailer.services.files import Browse
from nailer.sides.failures import failure_words
from nailer.store.sites import Site

_WITHIN_S = 15.0
_MOST_BYTES = 32 * 1024 * 1024
_MOST_MOVES = 5
_BEGINS = 2000
_READ_BYTES = 200_000
_PROGRAMS = (b".php", b".phtml", b".cgi", b".pl", b".py", b".rb", b".sh", b".asp", b".aspx", b".shtml")


@functools.cache
def _context() -> ssl.SSLContext:
    """The authorities that are trusted: reading them anew for each fetch would cost more than the fetch."""
    return httpx2.create_ssl_context(trust_env=False)


def _client() -> httpx2.AsyncClient:
    return httpx2.AsyncClient(timeout=_WITHIN_S, trust_env=False, verify=_context())


class LiveCheck:
    """`route` says where a server's name and port are reached from here; `allowed` are networks that may be fetched from
    though they are not public."""

    def __init__(self, browse: Browse, route: Route, allowed: Sequence[Network] = ()) -> None:
        self._browse = browse
        self._route = route
        self._allowed = allowed

    async def of_file(
        self, site: Site, path: SitePath, before: bytes | None = None
    ) -> tuple[LiveVerdict, list[Fetched]]:
        """Compare what visitors get with what lies there now. Raises InvalidInput where the file is not on the web."""
        address = address_of(path, site.document_roots)
        if address is None:
            raise InvalidInput("Visitors cannot see this file: it is outside the folders of the web address.")
        async with self._browse.side(site, SideName.THERE) as side:
            entry = await side.stat(await side.resolve(path))
            if not entry.is_file:
                raise FileMissing(f"{path} is not a file.")
            digest, size = blake3(), 0
            async for chunk in side.read(path):
                digest.update(chunk)
                size += len(chunk)
        answers = await self.fetch(address)
        is_program = path.name.lower().endswith(_PROGRAMS)
        return verdict(digest.digest(), answers, is_program=is_program, before=before), answers

    async def of_old_name(self, site: Site, path: SitePath) -> str:
        """What the address of a name that is gone answers to visitors, in a sentence; '' where it never had one."""
        address = address_of(path, site.document_roots)
        if address is None:
            return ""
        answer = await self.once(address)
        shown = without_scheme(address)
        if not answer.status:
            return f"Its old address {shown} could not be asked: {answer.words}."
        if answer.moved_to:
            return f"Its old address {shown} redirects to {answer.moved_to} and answers {answer.status}."
        if answer.status in (404, 410):
            return f"Its old address {shown} answers {answer.status} to visitors now."
        return f"Its old address {shown} still answers {answer.status}: a cache, a rule or another file serves it."

    async def fetch(self, address: str) -> list[Fetched]:
        """The three fetches of an address, at the same time."""
        return list(await asyncio.gather(*(self.once(address, how) for how in FetchedHow)))

    async def once(self, address: str, how: FetchedHow = FetchedHow.PLAIN, *, body: bool = True) -> Fetched:
        """One fetch, moves followed. What goes wrong is in the answer. Without `body` the content is not fetched where the
        answer says how long it is (RFC 9110, 8.6): only its status and `size` are known then."""
        asked = _with_query(address) if how is FetchedHow.NEW_QUERY else address
        headers = {"Cache-Control": "no-cache", "Pragma": "no-cache"} if how is FetchedHow.PAST_CACHES else {}
        if not body:
            headers["Accept-Encoding"] = "identity"  # the length is that of the content then

        async def _follow(client: httpx2.AsyncClient) -> Fetched:
            return await self._follow(client, address, asked, headers, how, body=body)

        return await _answered(how, address, _follow)

    async def _follow(
        self,
        client: httpx2.AsyncClient,
        address: str,
        at: str,
        headers: dict[str, str],
        how: FetchedHow,
        *,
        body: bool = True,
        into: bytearray | None = None,
    ) -> Fetched:
        moved = ""
        for _ in range(_MOST_MOVES):
            if into is not None:
                into.clear()
            answer = await self._get(client, at, headers, how, body=body, into=into)
            if answer.status not in MOVES or not answer.moved_to:
                return _moved(answer, moved)
            moved = f"{answer.status} to {answer.moved_to}"
            at = urljoin(at, answer.moved_to)
        return Fetched(how, address, words=f"too many redirects, the last one {moved}")

    async def content(self, address: str) -> tuple[Fetched, bytes]:
        """One fetch as a visitor's, moves followed, with the content itself. What goes wrong is in the answer."""
        body = bytearray()

        async def _follow(client: httpx2.AsyncClient) -> Fetched:
            return await self._follow(client, address, address, {}, FetchedHow.PLAIN, into=body)

        answer = await _answered(FetchedHow.PLAIN, address, _follow)
        return answer, bytes(body)

    async def step(self, address: str) -> Fetched:
        """One fetch that follows no move: what it leads to is in the answer. What goes wrong is, too."""
        how = FetchedHow.PLAIN
        return await _answered(how, address, lambda client: self._get(client, address, {}, how))

    async def purge(self, address: str, changed: str) -> str:
        """Ask a site's cache to let a changed address go; return what it answered. `{url}` in the address stands for it."""
        target = address.replace("{url}", changed)
        try:
            async with asyncio.timeout(_WITHIN_S), _client() as client:
                answer = await self._send(client, "POST", target, {})
                await answer.aclose()
        except (TimeoutError, httpx2.HTTPError, httpx2.InvalidURL, OSError, ValueError) as error:
            return f"The purge address does not answer: {failure_words(error, 120) or 'nothing came in time'}."
        return f"Nailer asked the cache to delete the file. The cache answered {answer.status_code}."

    async def _get(
        self,
        client: httpx2.AsyncClient,
        address: str,
        headers: dict[str, str],
        how: FetchedHow,
        *,
        body: bool = True,
        into: bytearray | None = None,
    ) -> Fetched:
        answer = await self._send(client, "GET", address, headers)
        try:
            digest, size, begins = blake3(), 0, b""
            told = number_in(answer.headers.get("content-length", ""))
            if not body and told is not None and "content-encoding" not in answer.headers:
                return Fetched(how, address, answer.status_code, size=told, moved_to=answer.headers.get("location", ""))
            async for chunk in answer.aiter_bytes():
                digest.update(chunk)
                size += len(chunk)
                if into is not None:
                    into += chunk
                begins = (begins + chunk)[:_READ_BYTES] if len(begins) < _READ_BYTES else begins
                if size > _MOST_BYTES:
                    raise ValueError("the answer does not end")
        finally:
            await answer.aclose()
        said = {name.lower(): value for name, value in answer.headers.items()}
        age = said.get("age", "")
        return Fetched(
            how,
            address,
            answer.status_code,
            digest.digest(),
            size,
            number_in(age),
            keeps(said, _expires_in(said)),
            said.get("etag", ""),
            said.get("last-modified", ""),
            said.get("cache-control", ""),
            said.get("location", ""),
            begins[:_BEGINS].decode("utf-8", "replace"),
            await _trouble(begins.decode("utf-8", "replace")),
            media_type=said.get("content-type", ""),
        )

    async def _send(
        self, client: httpx2.AsyncClient, method: str, address: str, headers: dict[str, str]
    ) -> httpx2.Response:
        """The answer, its content still to be read. Raises ValueError where the address may not be fetched."""
        parts = urlsplit(address)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise ValueError(f"{address} is not a web address")
        port = parts.port or (443 if parts.scheme == "https" else 80)
        host, dial_port = self._route(parts.hostname, port)
        common = {"User-Agent": "Nailer live check", "Host": parts.netloc.rpartition("@")[2], **headers}
        if (host, dial_port) != (parts.hostname, port):
            # A routed address is one of this machine's own servers, which speak plainly.
            routed = urlunsplit(("http", f"{host}:{dial_port}", parts.path, parts.query, ""))
            return await client.send(client.build_request(method, routed, headers=common), stream=True)
        refused: httpx2.ConnectError | None = None
        for one in await self._addresses(host, port):
            # The very address that was looked at is dialled: the name could lead elsewhere a moment later.
            dialled = parts._replace(netloc=f"[{one}]:{port}" if ":" in one else f"{one}:{port}", fragment="")
            extensions = {"sni_hostname": host}
            request = client.build_request(method, urlunsplit(dialled), headers=common, extensions=extensions)
            try:
                return await client.send(request, stream=True)
            except httpx2.ConnectError as error:
                refused = error
        assert refused is not None, "a name that leads nowhere is an OSError"
        raise refused

    async def _addresses(self, host: str, port: int) -> list[str]:
        found = await asyncio.get_running_loop().getaddrinfo(host, port, type=socket.SOCK_STREAM)
        addresses = list(dict.fromkeys(str(one[4][0]) for one in found))
        inside = [one for one in addresses if not may_be_fetched(one, self._allowed)]
        if inside:
            raise ValueError(f"{host} leads to {inside[0]}, which is not a public address")
        return addresses


async def _answered(how: FetchedHow, address: str, ask: Callable[[httpx2.AsyncClient], Awaitable[Fetched]]) -> Fetched:
    """What asking gives, within its time; what goes wrong is an answer, too."""
    try:
        async with asyncio.timeout(_WITHIN_S), _client() as client:
            return await ask(client)
    except (TimeoutError, httpx2.TimeoutException):
        return Fetched(how, address, words=f"no answer within {_WITHIN_S:.0f} s")
    except (httpx2.HTTPError, httpx2.InvalidURL, OSError, ssl.SSLError, ValueError) as error:
        return Fetched(how, address, words=failure_words(error, 200) or "the connection was lost")


def _with_query(address: str) -> str:
    parts = urlsplit(address)
    fresh = f"nailer={secrets.token_hex(6)}"
    return urlunsplit(parts._replace(query=f"{parts.query}&{fresh}" if parts.query else fresh))


def _moved(answer: Fetched, moved: str) -> Fetched:
    if not moved:
        return answer
    kept = {name: getattr(answer, name) for name in answer.__slots__}
    return Fetched(**(kept | {"moved_to": moved}))


def _expires_in(said: dict[str, str]) -> int | None:
    """Seconds from when the answer was made to when it says it expires."""
    with suppress(TypeError, ValueError):
        made = parsedate_to_datetime(said["date"]) if "date" in said else datetime.now(UTC)
        return int((parsedate_to_datetime(said["expires"]) - made).total_seconds()) if "expires" in said else None
    return None


async def _trouble(body: str) -> str:
    try:
        return await bounded(trouble_in, body)
    except Unreadable:
        return ""
