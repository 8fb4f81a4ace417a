"""A page from here and live: what each side gives, what is written down, and who may look."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from urllib.parse import urlsplit

import pytest

from nailer.acting import Acting, acting_as
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.people.rights import Grant, Person, Right
from nailer.core.site.apart import Apart
from nailer.errors import InvalidInput, NotFound
from nailer.services.checks import PageView, Viewer
from nailer.services.checks.views import Views
from nailer.standins.pages import Pages
from nailer.store.database import utc_now
from nailer.store.people.accounts import From
from tests.builders import write
from tests.world import World

PAGE = "<!doctype html><title>Moss Lane</title><img src='/img/a.png'>"
NAILER = "http://127.0.0.1:8642"


@pytest.fixture
def views(world: World) -> Views:
    return world.nailer.checks.views


async def opened(world: World, asked: str = "https://mosslane.example/", token: str = "open") -> PageView:
    """A view in a session that was opened for it."""
    accounts, key = world.nailer.stores.accounts, token.encode().ljust(32, b".")
    if await accounts.session(key, 9) is None:
        await accounts.add_session(key, world.account_id, "csrf", utc_now() + timedelta(hours=1), From("", ""))
    session = await accounts.session(key, 9)
    assert session is not None
    viewer = Viewer(world.account_id, session.id, NAILER)
    return world.nailer.checks.views.open(world.site, viewer, asked, origin_of)


def origin_of(label: str) -> str:
    return f"http://{label}.localhost:9"


async def both(world: World, view: PageView, tail: str, query: str = "") -> tuple[bytes, bytes]:
    """What both sides give for what a page here refers to."""
    views = world.nailer.checks.views
    view.told_of.add(view.root.folder.join(tuple(tail.encode().split(b"/")) if tail else ()))
    _, here = await views.get(view, SideName.HERE, tail, query)
    _, live = await views.get(view, SideName.THERE, tail, query)
    return here, live


async def told(world: World, view: PageView) -> dict[str, Apart]:
    return {one.tail: one.told.apart for one in await world.nailer.checks.views.told(view)}


async def test_each_side_is_shown_below_its_own_address(world: World, pages: Pages) -> None:
    write(world.here, "index.html", PAGE + "here")
    write(world.there, "index.html", PAGE + "live")
    view = await opened(world)
    here, live = await both(world, view, "")
    assert here.decode() == PAGE.replace("/img", f"/{view.sides[SideName.HERE].secret}/img") + "here"
    assert live.decode() == PAGE.replace("/img", f"/{view.sides[SideName.THERE].secret}/img") + "live"


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
    view = await opened(world)
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
    view = await opened(world)
    await both(world, view, "site.css")
    write(world.there, "site.css", "new one")
    write(world.here, "site.css", "new one")
    await both(world, view, "site.css")
    assert await told(world, view) == {"site.css": Apart.OLD}


async def test_a_program_is_not_run_here_and_its_text_not_shown(world: World, pages: Pages) -> None:
    write(world.here, "index.php", "<?php $password = 'x';")
    write(world.there, "index.php", "made")
    view = await opened(world)
    here, _ = await both(world, view, "index.php")
    assert b"password" not in here
    assert await told(world, view) == {"index.php": Apart.MADE}


@pytest.mark.parametrize(
    "tail", ["../secret.txt", "..%2fsecret.txt", "a/../../secret.txt", "%2e%2e/secret.txt", "a%00b"]
)
async def test_nothing_outside_the_folder_here_is_served(world: World, pages: Pages, tail: str) -> None:
    write(world.here.parent, "secret.txt", "not yours")
    (world.here / "a").mkdir()
    view = await opened(world)
    got, data = await world.nailer.checks.views.get(view, SideName.HERE, tail, "")
    assert got.status in (404, None)
    assert data == b""


async def test_a_link_that_leads_out_of_the_folder_here_is_not_followed(world: World, pages: Pages) -> None:
    secret = world.here.parent.parent / "outside.txt"
    secret.write_text("not yours")
    (world.here / "link.txt").symlink_to(secret)
    view = await opened(world)
    _, data = await world.nailer.checks.views.get(view, SideName.HERE, "link.txt", "")
    assert b"not yours" not in data


async def test_an_unknown_view_and_one_that_has_ended_serve_nothing(
    world: World, pages: Pages, monkeypatch: pytest.MonkeyPatch
) -> None:
    views, view = world.nailer.checks.views, await opened(world)
    with pytest.raises(NotFound):
        views.served("0" * 32, "x.localhost")
    with pytest.raises(NotFound):
        views.own(view.token, world.account_id + 1, world.site.id)
    monkeypatch.setattr("nailer.services.checks.views._LIVES_S", -1)
    with pytest.raises(NotFound):
        views.own(view.token, world.account_id, world.site.id)


async def test_a_person_who_is_gone_looks_at_nothing_any_more(world: World, pages: Pages) -> None:
    write(world.here, "index.html", PAGE)
    viewer = Viewer(987_654, 1, NAILER)
    view = world.nailer.checks.views.open(world.site, viewer, "https://mosslane.example/", origin_of)
    with pytest.raises(NotFound):
        await world.nailer.checks.views.get(view, SideName.HERE, "", "")


async def test_who_has_no_right_to_look_opens_no_view(world: World) -> None:
    none = Grant(frozenset({Right.CHANGE}))
    with acting_as(Acting(Person(99, "orla", grants={world.site.id + 1: none}))), pytest.raises(NotFound):
        await opened(world)


async def test_an_address_of_another_site_opens_no_view(world: World) -> None:
    with pytest.raises(InvalidInput):
        await opened(world, "https://other.example/")


async def test_a_persons_old_views_give_way_to_their_own_new_ones_and_nobody_elses(world: World) -> None:
    views, first = world.nailer.checks.views, await opened(world)
    viewer = Viewer(world.account_id + 1, 1, NAILER)
    others = views.open(world.site, viewer, "https://mosslane.example/", origin_of)
    for _ in range(30):
        last = await opened(world)

    assert views.own(others.token, world.account_id + 1, world.site.id) is others
    assert views.own(last.token, world.account_id, world.site.id) is last
    with pytest.raises(NotFound):
        views.own(first.token, world.account_id, world.site.id)
    with pytest.raises(NotFound):
        views.served(first.sides[SideName.HERE].secret, host_of(first, SideName.HERE))


def host_of(view: PageView, side: SideName) -> str:
    return urlsplit(view.sides[side].origin).hostname or ""


async def test_here_shows_only_what_the_page_here_refers_to(world: World, pages: Pages) -> None:
    """Also what its styles refer to; whatever the live page asks for."""
    write(world.here, "index.html", "<link rel=stylesheet href=a.css><img src=/img/a.png>")
    write(world.here, "a.css", "p { background: url(img/b.png) }")
    for name in ("img/a.png", "img/b.png", "img/c.png", "plans/next-year.html"):
        write(world.here, name, "here")
    views, view = world.nailer.checks.views, await opened(world)

    async def _shown(tail: str) -> bool:
        got, data = await views.get(view, SideName.HERE, tail, "")
        assert got.is_withheld == (data == b"")
        return not got.is_withheld

    assert not await _shown("img/a.png"), "nothing is served before the page that refers to it"
    assert await _shown("")
    assert [await _shown(one) for one in ("img/a.png", "img/b.png", "a.css", "img/b.png")] == [True, False, True, True]
    assert [await _shown(one) for one in ("img/c.png", "plans/next-year.html")] == [False, False]


@pytest.mark.parametrize(
    "name",
    [
        ".env",
        ".git/config",
        "sub/.htpasswd",
        "mail/letter.html",
        "config.php.bak",
        "dump.sql",
        "id_rsa",
        "error_log",
        "lib/db.inc",
        "tools/deploy.py",
        "cgi-bin/form.cgi",
    ],
)
async def test_what_is_secret_is_not_shown_from_here_whoever_refers_to_it(
    world: World, pages: Pages, name: str
) -> None:
    world.site = replace(world.site, guarded=(SitePath.parse(b"/htdocs/mail"),))
    write(world.here, "index.html", f"<img src='/{name}'><a href='{name}'>x</a>")
    write(world.here, name, "not yours")
    views, view = world.nailer.checks.views, await opened(world)
    await views.get(view, SideName.HERE, "", "")

    got, data = await views.get(view, SideName.HERE, name, "")

    assert (got.status, data) == (None, b"")
    assert got.is_withheld


async def test_no_side_is_asked_by_the_name_of_another_or_at_another_host(world: World) -> None:
    views, one, other = world.nailer.checks.views, await opened(world), await opened(world)
    ends = [(view, side) for view in (one, other) for side in SideName]

    assert len({host_of(*end) for end in ends}) == len({view.sides[side].secret for view, side in ends}) == 4
    here = one.sides[SideName.HERE].secret
    assert views.served(here, host_of(one, SideName.HERE)) == (one, SideName.HERE)
    strange = [
        "127.0.0.1",
        "localhost",
        "evil.example",
        "",
        host_of(one, SideName.THERE),
        host_of(other, SideName.HERE),
    ]
    for host in strange:
        with pytest.raises(NotFound):
            views.served(here, host)


async def test_a_view_ends_with_its_session(world: World, pages: Pages) -> None:
    write(world.here, "index.html", PAGE)
    views, view = world.nailer.checks.views, await opened(world, token="another")
    got, _ = await views.get(view, SideName.HERE, "", "")
    assert got.is_good

    await world.nailer.stores.accounts.end_session(b"another".ljust(32, b"."))

    with pytest.raises(NotFound):
        await views.get(view, SideName.HERE, "", "")
    with pytest.raises(NotFound):
        views.own(view.token, world.account_id, world.site.id)
