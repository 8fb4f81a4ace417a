"""Lays out the demo: the studio's folders here, the hosts' folders there, and what Nailer knows about them."""

from __future__ import annotations

import hashlib
import io
import os
import random
import time
import zipfile
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import asyncssh

from nailer.app import Nailer
from nailer.core.compare.joint import Compare
from nailer.core.connecting.protocol import Protocol
from nailer.core.files.entry import NS, Entry, Kind, Stamp
from nailer.core.files.kinds import FileKind
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.jobs.schedule import Every, Schedule
from nailer.core.jobs.timers import Clashes, Mail, Missed
from nailer.core.pairs.wishes import Direction, Removals, SyncWish
from nailer.core.people.rights import Grant, Right
from nailer.core.plans.sieve import CountedAs, Match, RuleGroup, Sieve, Test
from nailer.ending import check
from nailer.sides.identities.certificate import identity_of_pem
from nailer.sides.identities.identity import host_key
from nailer.standins.certificates import make_certificate
from nailer.standins.demo import content
from nailer.standins.demo.pictures import photograph, png
from nailer.store.changes import baseline_row
from nailer.store.database import utc_now
from nailer.store.sites import Secrets, Site
from nailer.store.timers import NewTimer

PERSON = "maren"
PASSWORD = "gorse-and-gannet"
COLLEAGUE, COLLEAGUES_PASSWORD = "tam", "kelp-and-kittiwake"
CLERK, CLERKS_PASSWORD = "orla", "harbour-gate-seven"
INVITATION = "come-aboard-the-studio"
TOKEN = "nailer_publish-the-ferries-each-night"
_DAY_S = 86_400
_PAIR = (SitePath((b"studio", b"skerry", b"htdocs")), SitePath((b"htdocs",)))


VERSION = "7"  # counted up where a demo that was laid out before lacks something
_MIB = 1024 * 1024
_QUOTA_BYTES = 24 * _MIB
_CLOCK_AHEAD_S = 2 * 3600
_OLD_COMMANDS = ("MLSD", "MLST", "MFMT", "FEAT", "OPTS", "SITE CHMOD", "EPSV", "EPRT")
ONE_TIME_SECRET = "MFRGGZDFMZTWQ2LK"


@dataclass(frozen=True, slots=True)
class Host:
    """A stand-in of the demo: where its files lie, who signs in, where its pages answer, and its manners.

    `certificate` are the names of its certificate, `aliases` other names that lead to it."""

    name: str
    server: str
    user: str
    password: str
    about: str
    speaks: str = "sftp"
    document_root: str = "htdocs"
    domain: str = ""
    web_address: str = ""
    certificate: tuple[str, ...] = ()
    aliases: tuple[str, ...] = ()
    web_cache_s: int = 0
    answers_plainly: bool = False
    certificate_days: int = 0
    name_leads: str = ""
    manners: dict[str, Any] = field(default_factory=dict)

    @property
    def port(self) -> int:
        if self.speaks == "sftp":
            return 22
        return 990 if self.manners.get("tls") == "implicit" else 21


