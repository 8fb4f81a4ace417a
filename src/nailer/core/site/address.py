"""The ways in to a site: four addresses, each step of their redirects, certificates, and where the name leads."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from urllib.parse import urlsplit

from nailer.core.files.sitepath import SitePath
from nailer.core.words import count_text

# Name servers of whoever sells or holds names say so in their own.
_PARKS = re.compile(r"(?:^|[.-])(?:park(?:ed|ing)?|expired|suspended|for-?sale)(?:[.-]|\d|$)", re.I)
_SOON_DAYS = 21  # certificates of ninety days are renewed a month before their end: later than that nobody did


@dataclass(frozen=True, slots=True)
class Step:
    """One answer on the way: the address that was asked, its status (None: none came, and `words` says why), and where it
    leads on."""

    address: str
    status: int | None
    moved_to: str = ""
    words: str = ""


@dataclass(frozen=True, slots=True)
class WayIn:
    """One of the four ways in, with every step to where it ends. `digest` is a hash of what is there, `hosts_own` the words
    by which it is known as the host's own page ('' where it is none)."""

    address: str
    steps: tuple[Step, ...]
    digest: bytes = b""
    hosts_own: str = ""

    @property
    def end(self) -> str:
        """Where it ends; '' where it ends nowhere."""
        last = self.steps[-1]
        return last.address if last.status is not None and not last.moved_to else ""

    @property
    def words(self) -> str:
        """The way in a line: `301 to https://…, 200`."""
        parts = []
        for step in self.steps:
            if step.status is None:
                parts.append(step.words)
            else:
                parts.append(f"{step.status} to {step.moved_to}" if step.moved_to else str(step.status))
        return ", ".join(parts)


@dataclass(frozen=True, slots=True)
class SeenCertificate:
    """A certificate as a server showed it for a name. `words` says why there is none to see."""

    host: str
    names: tuple[str, ...] = ()
    ends_at: datetime | None = None
    issuer: str = ""
    words: str = ""

    def covers(self, host: str) -> bool:
        """True where the certificate is for a name (RFC 6125, 6.4.3: a star stands for one label, the first)."""
        host = host.lower()
        return any(
            name.lower() == host or (name.startswith("*.") and host.partition(".")[2] == name[2:].lower() != "")
            for name in self.names
        )


class LeadsTo(StrEnum):
    """Where a site's name leads."""

    HERE = "to this server"
    ELSEWHERE = "to another server"
    PROXY = "to a proxy that hides the server"
    PARKED = "to where names are parked"
    NOTHING = "to nothing yet"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class NameLeads:
    """What the resolver said of a name: addresses of both kinds, its name servers, and what that means."""

    host: str
    leads: LeadsTo
    addresses: tuple[str, ...] = ()
    servers: tuple[str, ...] = ()
    words: str = ""


class Wrong(StrEnum):
    """What is wrong with the ways in. The values begin the keys of stored findings."""

    LEADS_NOWHERE = "the name leads nowhere"
    PARKED = "the name is parked"
    LEADS_ELSEWHERE = "the name leads elsewhere"
    BROKEN = "a way answers with an error of the server"
    SILENT = "a way does not answer"
    APART = "the ways do not end at one place"
    INSECURE = "http answers by itself"
    ROUND = "a way leads in a circle"
    ANOTHER_PAGE = "one place, two contents"
    CERTIFICATE_OVER = "the certificate is over"
    CERTIFICATE_SOON = "the certificate ends soon"
    CERTIFICATE_NAME = "the certificate is for another name"


@dataclass(frozen=True, slots=True)
class WrongWay:
    """One thing that is wrong, with the address it is about and a sentence."""

    wrong: Wrong
    about: str
    sentence: str


def ways_in(address: str) -> tuple[str, ...]:
    """The four addresses by which people come: with and without https, with and without www.

    >>> ways_in("https://www.skerry.example/")[:2]
    ('http://skerry.example/', 'http://www.skerry.example/')
    >>> ways_in("https://stage.skerry.example:8443/x/")
    ('http://stage.skerry.example/x/', 'https://stage.skerry.example:8443/x/')
    """
    parts = urlsplit(address)
    host, path = (parts.hostname or ""), parts.path or "/"
    bare = host.removeprefix("www.")
    port = f":{parts.port}" if parts.port and parts.port not in (80, 443) else ""
    # A name with three parts or more is a place of its own: nobody types www before it.
    hosts = (bare, f"www.{bare}") if bare.count(".") == 1 or host.startswith("www.") else (bare,)
    plain = [f"http://{one}{path}" for one in hosts]
    return (*plain, *(f"https://{one}{port}{path}" for one in hosts))


def wrong_ways(
    ways: Sequence[WayIn], certificates: Sequence[SeenCertificate], leads: NameLeads, now: datetime
) -> list[WrongWay]:
    """What visitors notice of the ways in, the worst first. Of a name without an address, by which nothing answers, only
    that is said."""
    if leads.leads is LeadsTo.NOTHING and not any(way.end for way in ways):
        return [
            WrongWay(
                Wrong.LEADS_NOWHERE,
                leads.host,
                f"{leads.host} has no DNS address yet, so visitors cannot reach the site.",
            )
        ]
    # One certificate for several hosts is said once where it ends.
    ends = {(seen.names, seen.ends_at): seen for seen in reversed(certificates)}
    elsewhere = (
        f"{leads.host} points to another server ({', '.join(leads.addresses[:3])}) that does not show this site."
    )
    found = [
        *([WrongWay(Wrong.PARKED, leads.host, leads.words)] if leads.leads is LeadsTo.PARKED else []),
        *([WrongWay(Wrong.LEADS_ELSEWHERE, leads.host, elsewhere)] if leads.leads is LeadsTo.ELSEWHERE else []),
        *_of_steps(ways),
        *(one for seen in ends.values() for one in _of_end(seen, now)),
        *(one for seen in certificates for one in _of_names(seen)),
    ]
    order = list(Wrong)
    return sorted(found, key=lambda one: order.index(one.wrong))


