"""Links to other sites: asked politely, by their rules for robots, and never blamed for this machine's way out."""

from __future__ import annotations

import pytest

from nailer.core.files.sitepath import DocumentRoot
from nailer.core.site.findings import FindingKind, SiteFinding, cards
from nailer.core.site.graph import Graph
from nailer.core.site.links import links_in
from nailer.services.checks.others import OtherSites
from nailer.standins.pages import Pages
from tests.builders import path, write
from tests.world import World

ROOTS = (DocumentRoot(path("/htdocs"), "https://own.example/"),)


def graph(*addresses: str) -> Graph:
    text = "".join(f'<a href="{one}">x</a>' for one in addresses)
    return Graph.of({path("/htdocs/index.html"): links_in(b"index.html", text.encode())}, ROOTS)


async def asked(world: World, *addresses: str) -> tuple[list[SiteFinding], list[str]]:
    problems: list[str] = []
    others = OtherSites(world.nailer.editing, every_s=0)
    found = await others.findings(graph(*addresses), problems, lambda *_: None)
    return found, problems


async def test_what_is_gone_is_found_and_what_answers_is_not(world: World, pages: Pages) -> None:
    write(world.there, "fine.html", "x")
    found, problems = await asked(
        world, "https://mosslane.example/fine.html", "https://mosslane.example/gone.html#part", "fares.html"
    )
    assert [(one.address, one.said) for one in found] == [("https://mosslane.example/gone.html", "404")]
    assert problems == []
    (card,) = cards(found)
    assert card.title == "1 broken link to another site"


async def test_rules_for_robots_are_kept(world: World, pages: Pages) -> None:
    write(world.there, "robots.txt", "User-agent: *\nDisallow: /private/\n")
    found, problems = await asked(
        world, "https://mosslane.example/private/gone.html", "https://mosslane.example/gone.html"
    )
    assert [one.address for one in found] == ["https://mosslane.example/gone.html"]
    assert problems == ["1 link not checked: the other site's robots.txt forbids it."]


async def test_a_server_that_fails_at_its_rules_is_not_asked_further(world: World, pages: Pages) -> None:
    write(world.there, ".htaccess", "Options x")
    pages.refused_rules = ("Options",)
    found, problems = await asked(world, "https://mosslane.example/gone.html")
    assert found == []
    assert len(problems) == 1


async def test_refused_and_failing_answers_prove_nothing(world: World, pages: Pages) -> None:
    write(world.there, "shut.html", "x").chmod(0o600)
    found, _ = await asked(world, "https://mosslane.example/shut.html")
    assert found == []


async def test_where_nobody_answers_this_machine_is_blamed(world: World) -> None:
    for name in ("one.example", "two.example"):
        world.nailer.settings.routes[f"{name}:443"] = "127.0.0.1:9"
    found, problems = await asked(world, "https://one.example/a", "https://two.example/b")
    assert found == []
    assert "could be reached from Nailer's machine" in problems[0]


async def test_a_host_that_does_not_answer_while_others_do_is_found(world: World, pages: Pages) -> None:
    world.nailer.settings.routes["gone.example:443"] = "127.0.0.1:9"
    write(world.there, "fine.html", "x")
    found, _ = await asked(world, "https://mosslane.example/fine.html", "https://gone.example/a")
    assert [one.address for one in found] == ["https://gone.example/a"]


async def test_they_are_asked_few_a_second(world: World, pages: Pages) -> None:
    paused: list[float] = []

    async def pause(left_s: float) -> None:
        paused.append(left_s)

    others = OtherSites(world.nailer.editing, every_s=1000, pause=pause)
    await others.findings(graph(*(f"https://mosslane.example/{n}" for n in range(4))), [], lambda *_: None)
    assert len(paused) == 5, "after four links and one file of rules"
    assert all(900 < left_s <= 1000 for left_s in paused)


@pytest.mark.parametrize("wanted", [True, False])
async def test_a_reading_asks_them_only_where_that_is_wanted(world: World, pages: Pages, wanted: bool) -> None:
    write(world.there, "index.html", '<a href="https://gone.example/x">x</a><a href="https://two.example/">y</a>')
    world.nailer.settings.routes["gone.example:443"] = "127.0.0.1:9"
    world.nailer.settings.routes["two.example:443"] = world.nailer.settings.routes["mosslane.example:443"]
    checks = world.nailer.checks
    await checks.reader.begin(world.account_id, world.site, asks_others=wanted)
    await checks.reader.wait(world.site.id)
    known = await checks.known.overview(world.site)
    found = [one.finding.address for one in known.found if one.finding.kind is FindingKind.OTHERS]
    assert found == (["https://gone.example/x"] if wanted else [])