HOSTS = (
    Host(
        "skerry",
        "ftp.skerryferries.example",
        "maren",
        "tide-table-61",
        "SFTP, password and key; `www` is a link to `htdocs`",
        domain="skerryferries.example",
        web_cache_s=90,
        answers_plainly=True,
        certificate_days=9,
        manners={"shell": True},
        web_address="127.0.0.31",
    ),
    Host(
        "staging",
        "stage.skerryferries.example",
        "stage",
        "low-water-12",
        "SFTP by key; the second server of a pair between two sites",
        domain="stage.skerryferries.example",
        web_address="127.0.0.32",
        certificate_days=75,
    ),
    Host(
        "gorse",
        "gorsegannet.example",
        "studio",
        "two-gannets-7",
        "SFTP; its host key has changed since the first connection",
        document_root="srv/web",
        domain="gorsegannet.example",
        web_address="127.0.0.33",
        certificate_days=61,
    ),
    Host(
        "northlight",
        "hosting.northlight.example",
        "northlight",
        "plate-scan-88",
        "FTP with explicit TLS; data connections must resume the TLS session; the storage quota is nearly full",
        speaks="ftp",
        document_root="public",
        domain="northlight.example",
        web_address="127.0.0.34",
        certificate=("hosting.northlight.example",),
        aliases=("ftp.northlight.example",),
        name_leads="203.0.113.80",
        manners={"tls": "explicit", "demands_reuse": True, "quota_bytes": _QUOTA_BYTES},
    ),
    Host(
        "moss",
        "ftp.mosslane.example",
        "seedlib",
        "sow-and-reap-4",
        "plain FTP, LIST only, names in Latin-1, a clock two hours ahead, a private address in its PASV reply",
        speaks="ftp",
        document_root="www",
        domain="mosslane.example",
        web_address="127.0.0.35",
        manners={
            "lacks": list(_OLD_COMMANDS),
            "clock_ahead_s": _CLOCK_AHEAD_S,
            "passive_address": "10.4.5.6",
            "most_lines": 3,
        },
    ),
    Host(
        "otter",
        "ssh.otterhost.example",
        "otter",
        "holt-by-the-burn",
        f"SFTP that asks for the password, then for a one-time code (secret {ONE_TIME_SECRET})",
        manners={"one_time_secret": ONE_TIME_SECRET},
    ),
    Host(
        "puffin",
        "ssh.puffinhost.example",
        "puffin",
        "burrow-and-bill",
        "SFTP with a question of its own (answer: Umber) and only old ciphers",
        manners={
            "question": ["Name of the harbour seal: ", "Umber"],
            "algorithms": {"encryption_algs": ["aes128-cbc"]},
        },
    ),
    Host(
        "wrack",
        "ftp.wrackline.example",
        "wrack",
        "low-tide-3",
        "FTP with implicit TLS; the first attempt is refused; its certificate has expired",
        speaks="ftp",
        document_root="web",
        certificate=("ftp.wrackline.example",),
        manners={"tls": "implicit", "refuses_first": 1},
    ),
)


def lay_out(home: Path) -> None:
    """Make every folder and file of the demo below `home`, with the times and modes they should have."""
    now_s = int(time.time())
    for host in HOSTS:
        check()
        root = home / "hosts" / host.name
        (root / host.document_root).mkdir(parents=True)
        if host.speaks == "sftp":
            key = asyncssh.generate_private_key("ssh-ed25519")
            key.write_private_key(os.fspath(home / "hosts" / f"{host.name}.key"))
        if host.certificate:
            days = -20 if host.name == "wrack" else 300
            make_certificate(home / "hosts" / f"{host.name}.pem", *host.certificate, days=days)
        if host.certificate_days:
            file = home / "hosts" / f"{host.name}-web.pem"
            make_certificate(file, host.domain, f"www.{host.domain}", days=host.certificate_days)
        if not host.domain:
            _write(
                root / host.document_root / "index.html", content.page(host.server, "<p>Soon.</p>"), now_s - 9 * _DAY_S
            )
    personal = asyncssh.generate_private_key("ssh-ed25519", comment="maren at the studio")
    personal.write_private_key(os.fspath(home / "hosts" / "personal.key"))
    for part in (_lay_out_skerry, _lay_out_small, _lay_out_northlight, _lay_out_moss):
        check()
        part(home, now_s)
    for name, text in content.letters().items():
        _write(home / "here" / "letters" / name, text, now_s - _DAY_S)