def _of_steps(ways: Sequence[WayIn]) -> list[WrongWay]:
    found = []
    ends = [way.end for way in ways if way.end]
    usual = max(set(ends), key=lambda end: (ends.count(end), end.startswith("https:"))) if ends else ""
    for way in ways:
        last = way.steps[-1]
        if last.status is None:
            found.append(WrongWay(Wrong.SILENT, way.address, f"{way.address} does not answer: {last.words}."))
        elif last.moved_to:
            found.append(WrongWay(Wrong.ROUND, way.address, f"{way.address} redirects in a loop: {way.words}."))
        elif last.status >= 500:
            found.append(WrongWay(Wrong.BROKEN, way.address, f"{way.address} returns status {last.status}."))
        elif way.end == usual:
            continue
        elif way.end.startswith("http:") and usual.startswith("https:") and _same_place(way.end, usual):
            sentence = f"{way.address} does not redirect to https; {_others(len(ways) - 1)}."
            found.append(WrongWay(Wrong.INSECURE, way.address, sentence))
        else:
            sentence = f"{way.address} redirects to {way.end}, the others to {usual}."
            found.append(WrongWay(Wrong.APART, way.address, sentence))
    at_one = {way.digest for way in ways if way.end and way.digest}
    if len(at_one) > 1 and not found:
        found.append(
            WrongWay(
                Wrong.ANOTHER_PAGE,
                usual,
                "All addresses redirect to the same place, but visitors get different pages there.",
            )
        )
    return found


def _others(count: int) -> str:
    return f"the other {count} are correct" if count > 1 else "the other one is encrypted"


def _same_place(one: str, other: str) -> bool:
    return one.partition("://")[2].removeprefix("www.") == other.partition("://")[2].removeprefix("www.")


def _of_names(seen: SeenCertificate) -> list[WrongWay]:
    if seen.ends_at is None or seen.covers(seen.host):
        return []
    names = ", ".join(seen.names[:4]) or "no name"
    sentence = f"At {seen.host} the certificate is for {names}: browsers show a warning instead of the page."
    return [WrongWay(Wrong.CERTIFICATE_NAME, seen.host, sentence)]


def _of_end(seen: SeenCertificate, now: datetime) -> list[WrongWay]:
    if seen.ends_at is None:
        return []
    left = (seen.ends_at - now).days
    day = f"{seen.ends_at.day} {seen.ends_at:%B %Y}"
    found = []
    if seen.ends_at <= now:
        found.append(WrongWay(Wrong.CERTIFICATE_OVER, seen.host, f"The certificate of {seen.host} expired on {day}."))
    elif left < _SOON_DAYS:
        sentence = (
            f"The certificate of {seen.host} expires in {count_text(left, 'day')}, on {day}, and has not been renewed."
        )
        found.append(WrongWay(Wrong.CERTIFICATE_SOON, seen.host, sentence))
    return found


def where_it_leads(
    host: str,
    addresses: Sequence[str],
    servers: Sequence[str],
    server_addresses: Sequence[str],
    *,
    serves_this: bool | None,
) -> NameLeads:
    """What a name's addresses mean beside those of the account's own server. `serves_this`: what is fetched there is known
    to be this site's content; None: not known.

    >>> where_it_leads("a.example", ["192.0.2.7"], [], ["192.0.2.7"], serves_this=None).leads
    <LeadsTo.HERE: 'to this server'>
    >>> where_it_leads("a.example", ["203.0.113.9"], [], ["192.0.2.7"], serves_this=True).leads
    <LeadsTo.PROXY: 'to a proxy that hides the server'>
    >>> where_it_leads("a.example", ["203.0.113.9"], ["ns1.parking.example"], ["192.0.2.7"], serves_this=None).leads
    <LeadsTo.PARKED: 'to where names are parked'>
    """
    known = (host, tuple(addresses), tuple(servers))
    if not addresses:
        return NameLeads(host, LeadsTo.NOTHING, (), known[2], "The name has no address yet.")
    if set(addresses) & set(server_addresses):
        return NameLeads(host, LeadsTo.HERE, known[1], known[2], "The name leads to the account's own server.")
    parking = [one for one in servers if _PARKS.search(one)]
    if parking and not serves_this:
        words = f"The domain is parked: its name server {parking[0]} sends all visitors to a placeholder page."
        return NameLeads(host, LeadsTo.PARKED, known[1], known[2], words)
    if serves_this:
        return NameLeads(
            host,
            LeadsTo.PROXY,
            known[1],
            known[2],
            "Another machine answers with this site's content: a proxy or a cache.",
        )
    if serves_this is None or not server_addresses:
        return NameLeads(
            host,
            LeadsTo.UNKNOWN,
            known[1],
            known[2],
            "The domain points to a different server than the one you upload to.",
        )
    return NameLeads(
        host, LeadsTo.ELSEWHERE, known[1], known[2], "Another server answers, and it does not show this site."
    )


def proved(status: int | None, body: bytes, contents: Mapping[bytes, SitePath]) -> SitePath | None:
    """The folder whose file an address gave back, by its content; None for none of them.

    >>> proved(200, b"t-1\\n", {b"t-0": SitePath((b"a",)), b"t-1": SitePath((b"b",))})
    SitePath(names=(b'b',))
    >>> proved(404, b"t-1", {b"t-1": SitePath((b"b",))})
    """
    return contents.get(body.strip()) if status == 200 else None
