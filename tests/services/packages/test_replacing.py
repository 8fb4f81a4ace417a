"""A version takes the place of another on a real server: proved before, two renames, read back, and one step back."""

from __future__ import annotations

import asyncio
import random
from collections import Counter
from dataclasses import replace
from shutil import rmtree

import pytest

from nailer.acting import Acting, acting_as
from nailer.core.check.live import Fetched
from nailer.core.files.entry import Entry, SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.packages.replacing import Fate, Take
from nailer.core.packages.tested import PageTest
from nailer.core.people.rights import Grant, Person, Right
from nailer.errors import Conflict, InvalidInput, NotAllowed, NotFound, PermissionRefused, RenameRefused, UnderWay
from nailer.services.packages import Replacement, ReplacementState
from nailer.services.packages.replacing.pages import ReplacementPages
from nailer.sides.sftp.changing import Changing
from nailer.sides.sftp.side import SftpSide
from nailer.sides.side import Side
from nailer.standins.pages import Pages
from nailer.store.sites import Site
from tests.builders import path, tree, write
from tests.services.packages.test_copies import look, taken
from tests.services.packages.versions import (
    NEW,
    OLD,
    SKIN,
    archive,
    back,
    below,
    carried_out,
    choose,
    fates,
    lay_out,
    planned,
    read,
    sent,
)
from tests.world import World


async def test_a_version_takes_the_place_of_another_and_goes_back(world: World, pages: Pages) -> None:
    top = lay_out(world)
    write(world.there, "skins/harbour/media/pier.jpg", "by hand").chmod(0o600)
    before = look(world.there)
    plan = await planned(world)
    assert (plan.one.old_version, plan.one.new_version, plan.base) == ("1.9", "1.10", None)
    assert fates(plan) == {
        "img/gull.svg": Fate.SAME,
        "lib/new.js": Fate.ADDED,
        "lib/old.js": Fate.UNSURE,
        "lib/tides.js": Fate.SAME,
        "media/pier.jpg": Fate.UNSURE,
        "skin.json": Fate.CHANGED,
        "style.css": Fate.CHANGED,
    }
    with pytest.raises(InvalidInput, match=r"1 item, first lib/old\.js"):
        await world.nailer.packages.replacing.carry_out(world.account_id, world.site, plan.one.id)
    one = await carried_out(world, await choose(world, plan, old=Take.LEAVE))
    assert one.state is ReplacementState.IN_PLACE, one.words
    now = tree(top)
    assert now == {name: content.encode() for name, content in NEW.items()} | {"media/pier.jpg": b"by hand"}
    assert (top / "media" / "pier.jpg").stat().st_mode & 0o777 == 0o600
    assert one.kept is not None
    assert (top.parent / one.kept.name.decode() / "lib" / "old.js").exists()
    assert one.can_go_back

    one = await back(world, one.id)
    assert one.state is ReplacementState.BACK, one.words
    assert look(world.there) == before
    with pytest.raises(Conflict):
        await world.nailer.packages.replacing.back(world.account_id, world.site, one.id)


@pytest.mark.parametrize("seed", range(6))
async def test_replaced_and_back_is_the_identity(world: World, pages: Pages, seed: int) -> None:
    """Any two versions, any choices: back is byte for byte, permissions and links, what it was."""
    noise = random.Random(seed)
    names = [
        f"{folder}file-{number}.{ending}"
        for folder in ("", "a/", "a/b/")
        for number in range(3)
        for ending in ("js", "png")
    ]

    def version(number: str) -> dict[str, str]:
        files = {name: noise.choice("xyz") * noise.randrange(1, 2000) for name in names if noise.random() < 0.7}
        return files | {"skin.json": f'{{"name": "Harbour", "version": "{number}"}}'}

    top = lay_out(world, version("1.9"))
    for one in top.rglob("*"):
        if one.is_file():
            one.chmod(noise.choice((0o644, 0o600, 0o755)))
    (top / "link").symlink_to("skin.json")
    (top / "empty").mkdir()
    before = look(world.there)
    plan = await planned(world, version("1.10"))
    wanted = {row.below: noise.choice(row.may) for row in plan.rows if row.advised is None or noise.random() < 0.5}
    plan = await world.nailer.packages.replacing.choose(world.site, plan.one.id, wanted)
    assert plan.undecided == 0
    one = await carried_out(world, plan)
    assert one.state is ReplacementState.IN_PLACE, one.words
    for row in plan.rows:
        if row.taken(plan.one.choices) in (Take.CARRY, Take.OLD) and row.old is not None:
            there = b"/".join(row.below).decode()
            assert look(top)[there] == before[f"skins/harbour/{there}"], "carried over, and as it was"
    assert (await back(world, one.id)).state is ReplacementState.BACK
    assert look(world.there) == before


