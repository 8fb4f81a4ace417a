"""Trying a connection step by step: each step with its time and its finding, and at the first failure a reading of it.

Works for a site that is not stored. Nothing is written to the server unless asked, nothing secret is sent before the
server's identity is known, and a password never goes over a line without encryption unless the site says plain FTP.
"""

from __future__ import annotations

import asyncio
import contextlib
import secrets as random_secrets
import time
from collections.abc import AsyncGenerator, Awaitable, Callable
from dataclasses import asdict, dataclass, field, replace
from enum import StrEnum
from typing import TypeVar

from nailer.core.connecting.abilities import Abilities, in_words
from nailer.core.connecting.diagnosis import (
    Diagnosis,
    Fix,
    like_names,
    likely_start_folders,
    of_cut_hello,
    of_data_channel,
    of_encryption_demanded,
    of_folder,
    of_no_encryption,
    of_other_name,
    of_refusal,
    of_speaker,
    of_unreached,
    of_weak,
)
from nailer.core.connecting.protocol import Greeting, Protocol, Speaker
from nailer.core.files.charset import CHARSETS, UTF8, candidates
from nailer.core.files.completeness import Incomplete
from nailer.core.files.entry import NS, Entry, Kind
from nailer.core.files.names import part_name
from nailer.core.files.sitepath import shown_name
from nailer.engine.tasks import told_by
from nailer.errors import (
    AnswerNeeded,
    ConnectionDropped,
    EncryptionDemanded,
    EncryptionMissing,
    FileMissing,
    HostUnreachable,
    IdentityChanged,
    IdentityUnknown,
    KeyUnusable,
    LoginRefused,
    NailerError,
    NotSupported,
    ProtocolViolation,
    TooManyConnections,
    TransferError,
    Unreached,
    WeakServer,
    WrongKind,
)
from nailer.services.sites.connect import Connector
from nailer.services.sites.questions import Question, Questions
from nailer.sides.connection import Ask, Connection, Lane, Stage
from nailer.sides.connection_log import ConnectionLog
from nailer.sides.dial import Endpoint, resolve
from nailer.sides.identities.certificate import names_of
from nailer.sides.reach import answers_at, reach
from nailer.sides.side import Side, once
from nailer.store.sites import Secrets, Site, SiteStore

_R = TypeVar("_R")

_STEP_S = 45.0
_USUAL_PORTS = (22, 21, 990)
_MOST_REFUSALS = 3
_REFUSALS_LAST_S = 900.0


class TrialStep(StrEnum):
    """The steps, in order."""

    NAME = "name"
    PORT = "port"
    ENCRYPTION = "encryption"
    IDENTITY = "identity"
    SIGN_IN = "sign-in"
    FOLDER = "folder"
    LISTING = "listing"
    WRITING = "writing"
    CLOCK = "clock"
    ABILITIES = "abilities"


STEP_WORDS = {
    TrialStep.NAME: "Server name found",
    TrialStep.PORT: "Port open",
    TrialStep.ENCRYPTION: "Encryption",
    TrialStep.IDENTITY: "Identity",
    TrialStep.SIGN_IN: "Sign in",
    TrialStep.FOLDER: "Start folder",
    TrialStep.LISTING: "Read the start folder",
    TrialStep.WRITING: "Write a file",
    TrialStep.CLOCK: "Clock",
    TrialStep.ABILITIES: "Server capabilities",
}


class StepMark(StrEnum):
    """How a step stands."""

    RUNNING = "running"
    GOOD = "good"
    WARN = "warn"
    ASK = "ask"
    BAD = "bad"


@dataclass(frozen=True, slots=True)
class Event:
    """News of one step. `error` and `diagnosis` come with a step that ended the trial; `learned` are fields of the site
    that were measured on the way."""

    step: TrialStep
    mark: StepMark
    finding: str = ""
    took_ms: int | None = None
    error: NailerError | None = None
    diagnosis: Diagnosis | None = None
    learned: dict[str, str] = field(default_factory=dict)


