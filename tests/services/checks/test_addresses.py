"""Addresses looked at over real sockets: redirects, TLS certificates, a name server; and folders that are proved."""

from __future__ import annotations

import asyncio
import socket
import ssl
from collections.abc import AsyncIterator
from dataclasses import replace
from ipaddress import ip_network
from pathlib import Path

import pytest

from nailer.core.connecting.protocol import Protocol
from nailer.core.files.sitepath import DocumentRoot
from nailer.core.site.address import LeadsTo, Wrong
from nailer.errors import InvalidInput
from nailer.services.checks import AddressKnown
from nailer.services.checks.addresses import Reaching, _read_certificate
from nailer.standins.certificates import make_certificate
from nailer.standins.ftp import FtpHost
from nailer.standins.names import NameHost
from nailer.standins.pages import Pages
from nailer.store.database import Database
from nailer.store.sites import Secrets
from tests.builders import path, write
from tests.world import World, a_world_on

NAME = "mosslane.example"


async def look(world: World) -> AddressKnown:
    (known,) = await world.nailer.checks.addresses.look(world.site)
    return known


@pytest.fixture
async def names(world: World) -> AsyncIterator[NameHost]:
    own = {"A": ["192.0.2.1"]}
    host = NameHost({NAME: own | {"NS": ["ns1.saltwind.example."]}, "ftp.mosslane.example": own})
    world.nailer.settings.name_servers.append(f"127.0.0.1:{await host.start()}")
    yield host
    host.stop()


async def test_a_name_leads_to_the_accounts_own_server(world: World, pages: Pages, names: NameHost) -> None:
    write(world.there, "index.html", "<title>Moss Lane</title>")
    leads = (await look(world)).leads
    assert (leads.leads, leads.addresses, leads.servers) == (LeadsTo.HERE, ("192.0.2.1",), ("ns1.saltwind.example",))


async def test_a_name_that_nobody_knows_leads_to_nothing_yet(world: World, pages: Pages, names: NameHost) -> None:
    world_site = replace(world.site, document_roots=(DocumentRoot(path("/htdocs"), "https://other.example/"),))
    (known,) = await world.nailer.checks.addresses.look(world_site)
    assert known.leads.leads is LeadsTo.NOTHING


async def test_name_servers_that_do_not_answer_leave_it_unknown(world: World, pages: Pages) -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as nobody:
        nobody.bind(("127.0.0.1", 0))
        world.nailer.settings.name_servers.append(f"127.0.0.1:{nobody.getsockname()[1]}")
        known = await look(world)
    assert "could not be asked" in known.leads.words


async def test_http_that_answers_by_itself_is_told(world: World, pages: Pages, names: NameHost) -> None:
    write(world.there, "index.html", "<title>Moss Lane</title>")
    routes = world.nailer.settings.routes
    routes[f"{NAME}:80"] = routes[f"{NAME}:443"]
    known = await look(world)
    ways = {way.address: way.words for way in known.ways}
    assert ways[f"http://www.{NAME}/"] == f"301 to https://{NAME}/, 200"
    assert [(one.wrong, one.about) for one in known.wrong] == [(Wrong.INSECURE, f"http://{NAME}/")]


@pytest.mark.parametrize(("days", "wrong"), [(60, []), (5, [Wrong.CERTIFICATE_SOON]), (-3, [Wrong.CERTIFICATE_OVER])])
async def test_a_certificate_is_read_as_it_is_shown(
    world: World, pages: Pages, names: NameHost, tmp_path: Path, days: int, wrong: list[Wrong]
) -> None:
    file = tmp_path / "shown.pem"
    make_certificate(file, NAME, f"www.{NAME}", days=days)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(file)
    server = await asyncio.start_server(lambda _, writer: writer.close(), "127.0.0.1", 0, ssl=context)
    world.nailer.settings.routes[f"{NAME}:tls"] = f"127.0.0.1:{server.sockets[0].getsockname()[1]}"
    known = await look(world)
    server.close()
    await server.wait_closed()

    (seen,) = [one for one in known.certificates if one.host == NAME]
    assert seen.names == (NAME, f"www.{NAME}")
    assert [one.wrong for one in known.wrong if one.about == NAME] == wrong


async def test_a_folder_is_proved_by_a_file_that_is_gone_afterwards(
    world: World, pages: Pages, names: NameHost
) -> None:
    write(world.there, "index.html", "<title>Moss Lane</title>")
    (world.there.parent / "public_html").mkdir()

    found = await world.nailer.checks.addresses.prove(world.site)

    assert found == {f"https://{NAME}/": path("/htdocs")}
    assert [one.name for one in world.there.parent.rglob("nailer-proof*")] == []
    proof = (await look(world)).proof
    assert proof is not None
    assert proof.value == "/htdocs"


async def test_another_folder_than_the_settings_say_is_proved_and_said(
    world: World, pages: Pages, names: NameHost
) -> None:
    (world.there.parent / "public_html").mkdir()
    site = replace(world.site, document_roots=(DocumentRoot(path("/public_html"), f"https://{NAME}/"),))
    assert await world.nailer.checks.addresses.prove(site) == {f"https://{NAME}/": path("/htdocs")}