async def test_hand_edits_are_told_by_what_was_delivered_and_joined(world: World, pages: Pages) -> None:
    """The first replacement keeps what it delivered; the second knows by it what was edited by hand."""
    top = lay_out(world, OLD | {"skin.json": '{"name": "Harbour", "version": "1.8"}'})
    one = await carried_out(world, await choose(world, await planned(world, OLD), old=Take.NEW))
    assert one.state is ReplacementState.IN_PLACE, one.words
    (top / "style.css").write_text(OLD["style.css"].replace("teal", "navy"))
    (top / "lib" / "tides.js").write_text("tides(2)\n")
    write(world.there, "skins/harbour/notes.php", "<?php // ours\n")
    plan = await planned(world)
    assert plan.base is not None
    assert fates(plan) == {
        "img/gull.svg": Fate.SAME,
        "lib/new.js": Fate.ADDED,
        "lib/old.js": Fate.LEFTOVER,
        "lib/tides.js": Fate.EDITED,
        "notes.php": Fate.OWN,
        "skin.json": Fate.CHANGED,
        "style.css": Fate.MERGED,
    }
    one = await carried_out(world, plan)
    assert one.state is ReplacementState.IN_PLACE, one.words
    assert (top / "style.css").read_text() == NEW["style.css"].replace("teal", "navy")
    assert (top / "lib" / "tides.js").read_text() == "tides(2)\n"
    assert (top / "notes.php").exists()
    assert not (top / "lib" / "old.js").exists()


async def test_edits_in_the_same_place_are_decided_before(world: World, pages: Pages) -> None:
    top = lay_out(world, OLD | {"skin.json": '{"name": "Harbour", "version": "1.8"}'})
    await carried_out(world, await choose(world, await planned(world, OLD), old=Take.NEW))
    (top / "style.css").write_text(OLD["style.css"].replace("top: 0", "top: 9px"))
    plan = await planned(world)
    replacing = world.nailer.packages.replacing
    assert fates(plan)["style.css"] is Fate.CLASH
    assert plan.undecided == 1
    with pytest.raises(InvalidInput, match="Resolve its conflicts"):
        await replacing.choose(world.site, plan.one.id, {below("style.css"): Take.JOINED})
    await replacing.plans.join(plan.one, below("style.css"), "both { }\n")
    one = await carried_out(world, plan)
    assert one.state is ReplacementState.IN_PLACE, one.words
    assert (top / "style.css").read_text() == "both { }\n"


async def test_what_makes_a_page_worse_is_put_back_by_itself(world: World, pages: Pages) -> None:
    lay_out(world, OLD | {"part.sh": "true\n"})
    page = "#!/bin/sh\nset -e\n. ../skins/harbour/part.sh\nprintf 'Content-Type: text/html\\n\\nPier'\n"
    write(world.there, "index.cgi", page).chmod(0o755)
    write(world.there, ".htaccess", "DirectoryIndex index.cgi\nAddHandler cgi-script .cgi\n")
    ways = await world.nailer.editing.saving.ways(world.site.id)
    write(world.there, "cgi-bin/board.cgi", page).chmod(0o755)
    watched = replace(ways, watched=("https://mosslane.example/cgi-bin/board.cgi",))
    await world.nailer.editing.saving.write_ways(world.site.id, watched)
    before = look(world.there)
    plan = await planned(world, NEW | {"part.sh": "exit 3\n"})
    one = await carried_out(world, await choose(world, plan, old=Take.CARRY))
    assert one.state is ReplacementState.BACK, one
    assert "answers 500" in one.words
    assert look(world.there) == before


async def test_a_package_that_changed_since_it_was_read_is_read_again(world: World, pages: Pages) -> None:
    top = lay_out(world)
    plan = await choose(world, await planned(world), old=Take.DROP)
    (top / "lib" / "tides.js").write_text("changed by somebody else\n")
    replacing = world.nailer.packages.replacing
    with pytest.raises(Conflict, match="reads it again"):
        await replacing.carry_out(world.account_id, world.site, plan.one.id)
    plan = await read(world, plan.one.id)
    assert fates(plan)["lib/tides.js"] is Fate.EDITED, "it was another when it was read first"
    assert fates(plan)["lib/old.js"] is Fate.UNSURE, "it was there then, whoever put it there"
    assert (await carried_out(world, plan)).state is ReplacementState.IN_PLACE


