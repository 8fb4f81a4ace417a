"""A side that ends at one folder: nothing outside is read, changed or told of, whatever leads there."""

from __future__ import annotations

import asyncio
import contextlib
import os
import threading
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import aclosing
from pathlib import Path

import pytest

from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.core.people.rights import Grant, Right
from nailer.errors import FileMissing, OutsideRoot, TransferError
from nailer.sides.confined import ConfinedSide, below, confined
from nailer.sides.here import HereSide
from nailer.sides.side import Side, once
from tests.builders import path, write

TOP = path("/studio/news")
LOOKS = Grant(frozenset({Right.LOOK}), TOP, TOP)


@pytest.fixture
def ground(tmp_path: Path) -> Path:
    """A folder with links that lead out of it, beside what must stay hidden."""
    write(tmp_path, "news/today.html", "today")
    write(tmp_path, "news/2026/old.html", "old")
    write(tmp_path, "secret/key.txt", "secret")
    write(tmp_path, "newsletter/a.txt", "beside")
    (tmp_path / "news" / "out").symlink_to("../secret")
    (tmp_path / "news" / "key").symlink_to("../secret/key.txt")
    (tmp_path / "news" / "2026" / "up").symlink_to("../..")
    (tmp_path / "news" / "within").symlink_to("2026")
    return tmp_path


@pytest.fixture
def side(ground: Path) -> Side:
    return confined(HereSide({b"studio": ground}), SideName.THERE, LOOKS)


def modes(ground: Path) -> dict[Path, int]:
    return {one: one.lstat().st_mode for one in sorted(ground.rglob("*"))}


async def content(side: Side, at: SitePath) -> bytes:
    async with aclosing(side.read(at)) as chunks:
        return b"".join([chunk async for chunk in chunks])


async def test_what_lies_inside_is_as_without_bounds(side: Side) -> None:
    assert {one.name for one in (await side.list(TOP)).entries} == {b"today.html", b"2026", b"out", b"key", b"within"}
    assert await content(side, path("/studio/news/today.html")) == b"today"
    assert await content(side, path("/studio/news/within/old.html")) == b"old"
    await side.write(path("/studio/news/2026/new.html"), once(b"new"))
    await side.make_folder(path("/studio/news/2027"))
    await side.rename(path("/studio/news/2026/new.html"), path("/studio/news/2027/new.html"))
    assert await content(side, path("/studio/news/2027/new.html")) == b"new"
    await side.remove_file(path("/studio/news/2027/new.html"))
    await side.remove_folder(path("/studio/news/2027"))


WAYS_OUT = [
    "/studio",
    "/",
    "/studio/secret",
    "/studio/secret/key.txt",
    "/studio/newsletter/a.txt",
    "/studio/news/out",
    "/studio/news/out/key.txt",
    "/studio/news/out/new.txt",
    "/studio/news/key",
    "/studio/news/2026/up/secret/key.txt",
    "/studio/news/within/up/secret",
]
ACTS: dict[str, Callable[[Side, SitePath], Awaitable[object]]] = {
    "list": lambda side, at: side.list(at),
    "resolve": lambda side, at: side.resolve(at),
    "read": content,
    "read_all": lambda side, at: side.read_all(at),
    "write": lambda side, at: side.write(at, once(b"x")),
    "land": lambda side, at: side.land(at, once(b"x")),
    "copy from": lambda side, at: side.copy(at, path("/studio/news/copied")),
    "copy to": lambda side, at: side.copy(path("/studio/news/today.html"), at),
    "permissions": lambda side, at: side.set_attributes(at, permissions=0o600),
    "hash": lambda side, at: side.own_hash(at),
}


@pytest.mark.parametrize("way", WAYS_OUT)
@pytest.mark.parametrize("act", ACTS)
async def test_nothing_leads_out(side: Side, ground: Path, act: str, way: str) -> None:
    before = modes(ground)

    with pytest.raises(OutsideRoot):
        await ACTS[act](side, path(way))

    assert modes(ground) == before
    assert (ground / "secret" / "key.txt").read_text() == "secret"


