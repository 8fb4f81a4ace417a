"""Scans of a site over a real SFTP server and a real web server: what they find, what they cost, and what ends them."""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace

import pytest

from nailer.acting import Acting, acting_as
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import DocumentRoot
from nailer.core.people.rights import Grant, Person, Right
from nailer.core.site.exposed import Danger
from nailer.core.site.findings import FindingKind, Mend, SiteFinding
from nailer.core.site.links import Use
from nailer.core.work.states import ScanState
from nailer.errors import InvalidInput, NotAllowed
from nailer.services.checks.known import SiteKnown
from nailer.standins.pages import Pages
from nailer.standins.sftp import SftpHost
from tests.builders import path, write
from tests.contracts.sides import shown_key
from tests.world import World, a_world_on

PAGE = "<!doctype html><title>Moss Lane</title>"


@dataclass
class Scanned:
    world: World

    async def read(self, *, account: bool = False) -> SiteKnown:
        """Read the site and return what is known of it then."""
        checks = self.world.nailer.checks
        await checks.reader.begin(self.world.account_id, self.world.site, is_account=account)
        await checks.reader.wait(self.world.site.id)
        return await checks.known.overview(self.world.site)

    async def kinds(self) -> dict[FindingKind, list[str]]:
        known = await self.read()
        assert known.failed is None, known.failed
        found: dict[FindingKind, list[str]] = {}
        for one in known.found:
            found.setdefault(one.finding.kind, []).append(one.finding.name)
        return found

    async def mend(self, mend: Mend) -> None:
        """Press the first button of its kind, and carry out the plan."""
        checks = self.world.nailer.checks
        known = await checks.known.overview(self.world.site)
        card = next(one for one in known.cards if mend in [act.mend for act in one.actions])
        action, found = await checks.known.about(self.world.site, card.sort, mend.value)
        job_id = await checks.mending.plan(self.world.account_id, self.world.site, action.mend, found)
        job = await (self.world.ended(job_id) if mend is Mend.CLOSE else self.world.run(job_id))
        assert job.state == "done", job

    def site(self, **files: str) -> None:
        """Files there by their names, with `__` for a slash and `_` for a dot."""
        for name, text in files.items():
            write(self.world.there, name.replace("__", "/").replace("_", "."), text)


@pytest.fixture
def scan(world: World, pages: Pages) -> Scanned:
    return Scanned(world)


async def test_a_healthy_site_has_no_findings(scan: Scanned) -> None:
    scan.site(
        index_html=f"{PAGE}<link rel=stylesheet href=site.css><img src=img/pier.svg><a href=news/>n</a><a href=made>m</a>",
        site_css="a { background: url(img/pier.svg) }",
        img__pier_svg="<svg/>",
        news__index_html=PAGE,
        made__index_html=PAGE,
        robots_txt="User-agent: *",
    )
    write(scan.world.there, ".htaccess", "Options -Indexes\n")

    assert await scan.kinds() == {}


async def test_each_kind_of_finding_is_found(scan: Scanned) -> None:
    scan.site(
        index_html=f"{PAGE}<img src=gone.png><img src=Crew.jpg><img src=deck.png><img src='C:\\pier.png'>"
        "<img src='http://mosslane.example/crew.jpg'><a href=gone.html>x</a>",
        crew_jpg="picture",
        backup_zip="PK everything",
        news__index_html=PAGE,
        news__index_htm="<title>Here is room for your news</title>",
        plates__one_tif="II",
    )
    write(scan.world.there, ".env", "PASSWORD=made-up")
    write(scan.world.here, "deck.png", "picture")

    assert await scan.kinds() == {
        FindingKind.MISSING: ["/htdocs/gone.png", "/htdocs/gone.html"],
        FindingKind.WRITTEN_OTHERWISE: ["/htdocs/Crew.jpg"],
        FindingKind.ONLY_HERE: ["/htdocs/deck.png"],
        FindingKind.ON_A_DISK: ["C:\\pier.png"],
        FindingKind.INSECURE: ["/htdocs/crew.jpg"],
        FindingKind.EXPOSED: ["/htdocs/.env", "/htdocs/backup.zip"],
        FindingKind.RIVALS: ["/htdocs/news"],
        FindingKind.LISTS: ["/htdocs/plates"],
    }


async def test_a_rule_of_the_server_that_forbids_or_serves_is_believed(scan: Scanned) -> None:
    """What the web does not hand out is not open, and an address that answers is not missing."""
    scan.site(index_html=f"{PAGE}<img src=sub/>", sub__index_html=PAGE, old_zip="PK", dump_sql="x")
    write(scan.world.there, ".env", "PASSWORD=made-up")
    write(
        scan.world.there,
        ".htaccess",
        '<FilesMatch "^(\\.env|old\\.zip|dump\\.sql)$">\nRequire all denied\n</FilesMatch>\n',
    )

    assert await scan.kinds() == {}