async def test_what_changes_while_it_is_built_stops_it_with_nothing_replaced(
    world: World, pages: Pages, monkeypatch: pytest.MonkeyPatch
) -> None:
    top = lay_out(world)
    plan = await choose(world, await planned(world), old=Take.DROP)
    runs = world.nailer.packages.replacing.runs
    proved = runs._proved

    async def _then_changes(one: Replacement, side: Side) -> None:
        await asyncio.to_thread((top / "lib" / "tides.js").write_text, "changed meanwhile\n")
        await proved(one, side)

    with monkeypatch.context() as patched:
        patched.setattr(runs, "_proved", _then_changes)
        one = await carried_out(world, plan)
    assert one.state is ReplacementState.FAILED
    assert "changed since it was read" in one.words
    assert (top / "lib" / "old.js").exists()
    replacing = world.nailer.packages.replacing
    await replacing.reopen(world.site, one.id)
    plan = await read(world, one.id)
    assert [each.name for each in top.parent.iterdir()] == ["harbour"], "what was built is gone"
    assert (await carried_out(world, plan)).state is ReplacementState.IN_PLACE
    assert tree(top)["lib/tides.js"] == b"changed meanwhile\n", (
        "it is a hand edit, and the new version did not change it"
    )


async def test_what_was_built_otherwise_than_wanted_never_comes(
    world: World, pages: Pages, monkeypatch: pytest.MonkeyPatch
) -> None:
    top = lay_out(world)
    plan = await choose(world, await planned(world), old=Take.DROP)
    runs = world.nailer.packages.replacing.runs
    proved = runs._proved

    async def _then_spoiled(one: Replacement, side: Side) -> None:
        assert one.fresh is not None
        await asyncio.to_thread((top.parent / one.fresh.name.decode() / "lib" / "new.js").unlink)
        await proved(one, side)

    with monkeypatch.context() as patched:
        patched.setattr(runs, "_proved", _then_spoiled)
        one = await carried_out(world, plan)
    assert (one.state, "lib/new.js is not there" in one.words) == (ReplacementState.FAILED, True)
    assert (top / "lib" / "old.js").exists()
    await world.nailer.packages.replacing.drop(world.site, one.id)
    assert [each.name for each in top.parent.iterdir()] == ["harbour"]


async def test_another_package_is_refused(world: World, pages: Pages) -> None:
    lay_out(world)
    tides = {"addon.json": '{"name": "Tides", "version": "2.0"}'}
    with pytest.raises(InvalidInput, match=r"This is Tides 2\.0; what is there is Harbour 1\.9"):
        await planned(world, tides, "tides/", "tides.zip")
    with pytest.raises(InvalidInput, match="declares no version"):
        await planned(world, {"readme.txt": "x"}, "", "readme.zip")
    with pytest.raises(InvalidInput, match="several packages"):
        await planned(
            world, {"a/skin.json": '{"name": "A", "version": "1"}', "b/skin.json": '{"name": "B", "version": "1"}'}
        )


async def test_an_older_version_and_one_of_another_name_are_said(world: World, pages: Pages) -> None:
    lay_out(world)
    plan = await planned(world, NEW | {"skin.json": '{"name": "Harbour two", "version": "1.8"}'})
    assert "1.9 to 1.8: this goes back to an older version." in plan.one.notes
    assert "The new version is called Harbour two, the current one Harbour." in plan.one.notes


async def test_one_with_two_folders_around_it_and_one_with_none_are_understood(world: World, pages: Pages) -> None:
    lay_out(world)
    for top in ("", "download/harbour/"):
        plan = await planned(world, NEW, top)
        assert plan.one.new_version == "1.10"
        await world.nailer.packages.replacing.drop(world.site, plan.one.id)


async def test_a_package_is_installed_and_taken_away_again(world: World, pages: Pages) -> None:
    lay_out(world)
    before = look(world.there)
    packages = world.nailer.packages
    tides = {"addon.json": '{"name": "Tides", "version": "2.0"}', "js/tides.js": "tide()\n"}
    source = await packages.sources.dropped("tides-2.0.zip", sent(archive(tides, "tides-2.0/")), None)
    number = await packages.replacing.install(world.account_id, world.site, path("/htdocs/skins"), source)
    one = await carried_out(world, await read(world, number))
    assert one.state is ReplacementState.IN_PLACE, one.words
    assert tree(world.there / "skins" / "tides") == {name: text.encode() for name, text in tides.items()}

    with pytest.raises(Conflict, match="there already"):
        again = await packages.sources.dropped("tides-2.0.zip", sent(archive(tides, "tides/")), None)
        await packages.replacing.install(world.account_id, world.site, path("/htdocs/skins"), again)

    old = await packages.replacing.there(world.site, path("/htdocs/skins/tides"))
    installed = look(world.there)
    plan = await read(world, await packages.replacing.remove(world.account_id, world.site, old))
    with pytest.raises(InvalidInput, match="Type tides"):
        await packages.replacing.carry_out(world.account_id, world.site, plan.one.id)
    gone = await carried_out(world, plan, typed="tides")
    assert gone.state is ReplacementState.IN_PLACE, gone.words
    assert not (world.there / "skins" / "tides").exists()
    assert (await back(world, gone.id)).state is ReplacementState.BACK
    assert look(world.there) == installed
    assert (await back(world, one.id)).state is ReplacementState.BACK
    assert look(world.there) == before