class Trials:
    """Tries connections, and remembers refusals by server and user."""

    def __init__(self, connector: Connector, sites: SiteStore) -> None:
        self._connector = connector
        self._sites = sites
        self._refusals: dict[tuple[str, int], list[float]] = {}

    async def run(
        self, site: Site, secrets: Secrets, *, ask: Ask, writes: bool = False, insists: bool = False
    ) -> AsyncGenerator[Event, None]:
        """The steps as they happen. Left early, everything is closed."""
        if not insists and (refused := self._too_often(site)) is not None:
            yield refused
            return

        async def _run(tell: Callable[[Event], None]) -> None:
            await _Trial(self._connector, self._sites, site, secrets, ask, writes, tell).run()

        async with contextlib.aclosing(told_by(_run)) as events:
            async for event in events:
                if isinstance(event.error, LoginRefused):
                    self._refusals.setdefault((site.host, site.port), []).append(time.monotonic())
                yield event

    async def asked(
        self, key: str, site: Site, secrets: Secrets, *, questions: Questions, writes: bool, insists: bool
    ) -> AsyncGenerator[Event | Question, None]:
        """As `run`, with the questions that a server asks in between: they are answered at the desk, by `key`."""

        async def _run(tell: Callable[[Event | Question], None]) -> None:
            ask = questions.asker(key, tell)
            async for event in self.run(site, secrets, ask=ask, writes=writes, insists=insists):
                tell(event)

        async with contextlib.aclosing(told_by(_run)) as told:
            async for one in told:
                yield one

    def _too_often(self, site: Site) -> Event | None:
        key = (site.host, site.port)
        recent = [one for one in self._refusals.get(key, ()) if time.monotonic() - one < _REFUSALS_LAST_S]
        self._refusals[key] = recent
        if len(recent) < _MOST_REFUSALS:
            return None
        sentence = (
            f"{site.host} has refused {len(recent)} sign-ins on port {site.port} in the last 15 minutes. "
            "Another failed attempt could lock the account or block Nailer. Check user name and password first."
        )
        diagnosis = Diagnosis(sentence, (Fix("Try again anyway", (("insist", "yes"),)),))
        return Event(TrialStep.SIGN_IN, StepMark.BAD, "not tested", diagnosis=diagnosis)