@pytest.mark.parametrize(
    "way", ["/studio/secret/key.txt", "/studio/news/out/key.txt", "/studio/news/2026/up/secret/key.txt"]
)
async def test_no_name_outside_is_looked_at_removed_or_renamed(side: Side, ground: Path, way: str) -> None:
    inside = path("/studio/news/today.html")
    for act in (
        side.stat(path(way)),
        side.remove_file(path(way)),
        side.rename(path(way), path("/studio/news/stolen")),
        side.rename(inside, path(way), replace=True),
        side.make_folder(path(way).parent.child(b"made")),
        side.make_link(path(way).parent.child(b"link"), b"x"),
    ):
        with pytest.raises(OutsideRoot):
            await act

    assert (ground / "secret" / "key.txt").read_text() == "secret"
    assert sorted(os.listdir(ground / "secret")) == ["key.txt"]


@pytest.mark.parametrize("target", ["../secret", "/studio/secret", "/etc/passwd", "2026/../../secret", "2026/up"])
async def test_no_link_is_made_that_leads_out(side: Side, ground: Path, target: str) -> None:
    if target == "2026/up":
        # As it is written it stays inside; what it leads to is looked at when somebody follows it.
        await side.make_link(path("/studio/news/made"), target.encode())
        with pytest.raises(OutsideRoot):
            await side.list(path("/studio/news/made"))
        return
    with pytest.raises(OutsideRoot):
        await side.make_link(path("/studio/news/made"), target.encode())
    assert not (ground / "news" / "made").is_symlink()


async def test_no_link_leads_out_by_a_way_that_only_the_server_sees(side: Side, ground: Path) -> None:
    await side.make_link(path("/studio/news/2026/top"), b"..")

    with pytest.raises(OutsideRoot):
        await side.make_link(path("/studio/news/made"), b"2026/top/../secret")
    assert not (ground / "news" / "made").is_symlink()


async def test_no_link_is_renamed_to_where_it_leads_out(side: Side, ground: Path) -> None:
    await side.make_link(path("/studio/news/2026/today"), b"../today.html")

    with pytest.raises(OutsideRoot):
        await side.rename(path("/studio/news/2026/today"), path("/studio/news/today"))
    assert (ground / "news" / "2026" / "today").is_symlink()
    await side.rename(path("/studio/news/2026/today"), path("/studio/news/2026/now"))
    assert (ground / "news" / "2026" / "now").read_text() == "today"


async def test_the_top_itself_stays_where_it_is(side: Side) -> None:
    for act in (side.remove_folder(TOP), side.rename(TOP, path("/studio/news/2026/x")), side.remove_file(TOP)):
        with pytest.raises(OutsideRoot):
            await act
    assert await side.home() == TOP


async def test_with_no_folder_on_a_side_nothing_is_there(ground: Path) -> None:
    side = confined(HereSide({b"studio": ground}), SideName.HERE, Grant(frozenset(Right), TOP, None))

    with pytest.raises(OutsideRoot):
        await side.list(path("/"))
    with pytest.raises(OutsideRoot):
        await side.stat(path("/studio"))


