"""Why a page is blank or broken, over a real SFTP server and a real web server that runs scripts and writes a log."""

from __future__ import annotations

import os
import time

import pytest

from nailer.acting import Acting, acting_as
from nailer.core.people.rights import Grant, Person, Right
from nailer.core.site.broken import Next
from nailer.errors import InvalidInput, NotAllowed
from nailer.services.checks.broken_pages import Diagnosed
from nailer.standins.pages import Pages
from tests.builders import path, write
from tests.world import World

PAGE = "<!doctype html><title>Moss Lane</title><p>Seeds."
ROOT = "https://mosslane.example/"


async def look(world: World, asked: str = ROOT) -> Diagnosed:
    return await world.nailer.checks.broken.look(world.site, asked)


async def test_a_page_that_is_well(world: World, pages: Pages) -> None:
    write(world.there, "index.html", PAGE)
    found = await look(world)
    assert [one.next for one in found.leads] == [Next.APART]
    assert (found.seen.answer.status, found.seen.answer.media_type) == (200, "text/html; charset=utf-8")
    assert found.seen.path == path("/htdocs/index.html")
    assert found.seen.visible == len("Seeds.")


async def test_the_log_that_grew_while_the_page_was_fetched_tells_first(world: World, pages: Pages) -> None:
    logs = world.there.parent / "logs"
    write(logs, "error.log", "[Sat Nov 01 10:00:00 2026] Fatal error in /htdocs/old.cgi on line 9\n")
    script = write(world.there, "cgi-bin/tides.cgi", "#!/bin/sh\nset -e\n. ./table.sh\n")
    script.chmod(0o755)

    found = await look(world, ROOT + "cgi-bin/tides.cgi")

    assert found.seen.answer.status == 500
    assert found.seen.log is not None
    assert found.seen.log.path == path("/logs/error.log")
    first = found.leads[0]
    assert (first.next, first.path) == (Next.EDIT, path("/htdocs/cgi-bin/tides.cgi"))
    assert "as the page was fetched" in first.sentence
    assert "127.0.0.1" not in str(found.seen.log), "Visitor addresses are hidden"


async def test_a_log_that_begins_with_this_failure_is_read_too(world: World, pages: Pages) -> None:
    (world.there.parent / "logs").mkdir()
    write(world.there, "cgi-bin/x.cgi", "#!/bin/sh\nexit 3\n").chmod(0o755)
    found = await look(world, "/htdocs/cgi-bin/x.cgi")
    assert found.seen.log is not None
    assert found.seen.log.fresh


async def test_of_a_large_log_only_the_end_is_read(world: World, pages: Pages) -> None:
    write(world.there, "error_log", b"x" * 3_000_000 + b"\nFatal error in /htdocs/index.html on line 2\n")
    write(world.there, "index.html", "")
    found = await look(world)
    assert found.seen.log is not None
    assert [one.text for one in found.seen.log.lines] == ["Fatal error in /htdocs/index.html on line 2"]


async def test_without_a_log_that_is_said(world: World, pages: Pages) -> None:
    write(world.there, "index.html", "")
    found = await look(world)
    assert found.seen.log is None
    assert "no error log was found" in found.seen.no_log


async def test_a_folder_that_is_shut_is_named(world: World, pages: Pages) -> None:
    write(world.there, "news/index.html", PAGE)
    (world.there / "news").chmod(0o700)
    found = await look(world, ROOT + "news/index.html")
    assert (found.leads[0].next, found.leads[0].path) == (Next.PERMISSIONS, path("/htdocs/news"))


async def test_a_page_in_another_writing_and_one_only_here(world: World, pages: Pages) -> None:
    write(world.there, "Fares.html", PAGE)
    write(world.here, "winter.html", PAGE)
    assert (await look(world, ROOT + "fares.html")).leads[0].next is Next.RENAME
    assert (await look(world, ROOT + "winter.html")).leads[0].next is Next.SEND
    assert (await look(world, ROOT + "none.html")).leads[0].next is Next.REFERENCES


async def test_who_took_a_page_away_is_said_and_can_be_taken_back(world: World, pages: Pages) -> None:
    write(world.there, "news.html", PAGE)
    await world.remove_there("news.html")
    lead = (await look(world, ROOT + "news.html")).leads[0]
    assert lead.next is Next.TAKE_BACK
    assert lead.change_id is not None


async def test_a_file_without_bytes_that_has_some_here_is_to_be_sent(world: World, pages: Pages) -> None:
    write(world.there, "index.html", "")
    write(world.here, "index.html", PAGE)
    found = await look(world)
    assert [one.next for one in found.leads][:1] == [Next.SEND]


async def test_what_changed_by_other_hands_is_known_by_its_time(world: World, pages: Pages) -> None:
    script = write(world.there, "x.cgi", "#!/bin/sh\n", at_s=time.time() - 600)
    os.utime(write(world.there, "old.html", PAGE), (1_600_000_000, 1_600_000_000))
    found = await look(world, ROOT + "x.cgi")
    assert [one.path for one in found.seen.changed] == [path(f"/htdocs/{script.name}")]


async def test_nothing_answers(world: World) -> None:
    write(world.there, "index.html", PAGE)
    world.nailer.settings.routes["mosslane.example:443"] = "127.0.0.1:9"
    found = await look(world)
    assert found.leads[0].next is Next.ADDRESS


async def test_a_server_of_files_that_does_not_answer_is_said_and_the_page_looked_at_all_the_same(
    world: World, pages: Pages
) -> None:
    write(world.there, "index.html", PAGE)
    await world.nailer.sites.pool.close_site(world.site.id)
    await world.host.stop()
    found = await look(world)
    assert found.seen.answer.status == 200
    assert len(found.seen.not_looked) == 1
    assert found.seen.entry is None
    found = await look(world, ROOT + "gone.html")
    assert not any("No file with this name" in one.sentence for one in found.leads), "nobody has looked"


STRANGERS = [
    "",
    "fares.html",
    "/elsewhere/x.html",
    "ftp://x",
    "https://other.example/",
    "http://127.0.0.1:3306/",
    "http://[x",
]


@pytest.mark.parametrize("asked", STRANGERS)
async def test_what_is_no_page_of_the_site_is_refused(world: World, asked: str) -> None:
    with pytest.raises(InvalidInput, match="not a page of this site"):
        await look(world, asked)


@pytest.mark.parametrize("start", ["http://", "https://www.", "http://www."])
async def test_a_page_is_known_by_each_of_its_ways_in(world: World, pages: Pages, start: str) -> None:
    write(world.there, "fares.html", PAGE)
    found = await look(world, f"{start}mosslane.example/fares.html")
    assert found.seen.path == path("/htdocs/fares.html")


async def test_no_secret_of_a_log_is_shown(world: World, pages: Pages) -> None:
    trace = "Fatal error: Uncaught PDOException in /htdocs/db.php:3 #0 PDO->__construct('mysql:host=x', 'moss', 'hush-hush')"
    write(world.there, "error_log", f"{trace}\nFatal error: password=hush-hush refused\n")
    write(world.there, "index.html", "")
    found = await look(world)
    assert found.seen.log is not None
    assert len(found.seen.log.telling) == 2
    assert "hush" not in str(found)


async def test_who_has_a_part_of_the_site_reads_no_log_of_all_of_it(world: World, pages: Pages) -> None:
    part = Grant(frozenset({Right.LOOK}), path("/htdocs/news"), path("/studio/moss/news"))
    with acting_as(Acting(Person(99, "orla", grants={world.site.id: part}))), pytest.raises(NotAllowed):
        await look(world)
