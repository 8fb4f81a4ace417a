"""The live check against a real web server with a real cache in front, and saving that watches pages."""

from __future__ import annotations

import asyncio
import contextlib
import socket
from collections.abc import AsyncIterator
from dataclasses import dataclass
from ipaddress import ip_network

import pytest

from nailer.core.check.live import LiveFinding
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.errors import InvalidInput
from nailer.services.editing.live_check import LiveCheck
from nailer.services.editing.saving import Careful
from nailer.standins.pages import Pages
from nailer.store.drafts import Ways
from tests.builders import path, write
from tests.world import THERE, World

RUNS = "#!/bin/sh\necho 'Content-Type: text/plain'\necho\necho hello\n"


@dataclass
class Web:
    world: World
    pages: Pages

    async def verdict(self, name: str, before: bytes | None = None) -> LiveFinding:
        found, self.answers = await self.world.nailer.editing.live_check.of_file(self.world.site, at(name), before)
        self.sentence, self.again_s = found.sentence, found.again_s
        return found.live


def at(name: str) -> SitePath:
    return THERE.join(tuple(name.encode().split(b"/")))


@pytest.fixture
async def web(world: World, pages: Pages) -> Web:
    """The world's site as the live check sees it."""
    return Web(world, pages)


async def test_what_visitors_get_is_what_is_there(web: Web) -> None:
    write(web.world.there, "index.html", "<p>hello")

    assert await web.verdict("index.html") is LiveFinding.LIVE
    assert [one.status for one in web.answers] == [200, 200, 200]


async def test_an_old_copy_in_a_cache_is_told_with_its_age_and_how_long(web: Web) -> None:
    write(web.world.there, "site.css", "old {}")
    assert await web.verdict("site.css") is LiveFinding.LIVE
    write(web.world.there, "site.css", "new {}")

    assert await web.verdict("site.css") is LiveFinding.CACHED
    assert "Age 0 s" in web.sentence
    assert web.again_s is not None
    assert 50 < web.again_s <= 61
    assert "to delete the file" in await web.world.nailer.editing.live_check.purge(
        "https://mosslane.example/.purge", "x"
    )
    assert await web.verdict("site.css") is LiveFinding.LIVE


async def test_a_missing_or_closed_page_is_told_with_its_repair(web: Web) -> None:
    write(web.world.there, "a.html", "a").chmod(0o600)
    assert await web.verdict("a.html") is LiveFinding.FORBIDDEN
    other = web.world.there.parent / "other"
    write(other, "b.html", "b")
    web.pages._roots = dict.fromkeys(web.pages._roots, other)
    (web.world.there / "a.html").chmod(0o644)
    assert await web.verdict("a.html") is LiveFinding.MISSING
    write(other, "a.html", "another")
    assert await web.verdict("a.html") is LiveFinding.OTHER


async def test_programs_are_not_compared_but_their_source_is_never_shown(web: Web) -> None:
    write(web.world.there, "cgi-bin/run.cgi", RUNS).chmod(0o755)
    assert await web.verdict("cgi-bin/run.cgi") is LiveFinding.PROGRAM
    write(web.world.there, "cgi-bin/run.cgi", "#!/bin/sh\nexit 1\n").chmod(0o755)
    assert await web.verdict("cgi-bin/run.cgi") is LiveFinding.BROKEN
    write(web.world.there, "run.php", "<?php $password = 'x';")
    assert await web.verdict("run.php") is LiveFinding.SOURCE


async def test_a_site_that_does_not_answer_says_so(world: World) -> None:
    with socket.socket() as nobody:
        nobody.bind(("127.0.0.1", 0))
        port = nobody.getsockname()[1]
    world.nailer.settings.routes["mosslane.example:443"] = f"127.0.0.1:{port}"
    write(world.there, "a.html", "a")

    found, answers = await world.nailer.editing.live_check.of_file(world.site, at("a.html"))

    assert found.live is LiveFinding.SILENT
    assert all(one.status is None and one.words for one in answers)


