"""Looking at a site's address: the ways in, certificates, where the name leads, and which folder answers, proved."""

from __future__ import annotations

import asyncio
import contextlib
import secrets
import socket
import ssl
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from ipaddress import ip_address
from urllib.parse import urljoin, urlsplit

import dns.exception
import dns.resolver
from cryptography import x509
from cryptography.x509.oid import NameOID

from nailer.acting import grant_on, need
from nailer.core.check.live import MOVES
from nailer.core.connecting.public import Network, may_be_fetched
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.people.rights import Right
from nailer.core.site.address import (
    LeadsTo,
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
from nailer.core.site.first_page import placeholder_words
from nailer.services.checks.ground import is_guarded, need_whole, roots_there
from nailer.services.checks.trying import TrialFile, TrialFiles
from nailer.services.editing import Editing
from nailer.services.files import Browse, Files
from nailer.sides.failures import failure_words
from nailer.sides.side import Side
from nailer.store.checks.findings import SiteFact
from nailer.store.sites import Site
from nailer.store.stores import Stores

_WITHIN_S = 10.0
_NAMED_WITHIN_S = 5.0
_MOST_STEPS = 10
_MOST_FOLDERS = 12
_USUAL = (b"htdocs", b"public_html", b"www", b"web", b"public", b"httpdocs", b"html", b"webroot", b"site")
SILENT_FOLDERS = "folders that answer nowhere"


@dataclass(frozen=True, slots=True)
class Reaching:
    """How this installation reaches the world: where a name's certificate is looked at, who is asked for names (none: the
    machine's own), and which networks may be looked at though they are not public."""

    certificate_route: Callable[[str], tuple[str, int]]
    name_servers: Sequence[str]
    allowed: Sequence[Network]


@dataclass(frozen=True, slots=True)
class AddressKnown:
    """What one look at a document root's address tells. `proof` is the fact that says which folder answers ('' for none of
    those that were tried), None where nobody has proved it."""

    root: DocumentRoot
    ways: tuple[WayIn, ...]
    certificates: tuple[SeenCertificate, ...]
    leads: NameLeads
    wrong: tuple[WrongWay, ...]
    proof: SiteFact | None


class Addresses:
    def __init__(self, stores: Stores, files: Files, editing: Editing, reaching: Reaching, trials: TrialFiles) -> None:
        self._browse: Browse = files.browse
        self._live = editing.live_check
        self._facts = stores.findings
        self._scans = stores.scans
        self._reaching = reaching
        self._sites = stores.sites
        self._trials = trials

    async def look(self, site: Site) -> list[AddressKnown]:
        """Every address of a site. Nothing of the site is changed. Raises InvalidInput where it has none."""
        need_whole(site)
        return list(await asyncio.gather(*(self._look(site, root) for root in roots_there(site))))

    async def _look(self, site: Site, root: DocumentRoot) -> AddressKnown:
        addresses = ways_in(root.address)
        hosts = list(dict.fromkeys(urlsplit(one).hostname or "" for one in addresses if one.startswith("https:")))
        ways, certificates, facts = await asyncio.gather(
            asyncio.gather(*(self._way(one) for one in addresses)),
            asyncio.gather(*(self._certificate(one) for one in hosts)),
            self._facts.facts(site.id),
        )
        proof = facts.get(_proof_name(root.address))
        leads = await self._leads(site, root, ways, proof)
        wrong = wrong_ways(ways, certificates, leads, datetime.now(UTC))
        return AddressKnown(root, tuple(ways), tuple(certificates), leads, tuple(wrong), proof)

    async def _way(self, address: str) -> WayIn:
        """Every step from an address to where it ends."""
        steps: list[Step] = []
        digest, at, hosts_own = b"", address, ""
        for _ in range(_MOST_STEPS):
            answer = await self._live.step(at)
            moved = urljoin(at, answer.moved_to) if answer.status in MOVES and answer.moved_to else ""
            steps.append(Step(at, answer.status, moved, answer.words))
            digest, hosts_own = answer.digest, placeholder_words(answer.begins)
            if not moved or any(one.address == moved for one in steps):
                break
            at = moved
        return WayIn(address, tuple(steps), digest, hosts_own)

    async def _certificate(self, host: str) -> SeenCertificate:
        dial_host, port = self._reaching.certificate_route(host)
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE  # it is looked at, not trusted
        try:
            async with asyncio.timeout(_WITHIN_S):
                address = await self._dialled(host, dial_host, port)
                _, writer = await asyncio.open_connection(address, port, ssl=context, server_hostname=host)
        except ssl.SSLError:
            return SeenCertificate(host, words="no encrypted service answers")
        except (TimeoutError, OSError, ValueError) as error:
            return SeenCertificate(host, words=failure_words(error) or f"no answer within {_WITHIN_S:.0f} s")
        shown: ssl.SSLObject = writer.get_extra_info("ssl_object")
        raw = shown.getpeercert(binary_form=True)
        writer.transport.abort()  # a server that never answers a farewell is not waited for
        return _read_certificate(host, raw) if raw else SeenCertificate(host, words="no certificate was presented")

    async def _dialled(self, host: str, dial_host: str, port: int) -> str:
        """The address to dial: what a name leads to on its own must be public. Raises OSError, ValueError."""
        if dial_host != host:
            return dial_host
        found = await asyncio.get_running_loop().getaddrinfo(host, port, type=socket.SOCK_STREAM)
        address = str(found[0][4][0])
        if not may_be_fetched(address, self._reaching.allowed):
            raise ValueError(f"{host} leads to {address}, which is not a public address")
        return address

    async def _leads(self, site: Site, root: DocumentRoot, ways: Sequence[WayIn], proof: SiteFact | None) -> NameLeads:
        host = urlsplit(root.address).hostname or ""
        (addresses, why), (servers, _), (own, _) = await asyncio.gather(
            self._resolved(host, ("A", "AAAA")), self._resolved(host, ("NS",)), self._resolved(site.host, ("A", "AAAA"))
        )
        if why and not addresses:
            return NameLeads(host, LeadsTo.UNKNOWN, words=why)
        serves_this = bool(proof.value) if proof is not None else await self._serves_this(site, root, ways)
        return where_it_leads(host, addresses, servers, own, serves_this=serves_this)

    async def _resolved(self, host: str, kinds: Sequence[str]) -> tuple[list[str], str]:
        """What a name has of some kinds of records, and why nobody knows, where that is so. A host that is named by its
        number leads there."""
        with contextlib.suppress(ValueError):
            number = str(ip_address(host.strip("[]")))
            return [number] if "A" in kinds else [], ""
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
        """True where what is fetched is what lies in the document root, as far as a scan knows its first page. Another
        content proves nothing: a program's answer is never its text, and a page may have changed since."""
        known = await self._scans.digests(site.id)
        digests = {digest for path, digest in known.items() if path.parent == root.folder}
        return True if digests & {way.digest for way in ways if way.end and way.digest} else None

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
            folders = [one for one in await self._likely(side, roots) if not is_guarded(site, one)]
            files = [TrialFile(one.child(name), f"{token}-{number}".encode()) for number, one in enumerate(folders)]
            async with self._trials.lying(site, side, files) as put:
                contents = {one.content: path.parent for path, one in put.items()}
                for root in roots:
                    found |= await self._answering(root, contents, name)
        how = "tested with a temporary file"
        for address, folder in found.items():
            await self._facts.learn(site.id, _proof_name(address), folder.shown if folder is not None else "", how)
        silent = sorted({one for one in contents.values() if one not in found.values()})
        if any(one is not None for one in found.values()):
            await self._facts.learn(site.id, SILENT_FOLDERS, "\n".join(one.token for one in silent), how)
        await self._fill_settings(site, found)
        return {root.address: found.get(root.address) for root in roots}

    async def _fill_settings(self, site: Site, found: Mapping[str, SitePath | None]) -> None:
        """What was proved stands in the site's table from now on, where whoever proved it may change the settings."""
        grant = grant_on(site.id)
        if grant is not None and not grant.may(Right.SETTINGS):
            return
        now = await self._sites.get(site.id)  # a proof takes its time: others may have changed the settings meanwhile
        roots = tuple(
            DocumentRoot(folder, root.address) if (folder := found.get(root.address)) is not None else root
            for root in now.document_roots
        )
        if roots != now.document_roots:
            await self._sites.update(replace(now, document_roots=roots), None)

    async def silent_folder(self, site: Site, folder: SitePath) -> tuple[SitePath, datetime] | None:
        """The folder that a place there lies in and that a proof found to answer at no address, with when; None for none."""
        fact = (await self._facts.facts(site.id)).get(SILENT_FOLDERS)
        if fact is None or not fact.value:
            return None
        silent = [SitePath.of_token(one) for one in fact.value.splitlines()]
        inside = next((one for one in silent if folder.below(one) is not None), None)
        answers = any(folder.below(root.folder) is not None for root in site.document_roots)
        return (inside, fact.learned_at) if inside is not None and not answers else None

    @staticmethod
    async def _likely(side: Side, roots: Sequence[DocumentRoot]) -> list[SitePath]:
        """The folders of the settings, and those of the account that are published by custom or called like a domain."""
        home = await side.home()
        by_custom = [
            home.child(one.name)
            for one in (await side.list(home)).entries
            if one.is_folder and (one.name.lower() in _USUAL or b"." in one.name.strip(b"."))
        ]
        return list(dict.fromkeys([*(root.folder for root in roots), *by_custom]))[:_MOST_FOLDERS]

    async def _answering(
        self, root: DocumentRoot, contents: Mapping[bytes, SitePath], name: bytes
    ) -> dict[str, SitePath | None]:
        """The folder that answers at a root's address, None for none of them; nothing where the address does not answer."""
        answer = await self._live.once(root.address.rstrip("/") + "/" + name.decode())
        if answer.status is None:
            return {}
        return {root.address: proved(answer.status, answer.begins.encode(), contents)}


def _proof_name(address: str) -> str:
    return f"folder of {address}"[:300]


def _read_certificate(host: str, raw: bytes) -> SeenCertificate:
    try:
        shown = x509.load_der_x509_certificate(raw)
        names: tuple[str, ...] = ()
        with contextlib.suppress(x509.ExtensionNotFound):
            found = shown.extensions.get_extension_for_class(x509.SubjectAlternativeName)
            names = tuple(found.value.get_values_for_type(x509.DNSName))
        issuers = shown.issuer.get_attributes_for_oid(NameOID.ORGANIZATION_NAME) or list(shown.issuer)
        return SeenCertificate(host, names, shown.not_valid_after_utc, str(issuers[0].value) if issuers else "")
    except (ValueError, x509.DuplicateExtension, x509.UnsupportedGeneralNameType) as error:
        return SeenCertificate(host, words=f"its certificate cannot be read: {failure_words(error, 120)}")