async def test_a_folder_that_becomes_a_link_meanwhile_is_seen(
    side: Side, ground: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("nailer.sides.confined._TRUSTED_S", 0.0)
    assert (await side.list(path("/studio/news/2026"))).entries
    (ground / "news" / "2026").rename(ground / "news" / "moved")
    (ground / "news" / "2026").symlink_to("../secret")

    with pytest.raises(OutsideRoot):
        await side.list(path("/studio/news/2026"))


async def test_a_whole_site_is_the_side_itself_there_and_its_own_folder_here(ground: Path) -> None:
    side = HereSide({b"studio": ground})

    assert confined(side, SideName.HERE, None) is side
    assert confined(side, SideName.THERE, Grant(frozenset(Right))) is side
    own = confined(side, SideName.HERE, Grant(frozenset(Right), None, TOP))
    assert (await own.list(TOP)).entries
    with pytest.raises(OutsideRoot):
        await own.list(path("/studio/secret"))


async def test_a_folder_that_is_exchanged_for_a_link_between_the_look_and_the_reading_gives_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Every act of a confined side here, with the folder swapped after the side has looked where the path leads."""
    for name in ("site/news", "site/old", "secret"):
        (tmp_path / name).mkdir(parents=True)
    for name in ("site/news/page.html", "site/old/page.html"):
        (tmp_path / name).write_text("ours")
    (tmp_path / "secret" / "page.html").write_text("not yours")
    side = below(HereSide({b"studio": tmp_path}), path("/studio/site"))
    page = path("/studio/site/news/page.html")
    looked = ConfinedSide._check_place

    async def _swapped(self: ConfinedSide, place: SitePath) -> None:
        await looked(self, place)
        await asyncio.to_thread(_swap)

    def _swap() -> None:
        news = tmp_path / "site" / "news"
        if not news.is_symlink():
            news.rename(tmp_path / "site" / "moved")
            news.symlink_to("../secret")

    monkeypatch.setattr(ConfinedSide, "_check_place", _swapped)

    async def _chunks() -> AsyncIterator[bytes]:
        yield b"changed"

    async def _read() -> bytes:
        return b"".join([chunk async for chunk in side.read(page)])

    acts: list[Callable[[], Awaitable[object]]] = [
        _read,
        lambda: side.read_all(page),
        lambda: side.stat(page),
        lambda: side.list(page.parent),
        lambda: side.write(page, _chunks()),
        lambda: side.land(page, _chunks()),
        lambda: side.remove_file(page),
        lambda: side.rename(page, page.parent.child(b"other.html")),
        lambda: side.make_folder(page.parent.child(b"made")),
        lambda: side.set_attributes(page, permissions=0o777),
    ]

    def _back() -> None:
        news = tmp_path / "site" / "news"
        if news.is_symlink():
            news.unlink()
            (tmp_path / "site" / "moved").rename(news)

    for act in acts:
        await asyncio.to_thread(_back)
        side._known.clear()  # type: ignore[attr-defined]
        with pytest.raises((OutsideRoot, FileMissing)):
            await act()

    assert sorted(one.name for one in (tmp_path / "secret").iterdir()) == ["page.html"]
    assert (tmp_path / "secret" / "page.html").read_text() == "not yours"
    assert (tmp_path / "secret" / "page.html").stat().st_mode & 0o777 != 0o777


async def test_many_readings_beside_a_folder_that_is_exchanged_over_and_over_give_nothing_from_outside(
    tmp_path: Path,
) -> None:
    """As an attacker does it: a folder and a link change places as fast as they can."""
    for name in ("site/news", "secret"):
        (tmp_path / name).mkdir(parents=True)
    (tmp_path / "site" / "news" / "page.html").write_text("ours")
    (tmp_path / "secret" / "page.html").write_text("not yours")
    (tmp_path / "link").symlink_to("../secret")
    side = below(HereSide({b"studio": tmp_path}), path("/studio/site"))
    ended = threading.Event()

    def _exchange() -> None:
        news, away, link = (tmp_path / one for one in ("site/news", "away", "link"))
        while not ended.is_set():
            news.rename(away)
            link.rename(news)
            news.rename(link)
            away.rename(news)

    attacker = threading.Thread(target=_exchange)
    attacker.start()
    read: list[bytes] = []
    try:
        for _ in range(400):
            with contextlib.suppress(TransferError):
                read.append((await side.read_all(path("/studio/site/news/page.html")))[1])
    finally:
        ended.set()
        attacker.join()

    assert set(read) <= {b"ours"}