@contextlib.asynccontextmanager
async def a_server_inside(head: str = "200 OK") -> AsyncIterator[tuple[int, list[bytes]]]:
    """A server of this machine's own network: its port, and what it was asked."""
    asked: list[bytes] = []

    async def _answer(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        asked.append(await reader.readline())
        writer.write(f"HTTP/1.1 {head}\r\nContent-Length: 6\r\nConnection: close\r\n\r\nsecret".encode())
        await writer.drain()
        writer.close()

    server = await asyncio.start_server(_answer, "127.0.0.1", 0)
    async with server:
        yield server.sockets[0].getsockname()[1], asked


@pytest.mark.parametrize("host", ["127.0.0.1", "localhost", "[::ffff:127.0.0.1]", "2130706433", "0x7f.1"])
async def test_no_check_and_no_purge_reaches_into_the_own_network(world: World, host: str) -> None:
    live = world.nailer.editing.live_check
    async with a_server_inside() as (port, asked):
        fetched = await live.once(f"http://{host}:{port}/")
        purged = await live.purge(f"http://{host}:{port}/", "x")

        assert not asked
    assert fetched.status is None
    assert "not a public address" in fetched.words
    assert "not a public address" in purged


async def test_no_redirect_leads_into_the_own_network(world: World) -> None:
    async with (
        a_server_inside() as (secret, asked),
        a_server_inside(f"302 Found\r\nLocation: http://127.0.0.1:{secret}/") as (port, first),
    ):
        world.nailer.settings.routes["mosslane.example:443"] = f"127.0.0.1:{port}"
        fetched = await world.nailer.editing.live_check.once("https://mosslane.example/")

        assert (len(first), len(asked)) == (1, 0)
    assert "not a public address" in fetched.words


async def test_a_network_that_the_settings_allow_is_reached(world: World) -> None:
    files = world.nailer.files.browse
    async with a_server_inside() as (port, asked):
        live = LiveCheck(files, lambda host, port: (host, port), [ip_network("127.0.0.0/8")])
        fetched = await live.once(f"http://127.0.0.1:{port}/")

    assert (fetched.status, fetched.begins, len(asked)) == (200, "secret", 1)


async def test_what_is_not_on_the_web_is_told_so(world: World) -> None:
    with pytest.raises(InvalidInput, match="Visitors cannot see"):
        await world.nailer.editing.live_check.of_file(world.site, path("/mail/box"))


async def careful(web: Web, name: str, text: str, *, despite: bool = False) -> Careful:
    nailer, world = web.world.nailer, web.world
    await nailer.stores.drafts.write_ways(world.site.id, Ways(guarded_save=True))
    draft = (await nailer.editing.drafts.open(world.account_id, world.site, SideName.THERE, at(name))).draft
    await nailer.editing.drafts.type(draft, text, None)
    draft = await nailer.editing.drafts.own(world.account_id, draft.id)
    return await nailer.editing.saving.save(draft, world.site, despite_errors=despite)


async def test_a_save_that_breaks_its_page_comes_back_by_itself(web: Web) -> None:
    file = write(web.world.there, "cgi-bin/run.cgi", RUNS)
    file.chmod(0o755)

    ended = await careful(web, "cgi-bin/run.cgi", "#!/bin/sh\nexit 3\n")

    assert ended.is_back
    assert ended.broken[0].why == "answers 500; before it answered 200"
    assert "script failed" in ended.broken[0].begins
    assert file.read_text() == RUNS
    (draft,) = await web.world.nailer.editing.drafts.open_files(web.world.account_id)
    assert draft.has_changes


async def test_a_save_that_breaks_nothing_stays(web: Web) -> None:
    write(web.world.there, "index.html", "<p>old")

    ended = await careful(web, "index.html", "<p>new")

    assert ended.saved.done
    assert not ended.broken
    assert (web.world.there / "index.html").read_text() == "<p>new"


async def test_a_page_that_was_broken_before_is_not_blamed_on_the_save(web: Web) -> None:
    file = write(web.world.there, "cgi-bin/run.cgi", "#!/bin/sh\nexit 3\n")
    file.chmod(0o755)

    ended = await careful(web, "cgi-bin/run.cgi", "#!/bin/sh\nexit 4\n")

    assert not ended.broken
    assert file.read_text() == "#!/bin/sh\nexit 4\n"


async def test_errors_in_the_text_are_shown_before_and_can_be_overruled(web: Web) -> None:
    file = write(web.world.there, "index.html", "<p>old")

    ended = await careful(web, "index.html", "<div>new")
    assert [one.what for one in ended.errors] == ["<div> has no end tag"]
    assert file.read_text() == "<p>old"

    assert (await careful(web, "index.html", "<div>new", despite=True)).saved.done
    assert file.read_text() == "<div>new"


async def test_references_that_lead_nowhere_are_found_with_their_place(world: World) -> None:
    write(world.there, "img/Pier.svg", "x")
    text = 'ü <img src="img/pier.svg"> <a href="none.html"> <a href="img/Pier.svg"> <a href="/">'
    found = await world.nailer.editing.saving.missing(
        world.site, SideName.THERE, at("index.html"), text, (await _form(world, text))
    )
    assert [(text[one.start : one.end], one.what) for one in found] == [
        ("img/pier.svg", "/htdocs/img/pier.svg is not there, but Pier.svg is: capitals count on most servers"),
        ("none.html", "/htdocs/none.html is not there"),
    ]


async def _form(world: World, text: str):  # type: ignore[no-untyped-def]
    write(world.there, "index.html", text)
    return (
        await world.nailer.editing.drafts.open(world.account_id, world.site, SideName.THERE, at("index.html"))
    ).draft.form


async def test_the_old_address_of_a_renamed_page_is_asked_and_said(web: Web) -> None:
    write(web.world.there, "a.html", "a")
    nailer, site = web.world.nailer, web.world.site
    await nailer.files.change.rename(web.world.account_id, site, SideName.THERE, at("a.html"), b"b.html")

    gone = await nailer.editing.live_check.of_old_name(site, at("a.html"))
    write(web.world.there, "a.html", "another")
    served = await nailer.editing.live_check.of_old_name(site, at("a.html"))

    assert gone == "Its old address mosslane.example/a.html answers 404 to visitors now."
    assert "still answers 200" in served
    assert await nailer.editing.live_check.of_old_name(site, SitePath((b"logs",))) == ""