async def test_a_second_reading_costs_the_listing_and_a_changed_page_is_read_anew(scan: Scanned) -> None:
    scan.site(**{f"page{number}_html": PAGE for number in range(30)}, index_html=PAGE)
    first = (await scan.read()).scan
    second = (await scan.read()).scan
    write(scan.world.there, "page3.html", f"{PAGE}<img src=new.png>", at_s=1_790_000_500)
    third = await scan.read()

    assert [one.summary["read"] for one in (first, second, third.scan) if one] == [31, 0, 1]
    assert [one.finding.name for one in third.found] == ["/htdocs/new.png"]


async def test_a_page_that_changed_in_the_second_it_was_read_is_read_again(scan: Scanned) -> None:
    """Equal size and time prove nothing while the time is as young as the scan."""
    file = write(scan.world.there, "index.html", f"{PAGE}<img src=a.png>", at_s=time.time())
    stamp = file.stat().st_mtime_ns
    assert [one.finding.name for one in (await scan.read()).found] == ["/htdocs/a.png"]
    file.write_text(f"{PAGE}<img src=b.png>")
    os.utime(file, ns=(stamp, stamp))

    assert [one.finding.name for one in (await scan.read()).found] == ["/htdocs/b.png"]


async def test_a_finding_stands_since_it_was_found_first_and_goes_with_its_cause(scan: Scanned) -> None:
    scan.site(index_html=f"{PAGE}<img src=gone.png>")
    (first,) = (await scan.read()).found
    (again,) = (await scan.read()).found
    scan.site(gone_png="picture")

    assert again.first_at == first.first_at
    assert again.last_at > first.last_at
    assert (await scan.read()).found == ()


async def test_what_is_ignored_stays_ignored_with_its_reason(scan: Scanned) -> None:
    world = scan.world
    scan.site(index_html=f"{PAGE}<img src=gone.png>")
    (one,) = (await scan.read()).found
    with pytest.raises(InvalidInput, match="Give a reason"):
        await world.nailer.checks.known.ignore(world.account_id, world.site, [one.id], " ")

    await world.nailer.checks.known.ignore(world.account_id, world.site, [one.id], "comes on Monday")
    known = await scan.read()

    assert known.found == ()
    assert [(it.ignored, it.ignored_by) for it in known.ignored] == [("comes on Monday", "maren")]
    await world.nailer.checks.known.unignore(world.site, one.id)
    assert len((await scan.read()).found) == 1


async def test_a_folder_that_cannot_be_read_is_said_and_nothing_in_it_is_called_missing(scan: Scanned) -> None:
    scan.site(index_html=f"{PAGE}<img src=shut/pier.png>", shut__pier_png="picture")
    (scan.world.there / "shut").chmod(0)
    try:
        known = await scan.read()
    finally:
        (scan.world.there / "shut").chmod(0o755)

    if os.geteuid():  # who runs everything reads every folder
        assert known.found == ()
        assert known.scan
        assert known.scan.summary["unread_count"] == 1


async def test_a_reading_that_nailer_ended_with_goes_on_where_it_was(tmp_path, database, migrated_url) -> None:  # type: ignore[no-untyped-def]
    there = tmp_path / "there" / "htdocs"
    there.mkdir(parents=True)
    host = SftpHost(there.parent, "seedlib", "sow-and-reap")
    await host.start()
    identity = shown_key(host)
    async with a_world_on(host, tmp_path, migrated_url, there, identity=identity) as world:
        for number in range(900):
            write(world.there, f"page{number}.html", PAGE)
        reader = world.nailer.checks.reader
        await reader.begin(world.account_id, world.site)
        while (standing := reader.standing(world.site.id)) is not None and standing.read < 250:
            await asyncio.sleep(0.01)
        assert standing is not None, "it ended before it could be cut"

    async with a_world_on(host, tmp_path, migrated_url, there, identity=identity) as world:
        reader = world.nailer.checks.reader
        await reader.wait(world.site.id)
        known = await world.nailer.checks.known.overview(world.site)
    await host.stop()

    assert known.scan
    assert known.scan.summary["pages"] == 900
    assert known.scan.summary["read"] <= 700, "what was read before the end is not read again"


async def test_a_reading_is_given_up_and_says_so(scan: Scanned) -> None:
    world = scan.world
    scan.site(**{f"page{number}_html": PAGE for number in range(300)})
    reader = world.nailer.checks.reader
    await reader.begin(world.account_id, world.site)
    await reader.begin(world.account_id, world.site)  # one at a time
    await reader.give_up(world.site.id)

    known = await world.nailer.checks.known.overview(world.site)
    assert known.standing is None
    assert known.scan is None
    assert known.failed is not None
    assert (known.failed.state, known.failed.problem) == (ScanState.STOPPED, "It was stopped.")


