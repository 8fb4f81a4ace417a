"""Packages and copies over FTP, as servers there are: what they refuse tells little, and not every one sets permissions."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from pathlib import Path

import pytest

from nailer.core.connecting.protocol import Protocol
from nailer.core.packages.replacing import Take
from nailer.core.work.states import CopyState
from nailer.errors import Conflict, FileMissing
from nailer.services.packages import ReplacementState
from nailer.sides.ftp.line import FtpLine
from nailer.sides.ftp.replies import Reply
from nailer.standins.ftp import FtpHost
from tests.builders import path, tree, write
from tests.services.packages import versions
from tests.world import World, a_world_on

PACKAGE = path("/htdocs/add-ons/tides")


@pytest.fixture(params=[(), ("MLSD", "MLST", "MFMT", "SITE CHMOD")], ids=["new", "old"])
async def by_ftp(request, tmp_path: Path, database, migrated_url) -> AsyncIterator[World]:  # type: ignore[no-untyped-def]
    root = tmp_path / "there"
    (root / "htdocs").mkdir(parents=True)
    host = FtpHost(root, "seedlib", "sow-and-reap", lacks=request.param)
    await host.start()
    try:
        async with a_world_on(host, tmp_path, migrated_url, root / "htdocs", protocol=Protocol.FTP) as world:
            yield world
    finally:
        await host.stop()


def lay_out(world: World) -> dict[str, bytes]:
    write(world.there, "add-ons/tides/addon.json", '{"name": "Tides", "version": "1.9"}')
    write(world.there, "add-ons/tides/part.sh", "tides\n")
    return tree(world.there)


async def test_a_package_is_set_aside_and_brought_back(by_ftp: World) -> None:
    before, asides = lay_out(by_ftp), by_ftp.nailer.packages.asides
    await asides.set_aside(by_ftp.account_id, by_ftp.site, PACKAGE)
    assert not (by_ftp.there / "add-ons" / "tides").exists()
    (one,) = await asides.open(by_ftp.site)
    await asides.bring_back(by_ftp.account_id, by_ftp.site, one.id)
    assert tree(by_ftp.there) == before


async def test_what_is_at_both_names_or_at_none_is_said(by_ftp: World) -> None:
    lay_out(by_ftp)
    asides = by_ftp.nailer.packages.asides
    aside = await asides.set_aside(by_ftp.account_id, by_ftp.site, PACKAGE)
    (by_ftp.there / "add-ons" / "tides").mkdir()
    (one,) = await asides.open(by_ftp.site)
    with pytest.raises(Conflict):
        await asides.bring_back(by_ftp.account_id, by_ftp.site, one.id)
    (by_ftp.there / "add-ons" / "tides").rmdir()
    (by_ftp.there / "add-ons" / aside.name.decode()).rename(by_ftp.there / "elsewhere")
    with pytest.raises(FileMissing):
        await asides.bring_back(by_ftp.account_id, by_ftp.site, one.id)
    assert await asides.open(by_ftp.site) == []


async def test_one_that_was_written_down_and_never_renamed_is_back_already(by_ftp: World) -> None:
    before, asides = lay_out(by_ftp), by_ftp.nailer.packages.asides
    aside = PACKAGE.parent.child(b".tides.aside")
    await by_ftp.nailer.stores.packages.add_aside(by_ftp.site.id, by_ftp.account_id, 7, PACKAGE, aside, title="tides")
    await asides.start()
    await asides.restored(by_ftp.site.id)
    assert await asides.open(by_ftp.site) == []
    assert tree(by_ftp.there) == before


async def test_a_copy_is_proved_and_restored(by_ftp: World) -> None:
    before, copies = lay_out(by_ftp), by_ftp.nailer.packages.copies
    await copies.take(by_ftp.account_id, by_ftp.site, by_ftp.top, "Moss Lane")
    await copies.wait(by_ftp.site.id)
    (copy,) = await copies.of(by_ftp.site)
    assert copy.state is CopyState.VERIFIED, copy.problem
    write(by_ftp.there, "add-ons/tides/part.sh", "changed by hand, and longer\n")
    (by_ftp.there / "add-ons/tides/addon.json").unlink()
    job = await by_ftp.run(await by_ftp.nailer.packages.restoring.restore(by_ftp.account_id, by_ftp.site, copy.id))
    assert job.state == "done", job
    assert tree(by_ftp.there) == before


async def test_a_version_takes_the_place_of_another_and_goes_back(by_ftp: World) -> None:
    top = versions.lay_out(by_ftp)
    before = tree(by_ftp.there)
    plan = await versions.choose(by_ftp, await versions.planned(by_ftp), old=Take.DROP)
    assert not plan.one.in_place
    one = await versions.carried_out(by_ftp, plan)
    assert one.state is ReplacementState.IN_PLACE, one.words
    assert tree(top) == {name: text.encode() for name, text in versions.NEW.items()}
    assert (await versions.back(by_ftp, one.id)).state is ReplacementState.BACK
    assert tree(by_ftp.there) == before


async def test_one_with_links_is_replaced_file_by_file_as_no_ftp_server_makes_links(by_ftp: World) -> None:
    top = versions.lay_out(by_ftp)
    (top / "current").symlink_to("lib")
    plan = await versions.choose(by_ftp, await versions.planned(by_ftp), old=Take.DROP, current=Take.CARRY)
    assert plan.one.in_place
    assert "links" in " ".join(plan.one.notes)
    one = await versions.carried_out(by_ftp, plan)
    assert one.state is ReplacementState.IN_PLACE, one.words
    assert (top / "current").is_symlink()
    assert not (top / "lib" / "old.js").exists()


async def test_a_server_that_renames_nothing_gets_a_version_file_by_file(
    tmp_path: Path, database, migrated_url
) -> None:  # type: ignore[no-untyped-def]
    root = tmp_path / "there"
    (root / "htdocs").mkdir(parents=True)
    host = FtpHost(root, "seedlib", "sow-and-reap", lacks=("RNFR", "RNTO"))
    await host.start()
    try:
        async with a_world_on(host, tmp_path, migrated_url, root / "htdocs", protocol=Protocol.FTP) as world:
            top = versions.lay_out(world)
            before = tree(world.there)
            with pytest.raises(AssertionError, match="overwritten in place first"):
                await versions.planned(world)
            await world.nailer.stores.sites.set_in_place(world.site.id, allowed=True)
            world.site = await world.nailer.sites.book.get(world.site.id)
            plan = await versions.choose(world, await versions.planned(world), old=Take.DROP)
            assert plan.one.in_place
            one = await versions.carried_out(world, plan)
            assert one.state is ReplacementState.IN_PLACE, one.words
            assert tree(top) == {name: text.encode() for name, text in versions.NEW.items()}
            assert (await versions.back(world, one.id)).state is ReplacementState.BACK
            assert tree(world.there) == before
    finally:
        await host.stop()


async def test_both_renames_leave_together(by_ftp: World, monkeypatch: pytest.MonkeyPatch) -> None:
    """Four commands at once: visitors find the name missing for no round trip."""
    versions.lay_out(by_ftp)
    plan = await versions.choose(by_ftp, await versions.planned(by_ftp), old=Take.DROP)
    ask, sent = FtpLine.ask_together, []

    async def _records(line: FtpLine, commands: Sequence[bytes], **how: bool) -> list[Reply]:
        sent.append([one.partition(b" ")[0] for one in commands])
        return await ask(line, commands, **how)

    with monkeypatch.context() as patched:
        patched.setattr(FtpLine, "ask_together", _records)
        one = await versions.carried_out(by_ftp, plan)
    assert one.state is ReplacementState.IN_PLACE, one.words
    assert sum(one[:4] == [b"RNFR", b"RNTO", b"RNFR", b"RNTO"] for one in sent) == 1
