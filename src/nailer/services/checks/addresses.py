"""Looking at a site's address: the ways in, certificates, where the name leads, and which folder answers, proved."""

from __future__ import annotations

import asyncio
import contextlib
import secrets
import socket
import ssl
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from urllib.parse import urljoin, urlsplit

import dns.exception
import dns.resolver
from cryptography import x509
from cryptography.x509.oid import NameOID

from nailer.acting import need
from nailer.core.connecting.public import Network, may_be_fetched
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.people.rights import Right
from nailer.core.site.address import (
    NameLeads,
    SeenCertificate,
    Step,
    WayIn,
    WrongWay,
    proved,
    ways_in,
    where_it_leads,
    wrong_ways,
)
from nailer.errors import AlreadyThere, FileMissing, InvalidInput, NailerError, TransferError
from nailer.services.checks.ground import need_whole, roots_there
from nailer.services.editing import Editing
from nailer.services.files import Browse, Files
from nailer.sides.side import Side, once
from nailer.store.checks.findings import HostFact
from nailer.store.sites import Site
from nailer.store.stores import Stores

_WITHIN_S = 10.0
_NAMED_WITHIN_S = 5.0
_MOST_STEPS = 10
_MOST_FOLDERS = 12
_USUAL = (b"htdocs", b"public_html", b"www", b"web", b"public", b"httpdocs", b"html", b"webroot", b"site")
_PENDING = "proof file"


@dataclass(frozen=True, slots=True)
class Reaching:
    """How this installation reaches the world: where a name's certificate is looked at, who is asked for names (none: the
    machine's own), and which networks may be looked at though they are not public."""

    certificate_route: Callable[[str], tuple[str, int]]
    name_servers: Sequence[str]
    allowed: Sequence[Network]


@dataclass(frozen=True, slots=True)
class AddressKnown:
    """What one look at a document root's address tells. `proof` is the fact that says which folder answers, None where
    nobody has proved it."""

    root: DocumentRoot
    ways: tuple[WayIn, ...]
    certificates: tuple[SeenCertificate, ...]
    leads: NameLeads
    wrong: tuple[WrongWay, ...]
    proof: HostFact | None
    looked_at: datetime