async def test_a_folder_of_the_settings_that_is_not_there_fails_the_reading_and_forgets_nothing(
    scan: Scanned,
) -> None:
    world = scan.world
    scan.site(index_html=f"{PAGE}<img src=gone.png>")
    await scan.read()
    world.there.rename(world.there.parent / "elsewhere")

    known = await scan.read()

    assert known.failed is not None
    assert known.failed.state is ScanState.FAILED
    assert "does not exist" in known.failed.problem
    assert [one.finding.name for one in known.found] == ["/htdocs/gone.png"]


async def test_who_sees_a_part_of_a_site_is_told_nothing_of_the_rest(scan: Scanned) -> None:
    world = scan.world
    grant = Grant(frozenset({Right.LOOK, Right.CHANGE}), path("/htdocs/news"), path("/studio/moss/news"))
    clerk = Person(77, "orla", grants={world.site.id: grant})
    with acting_as(Acting(clerk)):
        with pytest.raises(NotAllowed):
            await world.nailer.checks.known.overview(world.site)
        with pytest.raises(NotAllowed):
            await world.nailer.checks.reader.begin(world.account_id, world.site)


@pytest.mark.parametrize(
    ("mend", "refers", "left"),
    [
        (Mend.SEND, "<img src=deck.png>", []),
        (Mend.RENAME, "<img src=Crew.jpg><a href=other.html>o</a>", []),
        (Mend.SET_ASIDE, "", []),
        (Mend.TAKE_DOWN, "", []),
        (Mend.MOVE_OUT, "", []),
        (Mend.FORBID, "", []),
        (Mend.FORBID_LISTS, "", []),
    ],
)
async def test_a_button_makes_a_plan_that_mends(scan: Scanned, mend: Mend, refers: str, left: Sequence[str]) -> None:
    world = scan.world
    write(world.there, ".htaccess", "Options -Indexes\n" if mend is not Mend.FORBID_LISTS else "ErrorDocument 404 /x\n")
    scan.site(index_html=PAGE + refers, other_html=f"{PAGE}<img src=crew.jpg>", crew_jpg="picture")
    write(world.here, "deck.png", "picture")
    if mend is Mend.SET_ASIDE:
        scan.site(news__index_html=PAGE, news__index_htm="<title>Another</title>")
    if mend in (Mend.TAKE_DOWN, Mend.MOVE_OUT, Mend.FORBID):
        scan.site(backup_zip="PK everything")
    if mend is Mend.FORBID_LISTS:
        scan.site(plates__one_png="picture")
    assert len((await scan.read()).found) == 1

    await scan.mend(mend)

    assert [one.finding.name for one in (await scan.read()).found] == left


async def test_a_mended_name_takes_what_refers_to_the_old_one_along(scan: Scanned) -> None:
    scan.site(index_html=f"{PAGE}<img src=Crew.jpg>", other_html=f"{PAGE}<img src=crew.jpg>", crew_jpg="picture")
    await scan.read()
    await scan.mend(Mend.RENAME)
    assert (scan.world.there / "other.html").read_text() == f"{PAGE}<img src=Crew.jpg>"
    assert (scan.world.there / "Crew.jpg").read_text() == "picture"


async def test_a_large_archive_is_found_without_being_fetched(scan: Scanned) -> None:
    scan.site(index_html=PAGE)
    with (scan.world.there / "backup.zip").open("wb") as archive:
        archive.truncate(200_000_000)
    known = await scan.read()
    assert [one.finding.said for one in known.found] == ["answers 200, 200.0 MB"]


async def test_moving_out_of_a_root_within_another_leaves_both(scan: Scanned) -> None:
    world = scan.world
    roots = (*world.site.document_roots, DocumentRoot(path("/htdocs/shop"), "https://shop.mosslane.example/"))
    world.site = replace(world.site, document_roots=roots)
    scan.site(shop__backup_zip="PK everything")
    found = SiteFinding(FindingKind.EXPOSED, "x", path("/htdocs/shop/backup.zip"), danger=Danger.ARCHIVE)

    job_id = await world.nailer.checks.mending.plan(world.account_id, world.site, Mend.MOVE_OUT, [found])
    await world.run(job_id)

    assert (world.there.parent / "off-the-web" / "backup.zip").exists()


