"""Identities of servers: which are trusted, how each came to be, and lists of known hosts in and out."""

from __future__ import annotations

from dataclasses import dataclass, field

from nailer.errors import Conflict
from nailer.services.sites.connect import Connector
from nailer.sides.identities.certificate import CertificateFacts, facts_of, identity_of_pem
from nailer.sides.identities.identity import key_of_line, same_fingerprint
from nailer.sides.identities.known_hosts import KnownHosts, read_known_hosts, write_known_hosts
from nailer.sides.pool import Pool
from nailer.store.identities import IdentityEvent, IdentityStore, Pinned
from nailer.store.sites import Site, SiteStore
from nailer.unbroken import in_thread


@dataclass(slots=True)
class KnownServer:
    """A server with what is trusted of it, the names of its sites, and its story. `changed`: it shows another identity
    now, and nobody has decided on that."""

    host: str
    port: int
    pinned: list[tuple[Pinned, CertificateFacts | None]] = field(default_factory=list)
    sites: list[str] = field(default_factory=list)
    story: list[IdentityEvent] = field(default_factory=list)
    changed: bool = False


class Identities:
    """What is trusted of which server. What is not trusted any more has its line ended at once."""

    def __init__(self, trusted: IdentityStore, sites: SiteStore, connector: Connector, pool: Pool) -> None:
        self._trusted = trusted
        self._sites = sites
        self._connector = connector
        self._pool = pool

    async def of_site(self, site: Site) -> list[Pinned]:
        """What is trusted of a site's server."""
        return await self._trusted.pinned(site.host, site.port)

    async def of_server(self, host: str, port: int) -> list[Pinned]:
        """What is trusted of a server."""
        return await self._trusted.pinned(host, port)

    async def known_servers(self) -> dict[tuple[str, int], list[str]]:
        """The fingerprints that are trusted, by server name and port."""
        return await self._trusted.known_servers()

    async def story(self, site: Site) -> list[IdentityEvent]:
        """What happened with the identity of a site's server, the latest first."""
        return await self._trusted.story(site.host, site.port)

    async def trust_shown(
        self,
        host: str,
        port: int,
        public_key: str,
        *,
        account_id: int,
        published: str,
        always: bool,
        changed_understood: bool,
    ) -> None:
        """Trust what a server showed. `published` is a fingerprint that the host has made known elsewhere; empty: none.

        Raises Conflict where it is another one, or where the identity has changed and nobody has said that the host
        confirmed it.
        """
        key = identity_of_pem(public_key) if "BEGIN CERTIFICATE" in public_key else key_of_line(public_key)
        if published and not same_fingerprint(published, key.fingerprint) and not key.is_certificate:
            # A server may have keys of several kinds, and the host may have published another one than it showed.
            key = await self._connector.key_published(host, port, published) or key
        if published and not same_fingerprint(published, key.fingerprint):
            raise Conflict(
                "The fingerprint you pasted does not match this server's. Nothing was trusted and no password "
                "was sent. Ask your hosting provider which one is right."
            )
        if await self._trusted.pinned(host, port) and not changed_understood:
            raise Conflict(
                "Confirm first that your hosting provider has confirmed the new identity. Nothing was trusted."
            )
        await self._connector.trust(host, port, key, account_id=account_id, always=always, compared=bool(published))

    async def fingerprints(self) -> dict[tuple[str, int], str]:
        """What is trusted of each server, as it is compared: for whoever a site is handed over to."""
        return {(one.host, one.port): one.key.fingerprint for one in await self._trusted.all_pinned()}

    async def said_of(self, host: str, port: int) -> str:
        """The fingerprint that whoever handed a site over has told of its server; empty where nobody has."""
        told = (one.fingerprint for one in await self._sites.all() if (one.host, one.port) == (host, port))
        return next((one for one in told if one), "")

    async def remove(self, pinned_id: int, account_id: int) -> None:
        """Trust an identity no longer: the next connection to that server is a first meeting. Raises NotFound."""
        pinned = await self._trusted.unpin(pinned_id, account_id)
        self._connector.distrust(pinned.host, pinned.port)
        for site in await self._sites.all():
            if (site.host, site.port) == (pinned.host, pinned.port):
                await self._pool.close_site(site.id)

    async def servers(self) -> list[KnownServer]:
        """Every server of which something is trusted or told, those that are trusted first."""
        servers: dict[tuple[str, int], KnownServer] = {}
        for one in await self._trusted.all_pinned():
            server = servers.setdefault((one.host, one.port), KnownServer(one.host, one.port))
            server.pinned.append((one, facts_of(one.key.public_key) if one.key.is_certificate else None))
        for event in await self._trusted.stories():
            server = servers.setdefault((event.host, event.port), KnownServer(event.host, event.port))
            server.story.append(event)
        for site in await self._sites.all():
            if (site.host, site.port) in servers:
                servers[(site.host, site.port)].sites.append(site.name)
        for key, server in servers.items():
            server.changed = key in self._connector.changed
        return sorted(servers.values(), key=lambda one: (not one.pinned, one.host, one.port))

    async def known_hosts(self) -> str:
        """All trusted keys as OpenSSH's list of known hosts (sshd(8))."""
        return write_known_hosts((one.host, one.port, one.key) for one in await self._trusted.all_pinned())

    async def take_in(self, text: str, account_id: int) -> tuple[KnownHosts, int]:
        """Trust the keys of a list of known hosts. A server that has other keys here keeps them: a file never replaces
        what was met. Return what the text holds, with what was left and why, and how many keys are new."""
        found = await in_thread(read_known_hosts, text, {(site.host, site.port) for site in await self._sites.all()})
        already = await self._trusted.known_servers()
        taken, left = 0, list(found.left)
        for host, port, key in found.keys:
            trusted = already.get((host, port), [])
            if key.fingerprint in trusted:
                continue
            if trusted:
                left.append((f"{host} {key.algorithm}", "this server has another key here; remove that first"))
                continue
            await self._trusted.pin(host, port, key, trusted_by=account_id, how="read from known_hosts", beside=True)
            taken += 1
        return KnownHosts(found.keys, tuple(left)), taken
