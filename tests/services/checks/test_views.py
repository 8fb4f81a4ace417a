"""A page from here and live: what each side gives, what is written down, and who may look."""

from __future__ import annotations

import pytest

from nailer.acting import Acting, acting_as
from nailer.core.files.entry import SideName
from nailer.core.people.rights import Grant, Person, Right
from nailer.core.site.apart import Apart
from nailer.errors import InvalidInput, NotFound
from nailer.services.checks import PageView
from nailer.services.checks.views import Views
from nailer.standins.pages import Pages
from tests.builders import write
from tests.world import World

PAGE = "<!doctype html><title>Moss Lane</title><img src='/img/a.png'>"
NAILER = "http://127.0.0.1:8642"


@pytest.fixture
def views(world: World) -> Views:
    return world.nailer.checks.views


def opened(world: World, asked: str = "https://mosslane.example/") -> PageView:
    return world.nailer.checks.views.open(world.site, world.account_id, asked, NAILER)


async def both(world: World, view: PageView, tail: str, query: str = "") -> tuple[bytes, bytes]:
    views = world.nailer.checks.views
    _, here = await views.get(view.token, SideName.HERE, tail, query)
    _, live = await views.get(view.token, SideName.THERE, tail, query)
    return here, live


async def told(world: World, view: PageView) -> dict[str, Apart]:
    return {one.tail: one.told.apart for one in await world.nailer.checks.views.told(view)}


async def test_each_side_is_shown_below_its_own_address(world: World, pages: Pages) -> None:
    write(world.here, "index.html", PAGE + "here")
    write(world.there, "index.html", PAGE + "live")
    view = opened(world)
    here, live = await both(world, view, "")
    assert here.decode() == PAGE.replace("/img", f"/{view.token}/here/img") + "here"
    assert live.decode() == PAGE.replace("/img", f"/{view.token}/live/img") + "live"


async def test_what_makes_them_differ_is_told(world: World, pages: Pages) -> None:
    for name, here, there in (
        ("same.css", "a", "a"),
        ("other.html", "a", "b"),
        ("only-here.png", "a", None),
        ("Case.png", "a", None),
        ("only-there.png", None, "b"),
        ("shut.html", "a", "a"),
    ):
        if here is not None:
            write(world.here, name, here)
        if there is not None:
            write(world.there, name, there)
    write(world.there, "case.png", "a")
    (world.there / "shut.html").chmod(0o600)
    view = opened(world)
    for name in ("same.css", "other.html", "only-here.png", "Case.png", "only-there.png", "shut.html", "none.gif"):
        await both(world, view, name)
    assert await told(world, view) == {
        "same.css": Apart.SAME,
        "other.html": Apart.CONTENT,
        "only-here.png": Apart.MISSING,
        "Case.png": Apart.WRITING,
        "only-there.png": Apart.NOT_HERE,
        "shut.html": Apart.FORBIDDEN,
        "none.gif": Apart.NEITHER,
    }


async def test_an_older_copy_in_a_cache_is_proved(world: World, pages: Pages) -> None:
    write(world.there, "site.css", "old")
    view = opened(world)
    await both(world, view, "site.css")
    write(world.there, "site.css", "new one")
    write(world.here, "site.css", "new one")
    await both(world, view, "site.css")
    assert await told(world, view) == {"site.css": Apart.OLD}


async def test_a_program_is_not_run_here_and_its_text_not_shown(world: World, pages: Pages) -> None:
    write(world.here, "index.php", "<?php $password = 'x';")
    write(world.there, "index.php", "made")
    view = opened(world)
    here, _ = await both(world, view, "index.php")
    assert b"password" not in here
    assert await told(world, view) == {"index.php": Apart.MADE}


@pytest.mark.parametrize(
    "tail", ["../secret.txt", "..%2fsecret.txt", "a/../../secret.txt", "%2e%2e/secret.txt", "a%00b"]
)
async def test_nothing_outside_the_folder_here_is_served(world: World, pages: Pages, tail: str) -> None:
    write(world.here.parent, "secret.txt", "not yours")
    (world.here / "a").mkdir()
    view = opened(world)
    got, data = await world.nailer.checks.views.get(view.token, SideName.HERE, tail, "")
    assert (got.status, data) == (404, b"")


async def test_a_link_that_leads_out_of_the_folder_here_is_not_followed(world: World, pages: Pages) -> None:
    secret = world.here.parent.parent / "outside.txt"
    secret.write_text("not yours")
    (world.here / "link.txt").symlink_to(secret)
    view = opened(world)
    _, data = await world.nailer.checks.views.get(view.token, SideName.HERE, "link.txt", "")
    assert b"not yours" not in data


async def test_an_unknown_view_and_one_that_has_ended_serve_nothing(
    world: World, pages: Pages, monkeypatch: pytest.MonkeyPatch
) -> None:
    views, view = world.nailer.checks.views, opened(world)
    with pytest.raises(NotFound):
        await views.get("0" * 32, SideName.HERE, "", "")
    with pytest.raises(NotFound):
        views.own(view.token, world.account_id + 1, world.site.id)
    monkeypatch.setattr("nailer.services.checks.views._LIVES_S", -1)
    with pytest.raises(NotFound):
        await views.get(view.token, SideName.HERE, "", "")


async def test_a_person_who_is_gone_looks_at_nothing_any_more(world: World, pages: Pages) -> None:
    write(world.here, "index.html", PAGE)
    view = world.nailer.checks.views.open(world.site, 987_654, "https://mosslane.example/", NAILER)
    with pytest.raises(NotFound):
        await world.nailer.checks.views.get(view.token, SideName.HERE, "", "")


async def test_who_has_no_right_to_look_opens_no_view(world: World) -> None:
    none = Grant(frozenset({Right.CHANGE}))
    with acting_as(Acting(Person(99, "orla", grants={world.site.id + 1: none}))), pytest.raises(NotFound):
        opened(world)


async def test_an_address_of_another_site_opens_no_view(world: World) -> None:
    with pytest.raises(InvalidInput):
        opened(world, "https://other.example/")


async def test_old_views_give_way(world: World) -> None:
    first = opened(world)
    for _ in range(40):
        opened(world)
    with pytest.raises(NotFound):
        world.nailer.checks.views.of(first.token)
