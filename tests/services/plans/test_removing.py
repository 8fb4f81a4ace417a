"""Removing: what would be gone, the word that is typed first, and what a keep mark holds back."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest

from nailer.core.compare.joint import Compare
from nailer.core.files.entry import SideName
from nailer.core.files.keeping import KeepMark
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.jobs.states import ItemState
from nailer.core.pairs.wishes import Direction, Removals, SyncWish
from nailer.core.plans.plan import Answers
from nailer.errors import FileMissing, InvalidInput
from nailer.services.plans.removal import Known
from nailer.store.sites import Site
from tests.builders import path, write
from tests.world import HERE, THERE, World

PUBLISHED = (DocumentRoot(THERE, "https://mosslane.example/"),)


async def _planned(world: World, site: Site, side: SideName, folder: SitePath, *names: str) -> tuple[int, Known]:
    raw = [name.encode() for name in names]
    job_id = await world.nailer.plans.make.removal(world.account_id, site, side, folder, raw)
    job = await world.nailer.stores.jobs.get(job_id)
    known = await world.nailer.plans.removal.known(job, site)
    return job_id, known


async def _both(world: World, *names: str) -> None:
    for name in names:
        write(world.here, name, f"of {name}")
        write(world.there, name, f"of {name}")


@pytest.mark.parametrize(
    ("side", "folder", "names", "word"),
    [
        (SideName.THERE, SitePath(), ["htdocs"], "htdocs"),
        (SideName.THERE, THERE, ["a.html", "img"], "htdocs"),
        (SideName.HERE, HERE, ["a.html", "img"], "moss"),
        (SideName.THERE, THERE, ["a.html"], ""),
    ],
)
async def test_what_is_published_goes_only_with_a_word(
    world: World, side: SideName, folder: SitePath, names: list[str], word: str
) -> None:
    await _both(world, "a.html", "img/pier.svg")
    site = replace(world.site, document_roots=PUBLISHED)

    job_id, known = await _planned(world, site, side, folder, *names)

    assert known.must_type == word
    if not word:
        return
    assert known.gone.text.startswith("2 files and ")
    job = await world.nailer.stores.jobs.get(job_id)
    for typed in ("", "else"):
        with pytest.raises(InvalidInput, match=f"Type {word}"):
            await world.nailer.plans.confirming.carry_out(job, site, Answers(), typed=typed)
    assert (world.there / "a.html").exists()
    await world.nailer.plans.confirming.carry_out(job, site, Answers(), typed=word)
    await world.ended(job_id)
    assert not ((world.there if side is SideName.THERE else world.here) / "a.html").exists()


async def test_what_lies_in_a_guarded_folder_goes_only_with_a_word(world: World) -> None:
    await _both(world, "mail/box")
    site = replace(world.site, guarded=(THERE.child(b"mail"),))

    _, known = await _planned(world, site, SideName.THERE, THERE.child(b"mail"), "box")

    assert (known.must_type, "guarded" in known.why) == ("mail", True)


async def test_what_exists_nowhere_else_goes_only_with_a_word(world: World) -> None:
    await _both(world, "a.html", "b.html")
    write(world.there, "old/only.html", "the only one")
    write(world.there, "old/empty.html", "")

    _, known = await _planned(world, world.site, SideName.THERE, THERE, "a.html", "old")

    assert (known.must_type, known.why) == ("old", "this is the only copy")
    assert known.gone.text == "3 files and 1 folder, 21 B"


async def test_what_is_kept_stays_in_a_removal_a_take_back_and_a_sync(world: World) -> None:
    await _both(world, "old/contract.html", "old/draft.html")
    mark = KeepMark(SideName.THERE, path("/htdocs/old/contract.html"), None, "the client still checks it")
    await world.nailer.files.keeping.keep(world.account_id, world.site, mark)

    await world.remove_there("old")

    assert [one.name for one in (world.there / "old").iterdir()] == ["contract.html"]

    (world.here / "old" / "contract.html").unlink()
    pair = await world.nailer.pairs.book.first_pair(world.site)
    wish = SyncWish(Direction.PUBLISH, Removals.FOLLOW)
    plan = await world.nailer.pairs.readings.read_now(world.account_id, pair, wish, Compare.SIZE_AND_TIME)
    assert plan.flow.removed_there == 0

    await world.nailer.files.keeping.let_go(world.site, SideName.THERE, mark.path)
    await world.remove_there("old")
    assert not (world.there / "old").exists()


async def test_a_mark_that_is_set_after_a_plan_was_made_holds_all_the_same(world: World) -> None:
    await _both(world, "a.html", "b.html")
    job_id, _ = await _planned(world, world.site, SideName.THERE, THERE, "a.html", "b.html")
    today = datetime.now(UTC).date()
    await world.nailer.files.keeping.keep(
        world.account_id, world.site, KeepMark(SideName.THERE, THERE.child(b"a.html"), today, "")
    )

    await world.run(job_id)

    assert ((world.there / "a.html").exists(), (world.there / "b.html").exists()) == (True, False)
    states = {item.target.name: item.state for item in await world.nailer.stores.jobs.items(job_id)}
    assert states == {b"a.html": ItemState.LEFT, b"b.html": ItemState.DONE}


async def test_a_mark_holds_a_file_that_a_plan_moves(world: World) -> None:
    await _both(world, "a.html", "b.html", "attic/x.html")
    job_id = await world.nailer.plans.make.move(
        world.account_id, world.site, SideName.THERE, THERE, [b"a.html", b"b.html"], THERE.child(b"attic")
    )
    mark = KeepMark(SideName.THERE, THERE.child(b"a.html"), datetime.now(UTC).date(), "")
    await world.nailer.files.keeping.keep(world.account_id, world.site, mark)

    await world.run(job_id)

    assert (world.there / "a.html").exists()
    assert {one.name for one in (world.there / "attic").iterdir()} == {"b.html", "x.html"}


async def test_what_is_too_large_to_keep_goes_only_with_a_word(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    """Its equal on the other side does not help: what goes there cannot be taken back."""
    await _both(world, "a.html", "b.html")
    write(world.there, "stays.html", "x")
    monkeypatch.setattr(world.nailer.plans.removal, "_keep_largest_bytes", 3)
    job_id, known = await _planned(world, world.site, SideName.THERE, THERE, "a.html", "b.html")
    assert (known.must_type, known.unkept, known.equal) == ("a.html", 2, 2)
    assert "too large for a kept copy" in known.why
    job = await world.nailer.stores.jobs.get(job_id)
    with pytest.raises(InvalidInput):
        await world.nailer.plans.confirming.carry_out(job, world.site, Answers(), typed="")
    assert (world.there / "a.html").exists()


async def test_a_mark_ends_with_its_day_and_goes_with_a_rename(world: World) -> None:
    await _both(world, "old/a.html")
    keeping, marks, old = world.nailer.files.keeping, world.nailer.stores.marks, THERE.child(b"old")
    today = datetime.now(UTC).date()
    with pytest.raises(InvalidInput, match="in the future"):
        await keeping.keep(world.account_id, world.site, KeepMark(SideName.THERE, old, today - timedelta(days=1), ""))
    await keeping.keep(world.account_id, world.site, KeepMark(SideName.THERE, old.child(b"a.html"), today, ""))

    await world.nailer.files.change.rename(world.account_id, world.site, SideName.THERE, old, b"older")

    moved = path("/htdocs/older/a.html")
    assert (await keeping.of_site(world.site.id)).own(SideName.THERE, moved)
    tomorrow = await marks.of_site(world.site.id, today + timedelta(days=1))
    assert tomorrow.because(SideName.THERE, moved) == ""


async def test_of_many_picked_names_those_of_the_other_side_are_passed_over(world: World) -> None:
    await _both(world, "a.html")
    write(world.here, "only-here.html", "here")

    await world.remove_there("a.html", "only-here.html")

    assert not (world.there / "a.html").exists()
    with pytest.raises(FileMissing):
        await world.remove_there("only-here.html")


async def test_a_removal_is_weighed_in_windows_as_in_one(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    """What a rule must know of single names is found in whichever window it stands."""
    await _both(world, *(f"d{number}/a.html" for number in range(7)))
    write(world.there, "d6/only.html", "nowhere else")
    write(world.there, "stays.html", "x")
    names = [f"d{number}" for number in range(7)]
    _, in_one = await _planned(world, world.site, SideName.THERE, THERE, *names)
    monkeypatch.setattr("nailer.store.jobs._READ_AT_ONCE", 2)
    monkeypatch.setattr("nailer.services.plans.removal._MOST_FOLDERS", 3)
    _, in_many = await _planned(world, world.site, SideName.THERE, THERE, *names)

    assert (in_one.must_type, in_one.why) == ("d6", "this is the only copy")
    assert in_one.gone == in_many.gone
    assert (in_one.equal, in_one.not_looked) == (7, 0)
    assert (in_many.equal, in_many.not_looked) == (3, 5), "files of other folders are not called safe"
    assert in_many.must_type == "d3"
    assert "does not know whether other copies exist" in in_many.why