def _lay_out_northlight(home: Path, now_s: int) -> None:
    """Plate scans that fill the account to 96 %, and source files that nobody should publish."""
    here, there = home / "here" / "northlight", home / "hosts" / "northlight" / "public"
    noise = random.Random(88)
    for name, data in content.observatory_pages().items():
        for root in (here, there):
            _write(root / name, data, now_s - 30 * _DAY_S)
    for number in range(1, 6):
        plate = b"II*\0" + noise.randbytes(int(4.4 * _MIB))
        _write(there / "plates" / f"plate-19{60 + number}.tif", plate, now_s - (40 + number) * _DAY_S)
    _write(there / "plates" / "catalogue.psd", noise.randbytes(_MIB), now_s - 80 * _DAY_S)
    _write(there.parent / "public_html" / "index.html", content.hosts_own_page(), now_s - 900 * _DAY_S)
    _write(there / ".env", b"DB_PASSWORD=made-up\n", now_s - 80 * _DAY_S)
    _write(here / "plates" / "plate-1966.tif", b"II*\0" + noise.randbytes(3 * _MIB), now_s - 3600)
    _write(here / "index.html", content.observatory_pages()["index.html"].replace(b"five", b"six"), now_s - 3000)


def _lay_out_moss(home: Path, now_s: int) -> None:
    """Names in Latin-1 there, in UTF-8 here; two files newer there."""
    here, there = home / "here" / "mosslane", home / "hosts" / "moss" / "www"
    old_s = now_s // 60 * 60 - 20 * _DAY_S
    for name, data in content.seed_pages().items():
        _write(here / name, data, old_s)
        _write(there / os.fsdecode(name.encode("latin-1")), data, old_s)
    for name in ("index.html", "öffnungszeiten.html"):
        data = content.seed_pages()[name].replace(b"</main>", b"<p>Closed on the first Monday.</p></main>")
        _write(there / os.fsdecode(name.encode("latin-1")), data, now_s // 60 * 60 - 2 * _DAY_S)


def _lay_out_skerry(home: Path, now_s: int) -> None:
    here, there = home / "here" / "skerry" / "htdocs", home / "hosts" / "skerry" / "htdocs"
    level_s = now_s - 20 * _DAY_S
    for name, data in content.level_files().items():
        mode = 0o755 if name.endswith(".cgi") else 0o644
        for root in (here, there):
            _write(root / name, data, level_s - len(name) * 3600, mode)
    hour = 3600
    _write(here / "index.html", content.start_page(winter=True), now_s - 2 * hour)
    _write(there / "index.html", content.start_page(winter=False), now_s - 11 * _DAY_S)
    _write(here / "fares.html", content.fares(6, "From the first of the month."), now_s - 3 * hour)
    _write(
        there / "fares.html",
        content.fares(7, "Corrected by the harbour office, with the bicycle fare."),
        now_s - 5 * hour,
    )
    _write(here / "winter-sailings.html", content.winter_page(), now_s - 2 * hour - 700)
    _write(here / "data" / "sailings.json", content.sailings(40), now_s - 2 * hour - 900)
    _write(there / "data" / "sailings.json", content.sailings(37), now_s - 11 * _DAY_S)
    _write(here / "site.css", content.style(version=1), level_s)
    _write(there / "site.css", content.style(version=2), now_s - 5 * _DAY_S)
    _write(
        there / "placeholder.html", b"<!doctype html><title>Soon</title><p>Soon a ferry.</p>\n", now_s - 300 * _DAY_S
    )
    _write(there / "old-site.zip", _old_site(), now_s - 300 * _DAY_S, 0o666)
    _write(there / os.fsdecode(b"men\xfc-bistro.txt"), b"Soup, bread, coffee.\n", now_s - 290 * _DAY_S)
    for name, data in list(content.skin("1.3.0").items())[:12]:
        _write(there / "skins" / "harbour.bak" / name, data, now_s - 200 * _DAY_S)
    _lay_out_skin(here, there, now_s)
    _lay_out_crew(here, there, now_s)
    _lay_out_tides(here, there, now_s)
    _lay_out_board(here, there, now_s)
    drafts = here / "img" / "_drafts"
    _write(drafts / "winter-poster.psd", b"8BPS\0\1" + bytes(1_400_000), now_s - 30 * _DAY_S)
    _write(here / "img" / "pier-master.tif", b"II*\0" + bytes(9_100_000), now_s - 30 * _DAY_S)
    host = home / "hosts" / "skerry"
    (host / "www").symlink_to("htdocs")
    _write(host / "logs" / "access.log", b"".join(_log_lines()), now_s - 600)
    _write(host / "logs" / "error.log", content.error_log(), now_s - 3 * _DAY_S)
    _write(host / "mail" / "office" / "inbox", b"From the pier\n", now_s - 900, 0o600)
    for root in (here, there):
        _set_folder_times(root, now_s - 12 * _DAY_S)


def _lay_out_skin(here: Path, there: Path, now_s: int) -> None:
    """The skin was edited by hand there; beside the site's folder here lie the version it has, and a newer one."""
    for name, data in content.edited_skin().items():
        _write(there / "skins" / "harbour" / name, data, now_s - 15 * _DAY_S)
    for version in ("1.4.2", "1.5.0"):
        archive = content.packed(content.skin(version), f"harbour-{version}")
        _write(here.parent / "deliveries" / f"harbour-{version}.zip", archive, now_s - 2 * _DAY_S)


def _lay_out_crew(here: Path, there: Path, now_s: int) -> None:
    """A page whose pictures are partly missing, in another writing, and far larger than shown; a rival first page."""
    at_s = now_s - 6 * _DAY_S
    for root in (here, there):
        _write(root / "crew" / "index.html", content.crew_page(), at_s)
        _write(root / "crew" / "harbour-wide.jpg", photograph(2400, 1500, 5, places=True), at_s)
    _write(here / "crew" / "deck.png", png(640, 400, 11), at_s)
    _write(here / "crew" / "Crew.jpg", photograph(800, 500, 9), at_s)
    _write(there / "crew" / "crew.jpg", photograph(800, 500, 9), at_s)
    _write(there / "crew" / "harbour-wide-copy.jpg", photograph(2400, 1500, 5, places=True), at_s)
    _write(there / "news" / "index.htm", content.hosts_own_page(), now_s - 300 * _DAY_S)
    _write(there / "news" / ".htaccess", b"DirectoryIndex index.htm index.html\n", now_s - 300 * _DAY_S)


def _lay_out_tides(here: Path, there: Path, now_s: int) -> None:
    """A script that fails there: somebody sent it without the table that it reads."""
    for root in (here, there):
        _write(root / "cgi-bin" / "tide-times.cgi", content.tide_script(), now_s - 2400, 0o755)
    _write(here / "cgi-bin" / "tide-table.sh", content.tide_table(), now_s - 2400)


def _lay_out_board(here: Path, there: Path, now_s: int) -> None:
    """A page of add-ons, one of which breaks it; here one of them is newer."""
    for root in (here, there):
        _write(root / "cgi-bin" / "board.cgi", content.board_script(), now_s - 60 * _DAY_S, 0o755)
        for name, data in content.addons().items():
            _write(root / "add-ons" / name, data, now_s - 60 * _DAY_S)
    newer = content.addons()["postcards/addon.json"].replace(b"0.8.2", b"0.10")
    _write(here / "add-ons" / "postcards" / "addon.json", newer, now_s - 2000)


def _lay_out_small(home: Path, now_s: int) -> None:
    """The staging copy, nearly level with the studio's folder, and the studio's own site."""
    for name, data in content.level_files().items():
        if not name.startswith("skins/"):
            for root in (home / "here" / "skerry-stage", home / "hosts" / "staging" / "htdocs"):
                _write(root / name, data, now_s - 9 * _DAY_S)
    _write(home / "here" / "skerry-stage" / "index.html", content.start_page(winter=True), now_s - 2 * 3600)
    own = content.page("Gorse & Gannet", "<p>Two people, one kettle, and websites that stay up.</p>")
    for root in (home / "here" / "gorse", home / "hosts" / "gorse" / "srv" / "web"):
        _write(root / "index.html", own, now_s - 40 * _DAY_S)
        _write(root / "site.css", content.style(version=1), now_s - 40 * _DAY_S)


def standin_plan(home: Path) -> dict[str, Any]:
    """What the stand-ins' process needs to know."""
    personal = asyncssh.read_private_key(os.fspath(home / "hosts" / "personal.key"))
    authorized = personal.export_public_key("openssh").decode()
    letters = sorted(os.fspath(file) for file in (home / "here" / "letters").iterdir())
    hosts = {host.name: _planned(host, home, authorized) for host in HOSTS}
    return {"hosts": hosts, "proxy": {}, "mail": {}, "desk": {"letters": letters}, "names": {"table": _names()}}


def _names() -> dict[str, dict[str, list[str]]]:
    """What the made-up names lead to: most to their host's own server, one to another machine."""
    table: dict[str, dict[str, list[str]]] = {}
    for number, host in enumerate(HOSTS):
        own = f"192.0.2.{31 + number}"
        table[host.server] = {"A": [own]}
        if host.domain:
            leads = {"A": [host.name_leads or own], "NS": ["ns1.saltwind.example.", "ns2.saltwind.example."]}
            table[host.domain] = table[f"www.{host.domain}"] = leads
    return table


def _planned(host: Host, home: Path, authorized: str) -> dict[str, Any]:
    planned: dict[str, Any] = {
        "kind": host.speaks,
        "server": host.server,
        "sign_in": f"{host.user} / {host.password}",
        "about": host.about,
        "root": os.fspath(home / "hosts" / host.name),
        "user": host.user,
        "password": host.password,
        "manners": host.manners,
    }
    if host.speaks == "sftp":
        planned |= {"authorized_key": authorized, "host_key": os.fspath(home / "hosts" / f"{host.name}.key")}
    if host.certificate:
        planned["certificate"] = os.fspath(home / "hosts" / f"{host.name}.pem")
    if host.web_address:
        planned |= {"web_address": host.web_address, "web_root": host.document_root, "web_cache_s": host.web_cache_s}
        if host.certificate_days:
            planned["web_certificate"] = os.fspath(home / "hosts" / f"{host.name}-web.pem")
    return planned


def routes(ports: dict[str, dict[str, int]]) -> dict[str, str]:
    """Where the made-up names lead on this machine. Ports that a host does not serve are closed, not unknown."""
    found = {}
    for number, host in enumerate(HOSTS):
        own = ports[host.name]
        for name in (host.server, *host.aliases):
            found[f"{name}:*"] = f"127.0.0.{31 + number}"
            found[f"{name}:{host.port}"] = f"127.0.0.1:{own['files']}"
        if host.domain:
            plain = own["web" if host.answers_plainly else "plain"]
            for name in (host.domain, f"www.{host.domain}"):
                found[f"{name}:443"] = f"{host.web_address}:{own['web']}"
                found[f"{name}:80"] = f"{host.web_address}:{plain}"
                if "tls" in own:
                    found[f"{name}:tls"] = f"{host.web_address}:{own['tls']}"
                found.setdefault(f"{name}:*", host.web_address)
    for name, port in (("socks.gorsegannet.example", 1080), ("proxy.gorsegannet.example", 3128)):
        found[f"{name}:{port}"] = f"127.0.0.1:{ports['proxy']['files']}"
    return found


async def remember(nailer: Nailer, home: Path) -> None:
    """Fill the store: the account, the sites in their groups, the identities that were met, and the baseline."""
    await nailer.people.accounts.make(PERSON, PASSWORD, is_admin=True)
    clients = await nailer.stores.sites.add_group("Island clients", position=0)
    staging = await nailer.stores.sites.add_group("Staging", clients, position=0)
    own = await nailer.stores.sites.add_group("Own", position=1)
    key_text = (home / "hosts" / "personal.key").read_text()
    hosts = {host.name: host for host in HOSTS}
    skerry = await nailer.stores.sites.add(
        _site(hosts["skerry"], "Skerry Ferries", "studio/skerry/htdocs", clients, "blue", guarded=("/logs", "/mail")),
        Secrets(password=hosts["skerry"].password, private_key=key_text),
    )
    northlight = replace(
        _site(hosts["northlight"], "Northlight Observatory", "studio/northlight", clients, "violet"),
        protocol=Protocol.FTP_TLS,
    )
    await nailer.stores.sites.add(northlight, Secrets(password=hosts["northlight"].password))
    moss = replace(
        _site(hosts["moss"], "Moss Lane Seed Library", "studio/mosslane", clients, "green"),
        protocol=Protocol.FTP,
        charset="iso-8859-1",
    )
    await nailer.stores.sites.add(moss, Secrets(password=hosts["moss"].password))
    stage = await nailer.stores.sites.add(
        _site(hosts["staging"], "Skerry Ferries, staging", "studio/skerry-stage", staging, "slate"),
        Secrets(private_key=key_text),
    )
    await nailer.stores.sites.add(
        _site(hosts["gorse"], "Gorse & Gannet", "studio/gorse", own, "rust"), Secrets(password=hosts["gorse"].password)
    )
    for name in ("skerry", "staging"):
        known = host_key(asyncssh.read_private_key(os.fspath(home / "hosts" / f"{name}.key")).convert_to_public())
        await nailer.stores.identities.pin(hosts[name].server, 22, known, trusted_by=None, how="fingerprint compared")
    former = host_key(asyncssh.generate_private_key("ssh-ed25519").convert_to_public())
    await nailer.stores.identities.pin(
        hosts["gorse"].server, 22, former, trusted_by=None, how="accepted when it was shown"
    )
    pem = (home / "hosts" / "northlight.pem").read_text().partition("-----END PRIVATE KEY-----\n")[2]
    await nailer.stores.identities.pin(
        hosts["northlight"].server, 21, identity_of_pem(pem), trusted_by=None, how="fingerprint compared"
    )
    await nailer.stores.changes.write_baselines(list(_baseline(skerry.id, home)))
    await _remember_pairs(nailer, skerry, stage)
    await _remember_people(nailer, skerry, stage)


async def _remember_people(nailer: Nailer, skerry: Site, stage: Site) -> None:
    """A colleague with two sites, a clerk of the ferries with their news, an open invitation, and a program's token."""
    accounts, grants = nailer.people.accounts, nailer.stores.grants
    tam = await accounts.make(COLLEAGUE, COLLEAGUES_PASSWORD)
    for site in (skerry, stage):
        await grants.give(tam, site.id, Grant(frozenset(Right) - {Right.SETTINGS}))
    news = Grant(
        frozenset({Right.LOOK, Right.DOWNLOAD, Right.CHANGE}),
        skerry.start_there.child(b"news"),
        skerry.start_here.child(b"news"),
    )
    await grants.give(await accounts.make(CLERK, CLERKS_PASSWORD), skerry.id, news)
    maren = await accounts.by_name(PERSON)
    ends_at = utc_now() + timedelta(days=30)
    await nailer.stores.invitations.add(
        hashlib.sha256(INVITATION.encode()).digest(),
        "Ferry office clerk",
        {skerry.id: replace(news, rights=frozenset({Right.LOOK}))},
        ends_at,
        is_admin=False,
        made_by=maren.id if maren else None,
    )
    if maren is not None:
        nightly = frozenset({Right.LOOK, Right.DOWNLOAD, Right.CHANGE, Right.SYNC})
        key = hashlib.sha256(TOKEN.encode()).digest()
        await nailer.stores.tokens.add(maren.id, "Nightly publish", key, [skerry.id], nightly, ends_at)


async def _remember_pairs(nailer: Nailer, skerry: Site, stage: Site) -> None:
    """The pairs of the everyday site, a sieve for what the studio works with, and a timer."""
    await nailer.stores.sieves.begin_with_house()
    pair = await nailer.stores.pairs.add(skerry.id, skerry.start_here, skerry.start_there, "htdocs")
    await nailer.stores.pairs.add(
        skerry.id, stage.start_there, skerry.start_there, "staging to live", other_site_id=stage.id
    )
    rule = RuleGroup(
        CountedAs.ANY,
        (
            Match(Test.KIND, FileKind.LAYERED),
            RuleGroup(CountedAs.ALL, (Match(Test.KIND, FileKind.PICTURE), Match(Test.LARGER, "8000000"))),
            Match(Test.PATTERN, "**/_drafts/"),
        ),
    )
    sieve = await nailer.stores.sieves.add(Sieve("Working files", rule, ("press/*.tif",)))
    await nailer.stores.pairs.pick_sieves(pair.id, [sieve])
    account = await nailer.stores.accounts.by_name(PERSON)
    if account is not None:
        await nailer.stores.timers.add(
            NewTimer(
                account_id=account.id,
                pair_id=pair.id,
                name="Sunday publishing",
                wish=SyncWish(Direction.PUBLISH, Removals.KEEP),
                compare=Compare.SIZE_AND_TIME,
                schedule=Schedule(Every.WEEKLY, "6 04:30", "Europe/London"),
                mail=Mail.TROUBLE,
                missed=Missed.SKIP,
                clashes=Clashes.STOP,
            )
        )


def _site(host: Host, name: str, here: str, group_id: int, colour: str, *, guarded: tuple[str, ...] = ()) -> Site:
    start = SitePath.parse(host.document_root.encode())
    return Site(
        id=0,
        name=name,
        host=host.server,
        port=host.port,
        user_name=host.user,
        start_here=SitePath.parse(here.encode()),
        start_there=start,
        group_id=group_id,
        colour=colour,
        document_roots=(DocumentRoot(start, f"https://{host.domain}/"),),
        guarded=tuple(SitePath.parse(folder.encode()) for folder in guarded),
    )


def _baseline(site_id: int, home: Path) -> Iterable[dict[str, Any]]:
    """What the pair held when it was last level: everything that is alike, and the files that changed since."""
    here, there = home / "here" / "skerry" / "htdocs", home / "hosts" / "skerry" / "htdocs"
    for name in [
        *content.level_files(),
        *(f"add-ons/{name}" for name in content.addons()),
        "cgi-bin/board.cgi",
        "cgi-bin/tide-times.cgi",
        "index.html",
        "data/sailings.json",
        "site.css",
        "placeholder.html",
        "fares.html",
    ]:
        below = tuple(part.encode() for part in name.split("/"))
        pair = (_PAIR[0].join(below), _PAIR[1].join(below))
        old = _seen(there / name)
        if name == "site.css" or name.removeprefix("skins/harbour/") in content.edited_skin():
            old = _seen(here / name)
        elif name == "fares.html":
            old = Entry(
                below[-1], Kind.FILE, 5000, Stamp.seconds(old.stamp.at_ns // NS - 12 * _DAY_S if old.stamp else 0)
            )
        yield baseline_row(site_id, *pair, old, old, None)


def _seen(path: Path) -> Entry:
    found = path.stat()
    return Entry(os.fsencode(path.name), Kind.FILE, found.st_size, Stamp.seconds(int(found.st_mtime)))


def _write(path: Path, data: bytes, at_s: int, mode: int = 0o644) -> None:
    check()
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(data)
    path.chmod(mode)
    os.utime(path, (at_s, at_s))


def _set_folder_times(root: Path, at_s: int) -> None:
    for folder in (root, *(path for path in root.rglob("*") if path.is_dir())):
        folder.chmod(0o755)
        os.utime(folder, (at_s, at_s))


def _old_site() -> bytes:
    """An archive somebody left behind: two megabytes that do not compress."""
    noise = random.Random(61)
    archive = io.BytesIO()
    with zipfile.ZipFile(archive, "w", zipfile.ZIP_STORED) as packed:
        for number in range(4):
            packed.writestr(f"old/harbour-{number}.jpg", noise.randbytes(520_000))
    return archive.getvalue()


def _log_lines() -> Iterable[bytes]:
    for number in range(400):
        yield f'192.0.2.{number % 250} - - "GET /timetable.html HTTP/1.1" 200 {5000 + number}\n'.encode()