async def test_two_first_pages_of_which_nobody_knows_the_served_one_offer_no_button(scan: Scanned) -> None:
    """What a program answers is not its text."""
    scan.site(index_html=PAGE)
    write(scan.world.there, "sub/index.html", PAGE)
    write(scan.world.there, "sub/index.php", "<?php echo 1; ?>")
    write(scan.world.there, "sub/.htaccess", "DirectoryIndex none.html\n")
    known = await scan.read()
    (card,) = [one for one in known.cards if one.sort == "rivals"]
    assert card.actions == ()
    finding = known.found[card.about[0]].finding
    with pytest.raises(InvalidInput, match="which start page"):
        await scan.world.nailer.checks.mending.plan(scan.world.account_id, scan.world.site, Mend.SET_ASIDE, [finding])


async def test_a_page_is_not_called_missing_where_the_web_cannot_be_asked(world: World) -> None:
    """A program may make it; of a picture the listing tells enough."""
    scan = Scanned(world)
    scan.site(index_html=f"{PAGE}<a href=made/by/program>m</a><img src=gone.png>")
    known = await scan.read()
    gone = [one.finding for one in known.found if one.finding.kind is FindingKind.MISSING]
    assert [(one.name, one.said) for one in gone] == [("/htdocs/gone.png", "no file; the web did not answer")]


async def test_a_picture_that_does_not_say_its_pixels_is_not_read_again_for_them(scan: Scanned) -> None:
    scan.site(index_html=PAGE)
    write(scan.world.there, "plate.tif", b"II*\0" + b"x" * 80_000)
    await scan.read()
    again = (await scan.read()).scan
    assert again is not None
    assert again.summary["read"] == 0


async def test_closing_permissions_makes_an_environment_file_unreadable_to_the_web(scan: Scanned) -> None:
    scan.site(index_html=PAGE)
    write(scan.world.there, ".env", "PASSWORD=made-up")
    await scan.read()
    await scan.mend(Mend.CLOSE)
    assert (scan.world.there / ".env").stat().st_mode & 0o777 == 0o600
    assert (await scan.read()).found == ()


async def test_a_rename_that_left_references_behind_is_led_to_the_new_name(scan: Scanned) -> None:
    world = scan.world
    scan.site(index_html=f"{PAGE}<img src=pier.png>", pier_png="picture")
    await world.nailer.files.change.rename(
        world.account_id, world.site, SideName.THERE, path("/htdocs/pier.png"), b"jetty.png"
    )
    assert list(await scan.kinds()) == [FindingKind.RENAMED]

    await scan.mend(Mend.REWRITE)

    assert (world.there / "index.html").read_text() == f"{PAGE}<img src=jetty.png>"
    assert (await scan.read()).found == ()


async def test_a_page_tells_what_it_needs_and_who_refers_to_it(scan: Scanned) -> None:
    scan.site(
        index_html=f"{PAGE}<link rel=stylesheet href=site.css><img src=gone.png><a href=https://gannet.example/>g</a>",
        site_css="a { background: url(bg.png) }",
        bg_png="picture",
        other_html=f"{PAGE}<a href=index.html>i</a>",
    )
    await scan.read()

    page = await scan.world.nailer.checks.known.page(scan.world.site, path("/htdocs/index.html"))

    assert [(one.path.name, one.place.use, one.entry is not None) for one in page.needs] == [
        (b"site.css", Use.STYLE, True),
        (b"gone.png", Use.PICTURE, False),
    ]
    assert page.elsewhere == (("https://gannet.example/", Use.PAGE),)
    assert [one.page.name for one in page.referrers] == [b"other.html"]
    assert [one.name for one in page.belongs] == [b"index.html", b"site.css", b"bg.png"]


async def test_room_and_savings_of_the_whole_account(scan: Scanned) -> None:
    world = scan.world
    scan.site(index_html=f"{PAGE}<img src=a.png width=30>", press_psd="8" * 5000)
    big = os.urandom(30_000)
    for name in ("a.png", "copy.png", "sub/copy-2.png"):
        write(world.there, name, big)
    write(world.there.parent, "mail/inbox", "x" * 700)
    await scan.read(account=True)

    room = await world.nailer.checks.known.room(world.site, None)
    saved = await world.nailer.checks.known.savings(world.site, 40_000)

    assert [(tile.name, tile.weight.size) for tile, _ in room.tiles] == [
        (b"htdocs", 95_000 + len(PAGE) + len("<img src=a.png width=30>")),
        (b"mail", 700),
    ]
    assert [(one.reason.name, one.frees) for one in saved.savings] == [("WORKING", 5000), ("TWICE", 60_000)]
    assert saved.chosen == {"Working files not meant for visitors", "Duplicate files"}
    write(world.there, "sub/more.bin", "y" * 900)
    await scan.read(account=True)
    grown = (await world.nailer.checks.known.room(world.site, None)).grown
    assert grown == ((path("/htdocs/sub"), 900),)