@pytest.mark.parametrize("seed", range(10))
async def test_one_that_is_killed_goes_on_and_ends_whole(world: World, pages: Pages, seed: int) -> None:
    """Killed after a random number of steps of the event loop and begun anew: the new one is in place, the old one kept."""
    top = lay_out(world)
    plan = await choose(world, await planned(world), old=Take.DROP)
    replacing = world.nailer.packages.replacing
    await replacing.carry_out(world.account_id, world.site, plan.one.id)
    await asyncio.sleep(random.Random(seed).random() * 0.4)
    await world.nailer.engine.work.stop()
    one = await replacing.get(world.site, plan.one.id)
    assert tree(top) in ({n: c.encode() for n, c in OLD.items()}, {n: c.encode() for n, c in NEW.items()})
    if one.state is not ReplacementState.IN_PLACE:
        await world.nailer.engine.work.start()
        await replacing.runs.wait(world.site.id)
        one = await replacing.get(world.site, plan.one.id)
    assert one.state is ReplacementState.IN_PLACE, one.words
    assert tree(top) == {name: content.encode() for name, content in NEW.items()}
    assert one.kept is not None
    assert tree(top.parent / one.kept.name.decode()) == {name: content.encode() for name, content in OLD.items()}


async def test_a_second_rename_that_is_refused_takes_the_first_back(
    world: World, pages: Pages, monkeypatch: pytest.MonkeyPatch
) -> None:
    top = lay_out(world)
    plan = await choose(world, await planned(world), old=Take.DROP)
    rename = Changing._rename

    async def _refuses(side: Changing, old: SitePath, new: SitePath, was: Entry, *, over: bool = False) -> None:
        if new == SKIN and b".new-" in old.name:
            raise RenameRefused("The server does not allow renaming {path}.", path=old)
        await rename(side, old, new, was, over=over)

    with monkeypatch.context() as patched:
        patched.setattr(Changing, "_rename", _refuses)
        one = await carried_out(world, plan)
    assert one.state is ReplacementState.FAILED
    assert tree(top) == {name: content.encode() for name, content in OLD.items()}
    await world.nailer.packages.replacing.go_on(world.account_id, world.site, one.id)
    await world.nailer.packages.replacing.runs.wait(world.site.id)
    one = await world.nailer.packages.replacing.get(world.site, one.id)
    assert one.state is ReplacementState.IN_PLACE, one.words


async def test_one_by_one_where_folders_are_not_renamed(world: World, pages: Pages) -> None:
    top = lay_out(world)
    write(world.there, "skins/harbour/media/pier.jpg", "by hand")
    before = tree(world.there)
    plan = await choose(world, await planned(world), old=Take.DROP)
    replacing = world.nailer.packages.replacing
    plan = await replacing.in_place(world.site, plan.one.id, wanted=True)
    one = await carried_out(world, plan)
    assert one.state is ReplacementState.IN_PLACE, one.words
    assert tree(top) == {name: text.encode() for name, text in NEW.items()} | {"media/pier.jpg": b"by hand"}
    assert [each.name for each in top.parent.iterdir()] == ["harbour"]
    assert (await back(world, one.id)).state is ReplacementState.BACK
    assert tree(world.there) == before


async def test_who_sees_a_part_of_the_site_or_may_not_change_it_replaces_nothing(world: World, pages: Pages) -> None:
    lay_out(world)
    plan = await planned(world)
    replacing = world.nailer.packages.replacing
    old = await replacing.there(world.site, SKIN)
    part = Grant(frozenset(Right), path("/htdocs/skins"), path("/studio/moss"))
    for grant in (part, Grant(frozenset({Right.LOOK, Right.DOWNLOAD}))):
        with acting_as(Acting(Person(99, "orla", grants={world.site.id: grant}))):
            with pytest.raises(NotAllowed):
                await replacing.choose(world.site, plan.one.id, {})
            with pytest.raises(NotAllowed):
                await replacing.carry_out(world.account_id, world.site, plan.one.id)
            with pytest.raises(NotAllowed):
                await replacing.remove(world.account_id, world.site, old)