async def test_a_server_that_answers_with_its_own_page_proves_nothing(world: World, names: NameHost) -> None:
    """No web server answers at all: the file is removed all the same, and nothing is learned."""
    found = await world.nailer.checks.addresses.prove(world.site)
    assert found == {f"https://{NAME}/": None}
    assert list(world.there.iterdir()) == []
    assert (await look(world)).proof is None


async def test_what_a_cut_proof_has_left_is_removed_by_the_next(world: World, pages: Pages, names: NameHost) -> None:
    left = write(world.there, "nailer-proof-0123456789ab.txt", "x")
    await world.nailer.stores.findings.learn(world.site.id, "proof files", path(f"/htdocs/{left.name}").token, "test")
    await world.nailer.checks.addresses.prove(world.site)
    assert not left.exists()


async def test_a_page_for_everything_proves_that_none_of_the_folders_answers(
    world: World, pages: Pages, names: NameHost
) -> None:
    """The address answers, with something else: that is known then, and said of the name."""
    names.table[NAME] = {"A": ["203.0.113.9"]}
    elsewhere = world.there.parent / "elsewhere"
    elsewhere.mkdir()
    pages.serve_all_from(elsewhere)

    assert await world.nailer.checks.addresses.prove(world.site) == {f"https://{NAME}/": None}
    known = await look(world)

    assert known.proof is not None
    assert known.proof.value == ""
    assert known.leads.leads is LeadsTo.ELSEWHERE
    assert Wrong.LEADS_ELSEWHERE in [one.wrong for one in known.wrong]


async def test_another_content_alone_does_not_say_that_a_name_leads_elsewhere(
    world: World, pages: Pages, names: NameHost
) -> None:
    """A page may have changed since the scan, and a program's answer is never its text."""
    names.table[NAME] = {"A": ["203.0.113.9"]}
    write(world.there, "index.html", "<title>Moss Lane</title>")
    await world.nailer.checks.reader.begin(world.account_id, world.site)
    await world.nailer.checks.reader.wait(world.site.id)
    assert (await look(world)).leads.leads is LeadsTo.PROXY
    write(world.there, "index.html", "<title>Changed since</title>")
    assert (await look(world)).leads.leads is LeadsTo.UNKNOWN


async def test_a_host_named_by_its_number_leads_there(world: World, pages: Pages, names: NameHost) -> None:
    site = replace(world.site, host="192.0.2.7", document_roots=(DocumentRoot(path("/htdocs"), "http://192.0.2.7/"),))
    for port in (80, 443):
        world.nailer.settings.routes[f"192.0.2.7:{port}"] = world.nailer.settings.routes[f"{NAME}:443"]
    (known,) = await world.nailer.checks.addresses.look(site)
    assert (known.leads.leads, known.leads.addresses) == (LeadsTo.HERE, ("192.0.2.7",))


async def test_a_certificate_that_nobody_can_read_is_said() -> None:
    assert "cannot be read" in _read_certificate(NAME, b"0\x03no").words


async def test_a_server_that_sets_no_permissions_keeps_nothing_of_a_proof(
    tmp_path: Path, database: Database, migrated_url: str
) -> None:
    """FTP without SITE CHMOD: the file is put there all the same, and gone afterwards."""
    root = tmp_path / "there"
    (root / "htdocs").mkdir(parents=True)
    host = FtpHost(root, "seedlib", "sow-and-reap", lacks=("SITE CHMOD", "MFMT"))
    await host.start()
    try:
        async with a_world_on(host, tmp_path, migrated_url, root / "htdocs", protocol=Protocol.FTP) as world:
            await world.nailer.checks.addresses.prove(world.site)
            assert list(root.rglob("*.txt")) == []
            facts = await world.nailer.stores.findings.facts(world.site.id)
            assert facts["proof files"].value == ""
    finally:
        await host.stop()


async def test_what_one_site_has_learned_is_not_told_to_another_on_its_host(
    world: World, pages: Pages, names: NameHost
) -> None:
    await world.nailer.checks.addresses.prove(world.site)
    other = await world.nailer.stores.sites.add(replace(world.site, id=0, name="Another"), Secrets(password="x"))
    (known,) = await world.nailer.checks.addresses.look(other)
    assert known.proof is None


async def test_a_site_without_an_address_is_told_what_to_do(world: World) -> None:
    with pytest.raises(InvalidInput, match="which folder each web address"):
        await world.nailer.checks.addresses.look(replace(world.site, document_roots=()))


@pytest.mark.parametrize("allowed", [False, True])
async def test_a_certificate_is_not_looked_at_on_a_private_address(world: World, tmp_path: Path, allowed: bool) -> None:
    """A name may lead into the network that Nailer stands in: nobody there is dialled for it."""
    file = tmp_path / "inside.pem"
    make_certificate(file, "localhost")
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(file)
    met: list[str] = []

    def _met(_: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        met.append("somebody")
        writer.close()

    server = await asyncio.start_server(_met, "127.0.0.1", 0, ssl=context)
    port = server.sockets[0].getsockname()[1]
    addresses = world.nailer.checks.addresses
    networks = (ip_network("127.0.0.0/8"),) if allowed else ()
    addresses._reaching = Reaching(lambda host: (host, port), (), networks)
    try:
        seen = await addresses._certificate("localhost")
    finally:
        server.close()
        await server.wait_closed()
    if allowed:
        assert seen.ends_at is not None
    else:
        assert "not a public address" in seen.words
        assert met == []
