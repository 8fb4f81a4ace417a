"""What of a site needs somebody: one line for each thing, the most urgent first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import IntEnum, StrEnum

from nailer.core.site.address import Wrong

_NEW_FOR = timedelta(days=30)
_IDLE_AFTER = timedelta(days=120)


class Urgency(IntEnum):
    """How soon somebody should look. `STOPPED`: nothing goes to the site or comes from it until somebody decides."""

    WELL = 0
    NOTE = 1
    WARN = 2
    STOPPED = 3


class NeedKind(StrEnum):
    IDENTITY = "identity"
    TIMER = "timer"
    CERTIFICATE = "certificate"
    FINDINGS = "findings"
    NOT_SENT = "not-sent"
    ASIDE = "aside"
    NEW = "new"
    NEVER_SCANNED = "never-scanned"
    UNENCRYPTED = "unencrypted"
    IDLE = "idle"


@dataclass(frozen=True, slots=True)
class SiteNeed:
    """One thing. `count` of what, `serious` of them; `name` of a timer or a package; `at` since when or when it was."""

    kind: NeedKind
    urgency: Urgency
    count: int = 0
    serious: int = 0
    name: str = ""
    at: datetime | None = None


@dataclass(frozen=True, slots=True)
class FailedTimer:
    """A timer whose last run did not do all it was to do. `asked`: it touched nothing, because a person must decide."""

    id: int
    name: str
    at: datetime
    asked: bool = False


@dataclass(frozen=True, slots=True)
class FirstSteps:
    """What is advised for a new site. None: nobody looked, so it is not said to be open."""

    fetched: bool | None
    scanned: bool
    tested: bool
    copied: bool

    @property
    def open(self) -> int:
        """How many are known to be left."""
        return [self.fetched, self.scanned, self.tested, self.copied].count(False)


@dataclass(frozen=True, slots=True)
class SiteFacts:
    """What is known of a site. `certificate` is what is wrong with it, in the words of `Wrong`. `sees_all`: whoever looks
    sees the whole site; of a part neither scans nor copies are told."""

    added_at: datetime
    opened_at: datetime | None
    is_encrypted: bool
    identity_changed: bool
    sees_all: bool
    not_sent: int = 0
    serious: int = 0
    findings: int = 0
    certificate: str = ""
    scanned_at: datetime | None = None
    asides: tuple[str, ...] = ()
    failed_timers: tuple[FailedTimer, ...] = ()
    steps: FirstSteps | None = None


def needs_of(facts: SiteFacts, now: datetime) -> tuple[SiteNeed, ...]:
    """What needs somebody, the most urgent first."""
    found = _connecting(facts)
    if facts.sees_all:
        found += [
            *_of_timers(facts),
            *_of_scan(facts),
            *(SiteNeed(NeedKind.ASIDE, Urgency.WARN, name=one) for one in facts.asides),
        ]
    if facts.not_sent:
        found.append(SiteNeed(NeedKind.NOT_SENT, Urgency.NOTE, facts.not_sent))
    if facts.sees_all:
        found += _of_age(facts, now)
    return tuple(sorted(found, key=lambda one: -one.urgency))


def is_new(facts: SiteFacts, now: datetime) -> bool:
    """True for a site that was added lately and has first steps left."""
    return facts.steps is not None and facts.steps.open > 0 and now - facts.added_at < _NEW_FOR


def urgency_of(needs: Sequence[SiteNeed]) -> Urgency:
    """That of the most urgent."""
    return max((one.urgency for one in needs), default=Urgency.WELL)


def _connecting(facts: SiteFacts) -> list[SiteNeed]:
    if facts.identity_changed:
        return [SiteNeed(NeedKind.IDENTITY, Urgency.STOPPED)]
    return [] if facts.is_encrypted else [SiteNeed(NeedKind.UNENCRYPTED, Urgency.NOTE)]


def _of_timers(facts: SiteFacts) -> list[SiteNeed]:
    return [
        SiteNeed(NeedKind.TIMER, Urgency.WARN, one.id, int(not one.asked), one.name, one.at)
        for one in facts.failed_timers
    ]


def _of_scan(facts: SiteFacts) -> list[SiteNeed]:
    found = []
    if facts.certificate:
        over = facts.certificate == Wrong.CERTIFICATE_OVER
        found.append(SiteNeed(NeedKind.CERTIFICATE, Urgency.WARN, serious=int(over), name=facts.certificate))
    if facts.findings:
        urgency = Urgency.WARN if facts.serious else Urgency.NOTE
        found.append(SiteNeed(NeedKind.FINDINGS, urgency, facts.findings, facts.serious, at=facts.scanned_at))
    return found


def _of_age(facts: SiteFacts, now: datetime) -> list[SiteNeed]:
    if is_new(facts, now):
        assert facts.steps is not None
        return [SiteNeed(NeedKind.NEW, Urgency.NOTE, facts.steps.open)]
    found = []
    if facts.scanned_at is None:
        found.append(SiteNeed(NeedKind.NEVER_SCANNED, Urgency.NOTE))
    last = facts.opened_at or facts.added_at
    if now - last > _IDLE_AFTER:
        found.append(SiteNeed(NeedKind.IDLE, Urgency.NOTE, at=facts.opened_at))
    return found