class _Trial:
    """One trial under way."""

    def __init__(
        self,
        connector: Connector,
        sites: SiteStore,
        site: Site,
        secrets: Secrets,
        ask: Ask,
        writes: bool,
        tell: Callable[[Event], None],
    ) -> None:
        self._connector = connector
        self._sites = sites
        self._site = site
        self._secrets = secrets
        self._ask = ask
        self._writes = writes
        self._tell = tell
        self._learned: dict[str, str] = {}
        self._step = TrialStep.NAME
        self._since_s = time.monotonic()

    async def run(self) -> None:
        """Try the connection step by step, and tell each step."""
        site = self._site
        log = self._connector.log(site.id) if site.id else ConnectionLog()
        self._begin(TrialStep.NAME)
        where: Endpoint | None = None
        try:
            secrets = await self._connector.with_password(site, self._secrets, self._ask)
            self._secrets = secrets
            wanted = await self._connector.wanted(site, secrets, ask=self._ask, heard=self._heard, log=log)
            where = wanted.where
            connection = await reach(wanted)
        except TransferError as error:
            await self._failed(error, where)
            return
        try:
            await self._look_round(connection)
        finally:
            await connection.close()

    async def _look_round(self, connection: Connection) -> None:
        if not self._site.protocol.traits.is_encrypted:
            self._warn_plain(connection.abilities)
        try:
            side = await connection.channel(Lane.BROWSE)
            self._begin(TrialStep.FOLDER)
            await self._start_folder(side)
            self._begin(TrialStep.LISTING)
            listing = await self._limited(side.list(self._site.start_there))
            self._listed(listing.entries, listing.lack)
            offset_s = await self._clock(connection, side)
            self._begin(TrialStep.ABILITIES)
            lacking = [said.what for said in in_words(connection.abilities) if said.can is False]
            finding = f"everything but {', '.join(lacking).lower()}" if lacking else "everything Nailer uses"
            self._good(finding)
            if self._site.id:
                await self._sites.learn(self._site.id, asdict(connection.abilities), offset_s)
        except _Ended:
            return
        except TransferError as error:
            self._bad(error, self._reading_of_later(error))

    def _warn_plain(self, abilities: Abilities) -> None:
        if any(feature.startswith("AUTH") for feature in abilities.features):
            better = Fix("Use FTP with TLS", (("protocol", Protocol.FTP_TLS.value),))
            diagnosis = Diagnosis("This server offers encryption.", (better,))
            self._say(
                Event(TrialStep.ENCRYPTION, StepMark.WARN, "none, though the server offers TLS", diagnosis=diagnosis)
            )
        else:
            self._say(
                Event(TrialStep.ENCRYPTION, StepMark.WARN, "none: anyone on the network path can read everything")
            )

    async def _start_folder(self, side: Side) -> None:
        if self._site.from_home:
            home = await self._limited(side.home())
            self._site = replace(self._site, start_there=home.join(self._site.start_there.names), from_home=False)
            self._learned["start_there"] = self._site.start_there.shown
        start = self._site.start_there
        try:
            entry = await self._limited(side.stat(start)) if not start.is_root else Entry(b"", Kind.FOLDER)
            if not entry.opens_as_folder:
                raise WrongKind(f"{start} is not a folder.")
        except (FileMissing, WrongKind) as error:
            self._bad(error, of_folder(str(start), await self._likely(side)))
            raise _Ended from error
        if (start.is_root or "start_there" in self._learned) and (likely := await self._likely(side)):
            fixes = tuple(Fix(f"Start in {path}", (("start_there", path),)) for path in likely[:3])
            diagnosis = Diagnosis(f"Websites are usually in a subfolder. Found: {' and '.join(likely[:3])}.", fixes)
            self._say(
                Event(
                    TrialStep.FOLDER,
                    StepMark.WARN,
                    str(start),
                    self._took(),
                    diagnosis=diagnosis,
                    learned=self._learned,
                )
            )
            return
        same = ""
        if entry.kind is Kind.LINK and entry.target is not None:
            same = f", the same place as {await self._limited(side.resolve(start))}"
        self._say(Event(TrialStep.FOLDER, StepMark.GOOD, f"{start}{same}", self._took(), learned=self._learned))

    async def _likely(self, side: Side) -> list[str]:
        domain = ""
        if self._site.document_roots:
            domain = self._site.document_roots[0].address.partition("://")[2].partition("/")[0]
        with contextlib.suppress(TransferError):
            home = await self._limited(side.home())
            listing = await self._limited(side.list(home))
            names = [shown_name(one.name) for one in listing.entries if one.opens_as_folder]
            return [home.shown.rstrip("/") + one for one in likely_start_folders(names, domain)]
        return []

    def _listed(self, entries: list[Entry], lack: Incomplete | None) -> None:
        raw = [one.name for one in entries]
        odd = [name for name in raw if not _is_utf8(name)]
        finding = f"{len(entries)} names"
        if odd and self._site.charset == UTF8:
            best = candidates(odd)[0]
            shown = ", ".join(best.samples or ())
            fixes = (Fix(f"Read names as {best.title}", (("charset", best.charset),)),)
            diagnosis = Diagnosis(f"Some names are not UTF-8. Read as {best.title} they are: {shown}.", fixes)
            self._say(Event(TrialStep.LISTING, StepMark.WARN, finding, self._took(), diagnosis=diagnosis))
            return
        if lack is not None:
            self._say(
                Event(TrialStep.LISTING, StepMark.WARN, finding, self._took(), diagnosis=Diagnosis(lack.sentence, ()))
            )
            return
        charset = "" if self._site.charset == UTF8 else f", names in {CHARSETS[self._site.charset]}"
        self._good(finding + charset)

    async def _clock(self, connection: Connection, side: Side) -> int | None:
        """The clock by a file written and read back, where writing is asked for; else by what the server says."""
        measured: int | None = None
        if self._writes:
            self._begin(TrialStep.WRITING)
            measured = await self._write_and_look(side)
        self._begin(TrialStep.CLOCK)
        if measured is None and not connection.abilities.exact_times:
            measured = await self._limited(connection.measure_offset(self._site.start_there))
        if measured is None:
            if connection.abilities.exact_times:
                self._good("times come in UTC; its own clock is measured when a file is written")
            else:
                self._say(
                    Event(
                        TrialStep.CLOCK,
                        StepMark.WARN,
                        "not measured: the server does not report exact times",
                        self._took(),
                    )
                )
            return None
        learned = {"clock_offset_s": str(measured)}
        finding = _offset_words(measured)
        self._say(Event(TrialStep.CLOCK, StepMark.GOOD, finding, self._took(), learned=learned))
        return measured

    async def _write_and_look(self, side: Side) -> int | None:
        path = self._site.start_there.child(part_name(0, random_secrets.randbelow(10**9)))
        before_s = time.time()
        try:
            await self._limited(side.write(path, once(b"Nailer looks whether it can write here.\n")))
        except TransferError as error:
            self._bad(
                error, Diagnosis("Reading works, but writing does not. Check the permissions of the start folder.")
            )
            raise _Ended from error
        try:
            entry = await self._limited(side.stat(path))
        finally:
            with contextlib.suppress(TransferError):
                await self._limited(side.remove_file(path))
        self._good("written, read back and removed")
        if entry.stamp is None or entry.stamp.precision_ns > 60 * NS:
            return None
        ahead_s = entry.stamp.at_ns / NS - before_s + (self._site.clock_offset_s or 0)
        return round(ahead_s / 900) * 900 if abs(ahead_s) > 450 else 0

    async def _failed(self, error: TransferError, where: Endpoint | None) -> None:
        """The failure of reaching the server: at the step it belongs to, with a reading."""
        self._step = _step_of(error, self._step)
        if isinstance(error, IdentityUnknown | IdentityChanged):
            diagnosis = None
            if error.doubts and where is not None:
                diagnosis = await self._other_name(error, where)
            self._say(Event(self._step, StepMark.ASK, "your decision is needed", self._took(), error, diagnosis))
            return
        self._bad(error, await self._reading(error, where))

    async def _reading(self, error: TransferError, where: Endpoint | None) -> Diagnosis | None:
        site = self._site
        if isinstance(error, KeyUnusable):
            return None  # it says itself what is wrong with the key
        if isinstance(error, LoginRefused):
            domain = self._site.document_roots[0].address.partition("://")[2].strip("/") if site.document_roots else ""
            has_key = bool(self._secrets.private_key or site.key_file or site.agent)
            return of_refusal(
                site.user_name,
                site.host,
                self._secrets.password,
                has_key=has_key,
                web_domain=domain,
                said=error.server_words or "",
            )
        if isinstance(error, EncryptionDemanded):
            return of_encryption_demanded(site.port)
        if isinstance(error, WeakServer):
            return of_weak(error.wanted)
        if where is None:
            return None
        if isinstance(error, HostUnreachable) and error.why is Unreached.NO_NAME:
            return of_unreached(error.why, site.host, site.port, {}, await self._existing(like_names(site.host)))
        if isinstance(error, HostUnreachable) and error.why is Unreached.PROXY:
            return of_unreached(error.why, site.host, site.port, {})
        if isinstance(error, EncryptionMissing):
            return of_no_encryption(site.host, await self._others())
        if isinstance(error, HostUnreachable) and error.why is not Unreached.SILENT:
            return of_unreached(error.why, site.host, site.port, await self._others())
        if isinstance(error, ProtocolViolation | ConnectionDropped | HostUnreachable):
            greeting = await answers_at(where)
            if greeting is not None:
                unseen = (
                    isinstance(error, ConnectionDropped) and self._step is TrialStep.PORT
                )  # its key was never shown
                cut = unseen and site.protocol.traits.speaker is Speaker.SSH and not site.old_allowed
                return of_speaker(site.protocol, site.port, greeting) or (of_cut_hello() if cut else None)
            return of_unreached(Unreached.SILENT, site.host, site.port, await self._others())
        return None

    def _reading_of_later(self, error: TransferError) -> Diagnosis | None:
        if self._step in (TrialStep.FOLDER, TrialStep.LISTING) and isinstance(
            error, HostUnreachable | ConnectionDropped
        ):
            return of_data_channel(passive=self._site.passive) if self._site.protocol.traits.data_channels else None
        return None

    async def _others(self) -> dict[int, Greeting]:
        """Who answers on the other usual ports; looked at side by side."""
        ports = [port for port in _USUAL_PORTS if port != self._site.port]
        found = await asyncio.gather(*(answers_at(self._where(self._site.host, port)) for port in ports))
        return {port: one for port, one in zip(ports, found, strict=True) if one is not None}

    async def _existing(self, names: list[str]) -> list[str]:
        return [name for name in names if await self._addresses(name)]

    async def _addresses(self, name: str) -> set[str]:
        with contextlib.suppress(HostUnreachable):
            return set(await resolve(self._where(name, self._site.port)))
        return set()

    async def _other_name(self, error: IdentityUnknown | IdentityChanged, where: Endpoint) -> Diagnosis | None:
        if error.algorithm != "certificate":
            return None
        names = names_of(error.public_key)[:5]
        own = await self._addresses(self._site.host)
        same = [name for name in names if own & await self._addresses(name)]
        return of_other_name(self._site.host, names, same)

    def _where(self, host: str, port: int) -> Endpoint:
        return self._connector.place(host, port)

    async def _limited(self, task: Awaitable[_R]) -> _R:
        try:
            async with asyncio.timeout(_STEP_S):
                return await task
        except TimeoutError as error:
            raise ConnectionDropped(f"No answer within {_STEP_S:.0f} s.") from error

    def _heard(self, stage: Stage, finding: str) -> None:
        self._step = TrialStep(stage.value)
        self._good(finding)
        steps = list(TrialStep)
        self._begin(steps[steps.index(self._step) + 1])

    def _begin(self, step: TrialStep) -> None:
        self._step, self._since_s = step, time.monotonic()
        self._say(Event(step, StepMark.RUNNING))

    def _good(self, finding: str) -> None:
        self._say(Event(self._step, StepMark.GOOD, finding, self._took()))

    def _bad(self, error: NailerError, diagnosis: Diagnosis | None) -> None:
        self._say(Event(self._step, StepMark.BAD, error.what, self._took(), error, diagnosis))

    def _took(self) -> int:
        return round((time.monotonic() - self._since_s) * 1000)

    def _say(self, event: Event) -> None:
        self._tell(event)


