"""Reaching a site's server: dialling with its secrets, the first meeting, and not insisting on a refused sign-in."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable
from dataclasses import asdict, replace
from datetime import UTC, datetime

from nailer.acting import person
from nailer.core.connecting.passwords import PasswordKept
from nailer.core.connecting.routes import Route
from nailer.errors import AnswerNeeded, IdentityChanged, LoginRefused, TransferError
from nailer.services.sites.questions import who_to_ask
from nailer.sides.connection import Ask, Connection, ConnectionOptions, Lane, SignIn, Stage, Wanted, nobody_answers
from nailer.sides.connection_log import ConnectionLog
from nailer.sides.dial import Endpoint, Proxy, ProxyKind
from nailer.sides.identities.certificate import facts_of
from nailer.sides.identities.identity import Identity, same_fingerprint
from nailer.sides.pool import Whose
from nailer.sides.reach import reach
from nailer.sides.sftp.meeting import private_key
from nailer.sides.sftp.side import host_keys
from nailer.store.identities import IdentityStore, Pinned
from nailer.store.sites import Secrets, Site, SiteStore

Heard = Callable[[Stage, str], None]


def _deaf(stage: Stage, finding: str) -> None:
    """Hears the steps of a connection where no page shows them, and does nothing."""


class Connector:
    """Dials sites for the pool. `changed` are the servers whose identity has changed, until a person decides on it.

    A refused sign-in is remembered, and not tried again until a person says so: hosts lock accounts after a few refusals.
    """

    def __init__(self, sites: SiteStore, trusted: IdentityStore, route: Route) -> None:
        self._sites = sites
        self._trusted = trusted
        self._route = route
        self._refused: dict[int, LoginRefused] = {}
        self._once: dict[tuple[str, int], Identity] = {}
        self._passwords: dict[Whose, str] = {}
        self._own: set[int] = set()
        self._to_store: dict[int, Secrets] = {}
        self._held: dict[int, Secrets] = {}
        self._logs: dict[int, ConnectionLog] = {}
        self.changed: set[tuple[str, int]] = set()
        self._ends: dict[tuple[str, int], datetime | None] = {}

    async def dial(self, site_id: int) -> Connection:
        """A signed-in connection to a stored site. Raises what `sides.reach` raises."""
        if site_id in self._refused:
            raise self._refused[site_id]
        site = await self._sites.get(site_id)
        secrets = await self.with_password(site, await self._sites.secrets(site), who_to_ask())
        wanted = await self.wanted(site, secrets, ask=who_to_ask(), log=self.log(site_id))
        try:
            connection = await reach(wanted)
        except LoginRefused as refused:
            if self._to_store.pop(site_id, None) is None:  # what was just typed may be typed again
                self._refused[site_id] = refused
            self._passwords.pop(self._mine(site_id), None)
            raise
        except IdentityChanged:
            self.changed.add((site.host, site.port))
            raise
        self.changed.discard((site.host, site.port))
        typed = self._to_store.pop(site_id, None)
        try:
            if typed is not None:
                await self._sites.update(await self._sites.get(site_id), typed)
            await self._learn(site, connection)
        except BaseException:
            # Nobody else knows of the connection yet: it is closed here, or never.
            await asyncio.shield(connection.close())
            raise
        return connection

    async def _learn(self, site: Site, connection: Connection) -> None:
        """Write down what a connection shows: the start folder from the root, what the server can do, its clock."""
        if site.from_home:
            home = await (await connection.channel(Lane.BROWSE)).home()
            site = replace(site, start_there=home.join(site.start_there.names), from_home=False)
            await self._sites.set_start(await self._sites.get(site.id), site.start_there)
        await self._sites.learn(site.id, asdict(connection.abilities), await self._measured(site, connection))

    async def _measured(self, site: Site, connection: Connection) -> int | None:
        """The clock of a server whose listings follow it, once it is not known yet."""
        if site.clock_offset_s is not None or connection.abilities.exact_times:
            return None
        with contextlib.suppress(TransferError):
            return await connection.measure_offset(site.start_there)
        return None

    async def wanted(
        self,
        site: Site,
        secrets: Secrets,
        *,
        ask: Ask = nobody_answers,
        heard: Heard = _deaf,
        log: ConnectionLog | None = None,
    ) -> Wanted:
        """Everything it takes to connect to a site, stored or not."""
        once = self._once.get((site.host, site.port))
        pinned = tuple(one.key for one in await self._trusted.pinned(site.host, site.port))
        log = log or ConnectionLog()
        log.hide((secrets.proxy_password,))
        return Wanted(
            protocol=site.protocol,
            where=self.endpoint(site, secrets),
            sign_in=_sign_in(site, secrets),
            pinned=(once,) if once else pinned,
            manner=_manner(site),
            log=log,
            ask=ask,
            heard=heard,
        )

    async def with_password(self, site: Site, secrets: Secrets, ask: Ask) -> Secrets:
        """The secrets with the password of a site that does not store it: as remembered, else asked for."""
        if secrets.password is not None:
            return secrets
        if site.password_kept is PasswordKept.STORED and not site.fleeting:
            return await self._asked_for_once(site, secrets, ask)
        held = self._held.get(site.id)
        if held is not None:
            return held
        password = self._passwords.get(self._mine(site.id))
        if password is None:
            prompts = ((f"Password of {site.user_name} at {site.host}", False),)
            answers = await ask("This site's password is not stored.", prompts)
            if len(answers) != 1:
                raise AnswerNeeded(
                    "The password of this site is not stored. Open the site and type it.", prompts=prompts
                )
            password = answers[0]
            if site.id:
                self._passwords[self._mine(site.id)] = password
        return replace(secrets, password=password)

    async def _asked_for_once(self, site: Site, secrets: Secrets, ask: Ask) -> Secrets:
        """The secrets of a site that has none yet, as it was handed over: asked for, and stored once they let in."""
        if secrets.private_key or site.key_file or site.agent or not site.id:
            return secrets
        if site.id in self._to_store:
            return self._to_store[site.id]  # it was typed before the server was met
        prompts = ((f"Password of {site.user_name} at {site.host}", False),)
        answers = await ask(
            "This site was shared without its password. Type it once; Nailer stores it encrypted.", prompts
        )
        if len(answers) != 1 or not answers[0]:
            raise AnswerNeeded("This site has no password yet. Open it and type it.", prompts=prompts)
        found = replace(secrets, password=answers[0])
        self._to_store[site.id] = found
        return found

    def whose(self, site_id: int) -> Whose:
        """Whose line to a site it is: one's own where the password is, else everybody's."""
        return self._mine(site_id) if site_id in self._own else (site_id, 0)

    async def begin(self) -> None:
        """Learn which sites are signed in to with a password of one's own."""
        for site in await self._sites.all():
            self.look_at(site)

    def look_at(self, site: Site) -> None:
        """A site was stored or changed: does everybody have a password of their own for it?"""
        (self._own.discard if site.password_kept is PasswordKept.STORED else self._own.add)(site.id)

    def remember(self, site_id: int, password: str) -> None:
        """Keep the password of a site that does not store it, in memory only, for whoever typed it."""
        self._passwords[self._mine(site_id)] = password

    @staticmethod
    def _mine(site_id: int) -> Whose:
        who = person()
        return site_id, who.account_id if who is not None else 0

    def hold(self, site_id: int, secrets: Secrets) -> None:
        """Keep the secrets of a connection that is made once. They stay in memory and are never stored."""
        self._held[site_id] = secrets

    async def forget_asked(self, whose: Whose) -> None:
        """Forget the password of a site that asks for it with each connection."""
        site = await self._sites.get(whose[0])
        if site.password_kept is PasswordKept.ASKED:
            self._passwords.pop(whose, None)

    def forget_passwords(self) -> list[Whose]:
        """Forget every secret that whoever acts has typed and that is not stored; return whose lines end with that."""
        who = person()
        mine = [one for one in self._passwords if who is None or one[1] == who.account_id]
        for one in mine:
            del self._passwords[one]
        held = [(site_id, 0) for site_id in self._held]
        self._held.clear()
        return [*mine, *held]

    def log(self, site_id: int) -> ConnectionLog:
        """The conversation with a site's server."""
        return self._logs.setdefault(site_id, ConnectionLog())

    def forget_refusal(self, site_id: int) -> None:
        """A person wants the sign-in tried again, or has changed it."""
        self._refused.pop(site_id, None)

    def forget_site(self, site_id: int) -> None:
        """A site was changed or removed: what was remembered of its sign-in no longer holds."""
        self._refused.pop(site_id, None)
        for one in [one for one in self._passwords if one[0] == site_id]:
            del self._passwords[one]
        self._held.pop(site_id, None)
        self._to_store.pop(site_id, None)

    async def pinned(self, site: Site) -> list[Pinned]:
        """What is trusted of a site's server."""
        found = await self._trusted.pinned(site.host, site.port)
        ends = [facts_of(one.key.public_key).not_after for one in found if one.key.is_certificate]
        self._ends[(site.host, site.port)] = max(ends) if ends and len(ends) == len(found) else None
        return found

    def is_expired(self, site: Site) -> bool:
        """True where all that is trusted of a site's server has expired, as far as it was read."""
        end = self._ends.get((site.host, site.port))
        return end is not None and end <= datetime.now(UTC)

    async def same_key_at(self, key: Identity) -> list[str]:
        """Names of other trusted servers that show the same key: evidence at a first meeting."""
        known = await self._trusted.known_servers()
        return [host for (host, _), fingerprints in known.items() if key.fingerprint in fingerprints]

    async def trust(
        self, host: str, port: int, key: Identity, *, account_id: int, always: bool, compared: bool
    ) -> None:
        """Trust the identity that a server showed: from now on, or until Nailer is stopped."""
        self.changed.discard((host, port))
        how = "fingerprint compared" if compared else "accepted when it was shown"
        if not always:
            self._once[(host, port)] = key
            await self._trusted.note_identity(host, port, "trusted-once", key, how, account_id)
            return
        self._once.pop((host, port), None)
        await self._trusted.pin(host, port, key, trusted_by=account_id, how=how)

    async def key_published(self, host: str, port: int, published: str) -> Identity | None:
        """Of all keys that a server has the one whose fingerprint was published; None where it has none such."""
        for key in await host_keys(self.place(host, port)):
            if same_fingerprint(published, key.fingerprint):
                return key
        return None

    def distrust(self, host: str, port: int) -> None:
        """Forget what was trusted only for now."""
        self._once.pop((host, port), None)

    def endpoint(self, site: Site, secrets: Secrets) -> Endpoint:
        """Where a site's server is, by the routes of this installation and the site's proxy."""
        place = self.place(site.host, site.port)
        if not site.proxy_kind:
            return place
        proxy = self.place(site.proxy_host, site.proxy_port)
        kind, password = ProxyKind(site.proxy_kind), secrets.proxy_password or ""
        return replace(place, proxy=Proxy(kind, proxy.dial_host, proxy.dial_port, site.proxy_user, password))

    def place(self, host: str, port: int) -> Endpoint:
        """A server by name and port, by the routes of this installation."""
        dial_host, dial_port = self._route(host, port)
        return Endpoint(host, port, dial_host, dial_port)


def key_problem(text: str, passphrase: str | None) -> str | None:
    """What is wrong with a private key, as a sentence; None where it can be used."""
    try:
        private_key(text, passphrase)
    except LoginRefused as error:
        return error.what
    return None


def _sign_in(site: Site, secrets: Secrets) -> SignIn:
    return SignIn(
        user=site.user_name,
        password=secrets.password,
        private_key=secrets.private_key,
        passphrase=secrets.passphrase,
        one_time_secret=secrets.one_time_secret,
        key_file=site.key_file,
        agent=site.agent,
    )


def _manner(site: Site) -> ConnectionOptions:
    return ConnectionOptions(
        passive=site.passive,
        old_allowed=site.old_allowed,
        charset=site.charset,
        most=site.connections_most,
        offset_s=site.clock_offset_s,
    )