class Addresses:
    def __init__(self, stores: Stores, files: Files, editing: Editing, reaching: Reaching) -> None:
        self._browse: Browse = files.browse
        self._live = editing.live_check
        self._facts = stores.findings
        self._readings = stores.readings
        self._sites = stores.sites
        self._reaching = reaching

    async def look(self, site: Site) -> list[AddressKnown]:
        """Every address of a site. Nothing of the site is changed. Raises InvalidInput where it has none."""
        need_whole(site)
        return list(await asyncio.gather(*(self._look(site, root) for root in roots_there(site))))

    async def facts(self, site: Site) -> list[HostFact]:
        """What is known of the host a site lies on, shared by all sites there."""
        return [one for one in await self._facts.facts(site.host) if one.name != _PENDING]

    async def _look(self, site: Site, root: DocumentRoot) -> AddressKnown:
        addresses = ways_in(root.address)
        hosts = list(dict.fromkeys(urlsplit(one).hostname or "" for one in addresses if one.startswith("https:")))
        ways, certificates, facts = await asyncio.gather(
            asyncio.gather(*(self._way(one) for one in addresses)),
            asyncio.gather(*(self._certificate(one) for one in hosts)),
            self._facts.facts(site.host),
        )
        leads = await self._leads(site, root, ways)
        now = datetime.now(UTC)
        proof = next((one for one in facts if one.name == _proof_name(root.address)), None)
        return AddressKnown(
            root, tuple(ways), tuple(certificates), leads, tuple(wrong_ways(ways, certificates, now)), proof, now
        )

    async def _way(self, address: str) -> WayIn:
        """Every step from an address to where it ends."""
        steps: list[Step] = []
        digest, at = b"", address
        for _ in range(_MOST_STEPS):
            answer = await self._live.step(at)
            moved = answer.moved_to if answer.status in (301, 302, 303, 307, 308) else ""
            steps.append(Step(at, answer.status, urljoin(at, moved) if moved else "", answer.words))
            digest = answer.digest
            if not moved or any(one.address == urljoin(at, moved) for one in steps):
                break
            at = urljoin(at, moved)
        return WayIn(address, tuple(steps), digest)

    async def _certificate(self, host: str) -> SeenCertificate:
        dial_host, port = self._reaching.certificate_route(host)
        context = ssl.create_default_context()
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE  # it is looked at, not trusted
        try:
            async with asyncio.timeout(_WITHIN_S):
                address = await self._dialled(host, dial_host, port)
                _, writer = await asyncio.open_connection(address, port, ssl=context, server_hostname=host)
        except ssl.SSLError:
            return SeenCertificate(host, words="nothing that is encrypted answers there")
        except (TimeoutError, OSError, ValueError) as error:
            return SeenCertificate(host, words=str(error)[:160] or f"nothing came within {_WITHIN_S:.0f} s")
        shown: ssl.SSLObject = writer.get_extra_info("ssl_object")
        raw = shown.getpeercert(binary_form=True)
        writer.close()
        with contextlib.suppress(OSError, ssl.SSLError):
            await writer.wait_closed()
        return _read_certificate(host, raw) if raw else SeenCertificate(host, words="it showed no certificate")

    async def _dialled(self, host: str, dial_host: str, port: int) -> str:
        """The address to dial: what a name leads to on its own must be public. Raises OSError, ValueError."""
        if dial_host != host:
            return dial_host
        found = await asyncio.get_running_loop().getaddrinfo(host, port, type=socket.SOCK_STREAM)
        address = str(found[0][4][0])
        if not may_be_fetched(address, self._reaching.allowed):
            raise ValueError(f"{host} leads to {address}, which is no public address")
        return address

    async def _leads(self, site: Site, root: DocumentRoot, ways: Sequence[WayIn]) -> NameLeads:
        host = urlsplit(root.address).hostname or ""
        (addresses, why), (servers, _), (own, _) = await asyncio.gather(
            self._resolved(host, ("A", "AAAA")), self._resolved(host, ("NS",)), self._resolved(site.host, ("A", "AAAA"))
        )
        leads = where_it_leads(host, addresses, servers, own, serves_this=await self._serves_this(site, root, ways))
        return replace(leads, words=why) if why and not addresses else leads

    async def _resolved(self, host: str, kinds: Sequence[str]) -> tuple[list[str], str]:
        """What a name has of some kinds of records, and why nobody knows, where that is so."""
        found: list[str] = []
        why = ""

        def _ask(kind: str) -> list[str]:
            resolver = dns.resolver.Resolver(configure=not self._reaching.name_servers)
            if self._reaching.name_servers:
                resolver.nameservers = [one.rpartition(":")[0] for one in self._reaching.name_servers]
                resolver.port = int(self._reaching.name_servers[0].rpartition(":")[2])
            resolver.lifetime = _NAMED_WITHIN_S
            return [str(one).rstrip(".") for one in resolver.resolve(host, kind)]

        asked = await asyncio.gather(*(asyncio.to_thread(_ask, kind) for kind in kinds), return_exceptions=True)
        for one in asked:
            if isinstance(one, list):
                found += one
            elif isinstance(one, (dns.exception.DNSException, OSError)):
                if not isinstance(one, (dns.resolver.NoAnswer, dns.resolver.NXDOMAIN)):
                    why = f"The name servers could not be asked: {str(one)[:120]}"
            else:
                raise one
        return found, why

    async def _serves_this(self, site: Site, root: DocumentRoot, ways: Sequence[WayIn]) -> bool | None:
        """Whether what is fetched is what lies in the document root, as far as a reading knows its first page."""
        known = await self._readings.digests(site.id)
        digests = {digest for path, digest in known.items() if path.parent == root.folder}
        got = {way.digest for way in ways if way.end and way.digest}
        return bool(digests & got) if digests and got else None

    async def prove(self, site: Site) -> dict[str, SitePath | None]:
        """Which folder answers at each address of a site: a file that nobody can guess is put into likely folders, fetched,
        and removed, whatever happens. Returns the folder of each address, None where none of them answers.

        Raises TransferError where nothing could be put anywhere.
        """
        need_whole(site)
        need(Right.CHANGE, site.id)
        roots = roots_there(site)
        token = secrets.token_hex(16)
        name = f"nailer-proof-{token[:12]}.txt".encode()
        found: dict[str, SitePath | None] = {}
        async with self._browse.side(site, SideName.THERE) as side:
            await self._clear_left(site, side)
            placed = await self._placed(site, side, roots, name, token.encode())
            try:
                for root in roots:
                    found[root.address] = await self._answering(root, placed, name)
            finally:
                await asyncio.shield(self._clear(site, side, [folder.child(name) for folder, _ in placed]))
        for address, folder in found.items():
            if folder is not None:
                how = "a file was put there, fetched and removed"
                await self._facts.learn(site.host, _proof_name(address), folder.shown, how)
        return found

    async def _placed(
        self, site: Site, side: Side, roots: Sequence[DocumentRoot], name: bytes, token: bytes
    ) -> list[tuple[SitePath, bytes]]:
        """Put a file into each likely folder, each with a content of its own; what is put there is written down first."""
        folders = [root.folder for root in roots]
        home = await side.home()
        folders += [
            home.child(one.name)
            for one in (await side.list(home)).entries
            if one.is_folder and (one.name.lower() in _USUAL or b"." in one.name.strip(b"."))
        ]
        folders = list(dict.fromkeys(folders))[:_MOST_FOLDERS]
        await self._facts.learn(
            site.host, _PENDING, "\n".join(one.child(name).token for one in folders), "being put there"
        )
        placed: list[tuple[SitePath, bytes]] = []
        why: NailerError | None = None
        for number, folder in enumerate(folders):
            content = token + b"-%d" % number
            try:
                await side.write(folder.child(name), once(content))
                await side.set_attributes(folder.child(name), access=0o644)
                placed.append((folder, content))
            except AlreadyThere:
                continue
            except TransferError as error:
                why = error
        if not placed:
            raise why or InvalidInput("There is no folder that a file could be put into.")
        return placed

    async def _answering(
        self, root: DocumentRoot, placed: Sequence[tuple[SitePath, bytes]], name: bytes
    ) -> SitePath | None:
        address = root.address.rstrip("/") + "/" + name.decode()
        answer = await self._live.once(address)
        for folder, content in placed:
            if proved([(address, answer.status, answer.begins.encode())], content):
                return folder
        return None

    async def _clear_left(self, site: Site, side: Side) -> None:
        """Remove what an earlier proof left, because it was cut."""
        pending = next((one for one in await self._facts.facts(site.host) if one.name == _PENDING), None)
        if pending is not None and pending.value:
            await self._clear(site, side, [SitePath.of_token(one) for one in pending.value.splitlines()])

    async def _clear(self, site: Site, side: Side, paths: Sequence[SitePath]) -> None:
        left = []
        for path in paths:
            try:
                await side.remove_file(path)
            except FileMissing:
                continue
            except TransferError:
                left.append(path)
        await self._facts.learn(
            site.host, _PENDING, "\n".join(one.token for one in left), "removed" if not left else "left"
        )


def _proof_name(address: str) -> str:
    return f"folder of {address}"[:300]


def _read_certificate(host: str, raw: bytes) -> SeenCertificate:
    shown = x509.load_der_x509_certificate(raw)
    names: tuple[str, ...] = ()
    with contextlib.suppress(x509.ExtensionNotFound):
        found = shown.extensions.get_extension_for_class(x509.SubjectAlternativeName)
        names = tuple(found.value.get_values_for_type(x509.DNSName))
    issuers = shown.issuer.get_attributes_for_oid(NameOID.ORGANIZATION_NAME) or list(shown.issuer)
    issuer = str(issuers[0].value) if issuers else ""
    return SeenCertificate(host, names, shown.not_valid_after_utc, issuer)