async def test_two_at_once_on_one_site_are_refused(world: World, pages: Pages) -> None:
    lay_out(world)
    plan = await choose(world, await planned(world), old=Take.DROP)
    replacing = world.nailer.packages.replacing
    await replacing.carry_out(world.account_id, world.site, plan.one.id)
    with pytest.raises(UnderWay):
        await planned(world)
    await replacing.runs.wait(world.site.id)
    with pytest.raises(Conflict, match="carried out already"):
        await replacing.carry_out(world.account_id, world.site, plan.one.id)


async def test_while_it_is_exchanged_every_answer_is_the_old_one_or_the_new_one(world: World, pages: Pages) -> None:
    lay_out(world, OLD | {"img/gull.svg": "old " * 20_000})
    plan = await planned(world, NEW | {"img/gull.svg": "new " * 20_000})
    plan = await choose(world, plan, old=Take.DROP)
    met: Counter[bytes] = Counter()
    ended = asyncio.Event()

    async def _visits() -> None:
        while not ended.is_set():
            answer, content = await world.nailer.editing.live_check.content(
                "https://mosslane.example/skins/harbour/img/gull.svg"
            )
            whole = len(content) == 80_000 and len(set(content.split())) == 1
            met[content[:3] if answer.status == 200 and whole else b"%d" % (answer.status or 0)] += 1

    visitors = [asyncio.create_task(_visits()) for _ in range(3)]
    one = await carried_out(world, plan)
    ended.set()
    await asyncio.gather(*visitors)
    assert one.state is ReplacementState.IN_PLACE, one.words
    assert met[b"old"] > 0, met
    assert met[b"new"] > 0, met
    assert met.total() - met[b"old"] - met[b"new"] <= 1, met


async def test_what_an_exchange_did_goes_back_as_a_whole_or_not_at_all(world: World, pages: Pages) -> None:
    """No button of the history takes a package apart: neither its renames, nor what was built for it."""
    lay_out(world)
    write(world.here, "news.html", "news")
    await world.upload("news.html")
    one = await carried_out(world, await choose(world, await planned(world), old=Take.DROP))
    changes = await world.nailer.stores.changes.latest(world.site.id, limit=100)
    mine = [change for change in changes if change.is_of_packages]
    assert len(mine) == len(changes) - 1
    assert not any(change.can_be_taken_back for change in mine)
    take_back = world.nailer.plans.take_back
    for change in mine[:2]:
        with pytest.raises(Conflict):
            await take_back.take_change_back(world.account_id, world.site, change)
    with pytest.raises(Conflict, match="Packages page"):
        await take_back.take_job_back(world.account_id, one.job_id or 0)
    after = look(world.there / "skins")
    job = await world.run(await take_back.take_back_since(world.account_id, world.site, changes[-1]))
    assert job.state == "done", job
    assert look(world.there / "skins") == after
    assert not (world.there / "news.html").exists()


async def test_one_that_no_page_refers_to_goes_without_a_word(world: World, pages: Pages) -> None:
    lay_out(world)
    write(world.there, "index.html", '<link rel="stylesheet" href="/skins/harbour/style.css">')
    write(world.there, "skins/unused/skin.json", '{"name": "Unused", "version": "1"}')
    replacing = world.nailer.packages.replacing
    await world.nailer.checks.reader.begin(world.account_id, world.site)
    await world.nailer.checks.reader.wait(world.site.id)
    used = await replacing.there(world.site, SKIN)
    plan = await read(world, await replacing.remove(world.account_id, world.site, used))
    assert plan.one.notes == ("Pages of this site use it and will no longer have it.",)
    with pytest.raises(InvalidInput, match="Type harbour"):
        await replacing.carry_out(world.account_id, world.site, plan.one.id)
    await replacing.drop(world.site, plan.one.id)
    unused = await replacing.there(world.site, path("/htdocs/skins/unused"))
    plan = await read(world, await replacing.remove(world.account_id, world.site, unused))
    assert plan.one.notes == ()
    assert (await carried_out(world, plan)).state is ReplacementState.IN_PLACE


async def stuck_between(world: World, monkeypatch: pytest.MonkeyPatch) -> Replacement:
    """The old one went aside, and the server lets neither the new nor the old one have the name."""
    lay_out(world)
    plan = await choose(world, await planned(world), old=Take.DROP)
    rename = Changing._rename

    async def _refuses(side: Changing, old: SitePath, new: SitePath, was: Entry, *, over: bool = False) -> None:
        if new == SKIN:
            raise RenameRefused("The server does not allow renaming {path}.", path=old)
        await rename(side, old, new, was, over=over)

    with monkeypatch.context() as patched:
        patched.setattr(Changing, "_rename", _refuses)
        one = await carried_out(world, plan)
    assert one.state is ReplacementState.FAILED
    assert not (world.there / "skins" / "harbour").exists()
    return one