class _Ended(Exception):
    """Ends a trial whose reason was told already."""


_STEPS_OF: tuple[tuple[type[TransferError], TrialStep], ...] = (
    (IdentityUnknown, TrialStep.IDENTITY),
    (IdentityChanged, TrialStep.IDENTITY),
    (EncryptionMissing, TrialStep.ENCRYPTION),
    (WeakServer, TrialStep.ENCRYPTION),
    (LoginRefused, TrialStep.SIGN_IN),
    (AnswerNeeded, TrialStep.SIGN_IN),
    (TooManyConnections, TrialStep.SIGN_IN),
    (NotSupported, TrialStep.SIGN_IN),
)


def _step_of(error: TransferError, now: TrialStep) -> TrialStep:
    """The step a failure belongs to, where the error itself says so; else the one under way."""
    if isinstance(error, HostUnreachable):
        return TrialStep.NAME if error.why is Unreached.NO_NAME else TrialStep.PORT if now is TrialStep.NAME else now
    if isinstance(error, ProtocolViolation | ConnectionDropped) and now is TrialStep.ENCRYPTION:
        return TrialStep.PORT  # whoever answers there did not even greet as it should
    return next((step for kind, step in _STEPS_OF if isinstance(error, kind)), now)


def _is_utf8(name: bytes) -> bool:
    try:
        name.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


def _offset_words(offset_s: int) -> str:
    if not offset_s:
        return "agrees with UTC"
    hours, rest = divmod(abs(offset_s), 3600)
    shown = f"{hours} h" + (f" {rest // 60} min" if rest else "")
    return f"the server clock is {shown} {'ahead of' if offset_s > 0 else 'behind'} UTC; Nailer corrects for this"
