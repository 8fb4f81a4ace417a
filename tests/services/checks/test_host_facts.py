"""What is learned of a host: by scans and by a trial of scripts; shared, dated, contradicted; and silent folders."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from nailer.acting import Acting, acting_as
from nailer.core.files.sitepath import DocumentRoot
from nailer.core.people.rights import Grant, Person, Right
from nailer.core.site.capability import KINDS, WasRun
from nailer.errors import InvalidInput, NotAllowed
from nailer.standins.names import NameHost
from nailer.standins.pages import Pages
from nailer.store.sites import Secrets
from tests.builders import path, write
from tests.services.checks.test_addresses import NAME, names
from tests.world import World

__all__ = ["names"]
PAGE = "<!doctype html><title>Moss Lane</title>"


async def facts(world: World) -> dict[str, str]:
    return {one.name: one.value for one in await world.nailer.checks.host.of(world.site)}


async def tried(world: World) -> dict[str, WasRun]:
    return {one.kind.name: one.ran for one in await world.nailer.checks.host.try_scripts(world.site)}


def left(world: World) -> list[Path]:
    return list(world.there.parent.rglob("nailer-trial*"))


async def test_scripts_are_tried_in_both_places_and_gone_afterwards(world: World, pages: Pages) -> None:
    (world.there / "cgi-bin").mkdir()
    found = await tried(world)
    assert found["sh"] is WasRun.RUNS
    assert found["PHP"] is WasRun.SHOWN, "this web server runs no PHP, and gives its text away"
    assert left(world) == []
    known = await facts(world)
    assert known["sh in cgi-bin"] == "runs"
    assert known["interpreter for sh"] == "/bin/sh"
    assert known["PHP in the document root"] == "is shown as text"


async def test_without_a_folder_for_scripts_none_is_made(world: World, pages: Pages) -> None:
    assert set(await tried(world)) == {"PHP"}
    assert list(world.there.iterdir()) == []


async def test_nothing_is_put_into_a_guarded_folder(world: World, pages: Pages, names: NameHost) -> None:
    site = replace(world.site, guarded=(path("/htdocs"),))
    with pytest.raises(InvalidInput):
        await world.nailer.checks.host.try_scripts(site)
    with pytest.raises(InvalidInput):
        await world.nailer.checks.addresses.prove(site)
    assert list(world.there.iterdir()) == []


async def test_a_script_that_may_not_run_is_refused(world: World, pages: Pages) -> None:
    (world.there / "cgi-bin").mkdir()
    (world.there / "cgi-bin").chmod(0o700)
    assert (await tried(world))["sh"] is WasRun.REFUSED


async def test_where_nothing_answers_nothing_is_learned(world: World) -> None:
    world.nailer.settings.routes[f"{NAME}:443"] = "127.0.0.1:9"
    assert await tried(world) == {"PHP": WasRun.UNKNOWN}
    assert await facts(world) == {}
    assert left(world) == []


async def test_who_may_only_look_tries_nothing(world: World, pages: Pages) -> None:
    looks = Person(99, "orla", grants={world.site.id: Grant(frozenset({Right.LOOK}))})
    with acting_as(Acting(looks)), pytest.raises(NotAllowed):
        await tried(world)
    assert list(world.there.iterdir()) == []


async def test_what_contradicts_an_earlier_look_is_said(world: World, pages: Pages) -> None:
    (world.there / "cgi-bin").mkdir()
    await tried(world)
    (world.there / "cgi-bin").chmod(0o700)
    await tried(world)
    (one,) = [one for one in await world.nailer.checks.host.of(world.site) if one.name == "sh in cgi-bin"]
    assert (one.value, one.was) == ("is refused", "runs")
    assert one.was_at is not None


async def test_a_reading_learns_what_the_site_shows_of_its_host(world: World, pages: Pages) -> None:
    write(world.there, "index.html", PAGE)
    await world.nailer.checks.reader.begin(world.account_id, world.site)
    await world.nailer.checks.reader.wait(world.site.id)
    assert (await facts(world))[f"https://{NAME}/"] == "/htdocs"
    await world.nailer.checks.host.learn_of(replace(world.site, clock_offset_s=-7200))
    assert (await facts(world))["clock of its listings"] == "2 h 0 min behind UTC"


async def test_facts_are_shared_by_the_sites_of_a_host_but_not_what_belongs_to_one_account(
    world: World, pages: Pages
) -> None:
    (world.there / "cgi-bin").mkdir()
    await tried(world)
    await world.nailer.checks.host.learn_of(world.site)
    other = await world.nailer.stores.sites.add(replace(world.site, id=0, name="Another", user_name="other"), Secrets())
    shared = {one.name: one for one in await world.nailer.checks.host.of(other)}
    assert shared["sh in cgi-bin"].site_name == "Moss Lane"
    assert f"https://{NAME}/" not in shared
    theirs = Person(99, "orla", grants={other.id: Grant(frozenset({Right.LOOK}))})
    with acting_as(Acting(theirs)):
        seen = {one.name: one for one in await world.nailer.checks.host.of(other)}
    assert seen["sh in cgi-bin"].site_name is None, "a site that is none of theirs is not named"


def test_the_lines_are_two_and_harmless() -> None:
    for kind in KINDS:
        text = kind.content(21).decode()
        assert len(text.splitlines()) == 2
        assert "21" in text
        assert not {"rm", "open", "exec", "system", "curl", "eval"} & set(text.replace("(", " ").split())


async def test_a_folder_that_answers_nowhere_is_marked_where_one_enters_it(
    world: World, pages: Pages, names: NameHost
) -> None:
    write(world.there.parent, "old/public_html/x.html", PAGE)
    (world.there.parent / "public_html").mkdir()
    addresses = world.nailer.checks.addresses
    assert await addresses.silent_folder(world.site, path("/public_html/img")) is None, "nobody has proved anything"
    await addresses.prove(world.site)
    found = await addresses.silent_folder(world.site, path("/public_html/img"))
    assert found is not None
    assert found[0] == path("/public_html")
    assert await addresses.silent_folder(world.site, path("/htdocs/img")) is None
    assert await addresses.silent_folder(world.site, path("/old")) is None


async def test_a_proof_fills_the_settings(world: World, pages: Pages, names: NameHost) -> None:
    (world.there.parent / "public_html").mkdir()
    wrong = replace(world.site, document_roots=(DocumentRoot(path("/public_html"), f"https://{NAME}/"),))
    await world.nailer.stores.sites.update(wrong, None)
    await world.nailer.checks.addresses.prove(wrong)
    now = await world.nailer.stores.sites.get(world.site.id)
    assert [root.folder for root in now.document_roots] == [path("/htdocs")]


async def test_who_may_not_change_settings_proves_and_changes_none(world: World, pages: Pages, names: NameHost) -> None:
    (world.there.parent / "public_html").mkdir()
    wrong = replace(world.site, document_roots=(DocumentRoot(path("/public_html"), f"https://{NAME}/"),))
    await world.nailer.stores.sites.update(wrong, None)
    changes = Grant(frozenset({Right.LOOK, Right.CHANGE, Right.REMOVE, Right.PERMISSIONS}))
    with acting_as(Acting(Person(99, "orla", grants={world.site.id: changes}))):
        await world.nailer.checks.addresses.prove(wrong)
    now = await world.nailer.stores.sites.get(world.site.id)
    assert [root.folder for root in now.document_roots] == [path("/public_html")]


async def test_an_account_that_shows_the_hosts_own_page_is_told(world: World, pages: Pages, names: NameHost) -> None:
    write(world.there, "index.html", "<!doctype html><title>This domain is parked</title>")
    (known,) = await world.nailer.checks.addresses.look(world.site)
    assert {way.hosts_own for way in known.ways if way.end} == {"This domain is parked"}
    write(world.there, "index.html", PAGE)
    (known,) = await world.nailer.checks.addresses.look(world.site)
    assert {way.hosts_own for way in known.ways} == {""}