async def test_one_that_stands_between_two_names_goes_on(
    world: World, pages: Pages, monkeypatch: pytest.MonkeyPatch
) -> None:
    one = await stuck_between(world, monkeypatch)
    replacing = world.nailer.packages.replacing
    await replacing.go_on(world.account_id, world.site, one.id)
    await replacing.runs.wait(world.site.id)
    one = await replacing.get(world.site, one.id)
    assert one.state is ReplacementState.IN_PLACE, one.words
    assert tree(world.there / "skins" / "harbour") == {name: text.encode() for name, text in NEW.items()}


@pytest.mark.parametrize("again", [False, True], ids=["given up", "read again"])
async def test_one_that_stands_between_two_names_gets_its_old_one_back(
    world: World, pages: Pages, monkeypatch: pytest.MonkeyPatch, again: bool
) -> None:
    one = await stuck_between(world, monkeypatch)
    replacing = world.nailer.packages.replacing
    if again:
        await replacing.reopen(world.site, one.id)
        await read(world, one.id)
    else:
        await replacing.drop(world.site, one.id)
    assert [each.name for each in (world.there / "skins").iterdir()] == ["harbour"]
    assert tree(world.there / "skins" / "harbour") == {name: text.encode() for name, text in OLD.items()}


async def test_two_who_carry_it_out_at_once_do_it_once(world: World, pages: Pages) -> None:
    lay_out(world)
    plan = await choose(world, await planned(world), old=Take.DROP)
    replacing = world.nailer.packages.replacing
    both = [replacing.carry_out(world.account_id, world.site, plan.one.id) for _ in range(2)]
    ended = await asyncio.gather(*both, return_exceptions=True)
    assert sorted(type(one).__name__ for one in ended) == ["NoneType", "UnderWay"]
    await replacing.runs.wait(world.site.id)
    assert (await replacing.get(world.site, plan.one.id)).state is ReplacementState.IN_PLACE
    assert len(await world.nailer.stores.jobs.ended()) == 1


async def test_one_by_one_that_stops_half_way_is_put_back(
    world: World, pages: Pages, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A mixed state never stays: what was replaced before the rest was refused has its old content again."""
    top = lay_out(world)
    before = tree(world.there)
    plan = await choose(world, await planned(world), old=Take.DROP)
    replacing = world.nailer.packages.replacing
    plan = await replacing.in_place(world.site, plan.one.id, wanted=True)
    remove = SftpSide.remove_file

    async def _refuses(side: SftpSide, path: SitePath) -> None:
        if path.name == b"old.js":
            raise PermissionRefused("{path} may not be removed.", path=path)
        await remove(side, path)

    with monkeypatch.context() as patched:
        patched.setattr(SftpSide, "remove_file", _refuses)
        one = await carried_out(world, plan)
    assert one.state is ReplacementState.BACK, one.words
    assert "could not all be removed" in one.words
    assert tree(world.there) == before
    assert (top / "lib" / "old.js").exists()


async def test_what_is_let_go_cannot_be_put_back_and_that_is_said(world: World, pages: Pages) -> None:
    lay_out(world)
    one = await carried_out(world, await choose(world, await planned(world), old=Take.LEAVE))
    assert one.kept is not None
    assert await world.nailer.packages.replacing.plans.left(one) == 1
    job_id = await world.nailer.plans.make.removal(
        world.account_id, world.site, SideName.THERE, one.kept.parent, [one.kept.name]
    )
    await world.run(job_id)
    replacing = world.nailer.packages.replacing
    assert not (await replacing.look_again(world.site, one.id)).can_go_back
    with pytest.raises(Conflict, match="verified copy"):
        await replacing.back(world.account_id, world.site, one.id)


async def test_what_is_refused_leaves_nothing_unpacked(world: World, pages: Pages) -> None:
    lay_out(world)
    spool = world.nailer.plans.archives.spool
    with pytest.raises(InvalidInput):
        await planned(world, {"addon.json": '{"name": "Tides", "version": "2.0"}'}, "tides/", "tides.zip")
    await planned(world)
    assert list(spool.iterdir()) == []


async def test_an_earlier_copy_of_the_site_tells_what_was_edited_since(world: World, pages: Pages) -> None:
    top = lay_out(world)
    await taken(world)
    (top / "lib" / "tides.js").write_text("tides(2)\n")
    plan = await planned(world)
    assert plan.base is not None
    assert plan.base.path == world.top
    assert fates(plan)["lib/tides.js"] is Fate.EDITED
    assert fates(plan)["lib/old.js"] is Fate.UNSURE, "it was there already, whoever put it there"


async def test_a_large_file_that_stays_is_copied_by_the_server_and_not_sent_again(
    world: World, pages: Pages, monkeypatch: pytest.MonkeyPatch
) -> None:
    top = lay_out(world)
    write(world.there, "skins/harbour/media/film.mp4", "reel " * 60_000)
    plan = await choose(world, await planned(world), old=Take.DROP)
    copy, copied = SftpSide.copy, []

    async def _counts(side: SftpSide, source: SitePath, target: SitePath) -> bool:
        copied.append((source, await copy(side, source, target)))
        return copied[-1][1]

    with monkeypatch.context() as patched:
        patched.setattr(SftpSide, "copy", _counts)
        one = await carried_out(world, plan)
    assert one.state is ReplacementState.IN_PLACE, one.words
    assert copied == [(SKIN.join((b"media", b"film.mp4")), True)]
    assert (top / "media" / "film.mp4").read_text() == "reel " * 60_000


async def test_the_version_that_is_read_back_is_that_of_the_file_that_was_taken(world: World, pages: Pages) -> None:
    """Who keeps an edited file that says the version keeps its version: nothing is wrong with that."""
    top = lay_out(world)
    await taken(world)
    (top / "skin.json").write_text('{"name": "Harbour", "version": "1.9", "ours": true}')
    plan = await planned(world)
    wanted = {below("skin.json"): Take.OLD, below("lib/old.js"): Take.DROP}
    plan = await world.nailer.packages.replacing.choose(world.site, plan.one.id, wanted)
    one = await carried_out(world, plan)
    assert one.state is ReplacementState.IN_PLACE, one.words
    assert "ours" in (top / "skin.json").read_text()
    assert (top / "lib" / "new.js").exists()


async def test_other_pages_say_what_the_package_is_now(world: World, pages: Pages) -> None:
    lay_out(world)
    book = world.nailer.packages.book
    await book.seen(world.site)
    one = await carried_out(world, await choose(world, await planned(world), old=Take.DROP))
    assert [each.text for each in await book.known(world.site)] == ["Harbour 1.10"]
    await back(world, one.id)
    assert [each.text for each in await book.known(world.site)] == ["Harbour 1.9"]


async def test_a_search_and_a_replacement_keep_out_of_each_others_way(world: World, pages: Pages) -> None:
    lay_out(world)
    packages = world.nailer.packages
    plan = await choose(world, await planned(world), old=Take.DROP)
    await packages.searching.begin(world.account_id, world.site, PageTest("https://mosslane.example/"), [SKIN])
    with pytest.raises(UnderWay, match="search"):
        await packages.replacing.carry_out(world.account_id, world.site, plan.one.id)
    await packages.searching.give_up(world.site)
    await packages.replacing.carry_out(world.account_id, world.site, plan.one.id)
    with pytest.raises(UnderWay, match="replaced"):
        await packages.searching.begin(world.account_id, world.site, PageTest("https://mosslane.example/"), [SKIN])
    await packages.replacing.runs.wait(world.site.id)


async def test_a_version_comes_from_a_folder_here_or_of_another_site(world: World, pages: Pages) -> None:
    lay_out(world)
    for name, content in NEW.items():
        write(world.here, f"skins/harbour/{name}", content)
        write(world.there.parent, f"elsewhere/harbour/{name}", content)
    packages = world.nailer.packages
    old = await packages.replacing.there(world.site, SKIN)
    sources = (
        await packages.sources.here(world.site, path("/studio/moss/skins/harbour"), old),
        await packages.sources.elsewhere(world.site.id, path("/elsewhere/harbour"), old),
    )
    for source in sources:
        plan = await read(world, await packages.replacing.replace(world.account_id, world.site, old, source))
        assert (plan.one.new_version, fates(plan)["lib/new.js"]) == ("1.10", Fate.ADDED)
        one = await carried_out(world, await choose(world, plan, old=Take.DROP))
        assert one.state is ReplacementState.IN_PLACE, one.words
        assert (await back(world, one.id)).state is ReplacementState.BACK


async def test_a_document_root_is_no_package_to_be_renamed(world: World, pages: Pages) -> None:
    write(world.there, "VERSION", "1.9\n")
    replacing = world.nailer.packages.replacing
    old = await replacing.there(world.site, world.top)
    with pytest.raises(InvalidInput, match="folder of a web address"):
        await replacing.remove(world.account_id, world.site, old)


async def test_an_archive_whose_name_says_another_version_than_its_files_tells_no_edits(
    world: World, pages: Pages
) -> None:
    top = lay_out(world)
    (top / "lib" / "tides.js").write_text("tides(2)\n")
    (world.here / "skins").mkdir()
    (world.here / "skins" / "harbour-1.9.zip").write_bytes(archive(NEW))
    assert (await planned(world)).base is None
    (world.here / "skins" / "harbour-1.9.zip").write_bytes(archive(OLD))
    plan = await planned(world)
    assert plan.base is not None
    assert fates(plan)["lib/tides.js"] is Fate.EDITED


async def test_the_old_one_goes_back_where_somebody_took_the_new_one_away_by_hand(world: World, pages: Pages) -> None:
    top = lay_out(world)
    before = look(world.there)
    one = await carried_out(world, await choose(world, await planned(world), old=Take.DROP))
    rmtree(top)
    one = await back(world, one.id)
    assert one.state is ReplacementState.BACK, one.words
    assert look(world.there) == before


async def test_a_copy_that_somebody_forgets_keeps_nobody_from_going_back(world: World, pages: Pages) -> None:
    """What the hand edits were told by may be forgotten: the plan stays readable, and the old one goes back."""
    top = lay_out(world)
    site_copy = await taken(world)
    (top / "lib" / "tides.js").write_text("tides(2)\n")
    before = look(world.there)
    plan = await planned(world)
    assert plan.base is not None
    one = await carried_out(world, await choose(world, plan, old=Take.DROP))
    packages = world.nailer.packages
    await packages.copies.drop(world.site, site_copy.id)
    packages.replacing.plans.forget(one.id)
    assert (await packages.replacing.plans.of(one)).base is None
    assert (await back(world, one.id)).state is ReplacementState.BACK
    assert look(world.there) == before


async def test_what_was_delivered_for_a_plan_that_is_given_up_is_let_go(world: World, pages: Pages) -> None:
    lay_out(world)
    replacing, copies = world.nailer.packages.replacing, world.nailer.stores.copies
    first, second = await planned(world), await planned(world)
    await replacing.drop(world.site, first.one.id)
    with pytest.raises(NotFound):
        await copies.get(world.site.id, first.one.new_copy_id or 0)
    assert (await copies.get(world.site.id, second.one.new_copy_id or 0)).version == "1.10"
    assert (await carried_out(world, await choose(world, second, old=Take.DROP))).state is ReplacementState.IN_PLACE


async def test_an_original_that_is_refused_leaves_nothing_unpacked(world: World, pages: Pages) -> None:
    lay_out(world)
    plan = await planned(world)
    packages = world.nailer.packages
    old = await packages.replacing.there(world.site, SKIN)
    source = await packages.sources.dropped("harbour-1.10.zip", sent(archive(NEW)), old)
    with pytest.raises(InvalidInput, match="Upload exactly the version"):
        await packages.replacing.original(world.account_id, world.site, plan.one.id, source)
    assert list(world.nailer.plans.archives.spool.iterdir()) == []


async def test_choices_of_two_pages_at_once_both_hold(world: World, pages: Pages) -> None:
    """Each page sends what it decided; neither takes back what the other one did."""
    old = OLD | {f"lib/old{number}.js": "old()\n" for number in range(12)}
    lay_out(world, old)
    plan = await planned(world)
    replacing = world.nailer.packages.replacing
    unsure = [row.below for row in plan.rows if row.advised is None]
    assert len(unsure) == 13
    await asyncio.gather(
        *(replacing.choose(world.site, plan.one.id, {below: Take.DROP}) for below in unsure),
        replacing.in_place(world.site, plan.one.id, wanted=True),
    )
    one = await replacing.get(world.site, plan.one.id)
    assert one.in_place
    assert one.choices == dict.fromkeys(unsure, Take.DROP)


async def test_a_plan_that_was_decided_otherwise_since_is_not_carried_out(
    world: World, pages: Pages, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Another page chooses between the look and the start: what is begun is what was shown, or nothing."""
    top = lay_out(world)
    plan = await choose(world, await planned(world), old=Take.DROP)
    replacing = world.nailer.packages.replacing
    answers = ReplacementPages.answers

    async def _and_somebody_chooses(self: ReplacementPages, site: Site) -> list[Fetched]:
        await replacing.choose(world.site, plan.one.id, {below("lib/old.js"): Take.CARRY})
        return await answers(self, site)

    monkeypatch.setattr(ReplacementPages, "answers", _and_somebody_chooses)
    with pytest.raises(Conflict, match="decided in this plan in the meantime"):
        await replacing.carry_out(world.account_id, world.site, plan.one.id)
    one = await replacing.get(world.site, plan.one.id)
    assert (one.state, one.job_id) == (ReplacementState.PLANNED, None)
    assert tree(top) == {name: text.encode() for name, text in OLD.items()}
    assert await world.nailer.stores.jobs.ended() == []
