"""What lists of sites say of each, as it is stored."""

from __future__ import annotations

from nailer.core.files.sitepath import SitePath
from nailer.core.site.address import Wrong, WrongWay
from nailer.core.site.findings import FindingKind, SiteFinding, of_way
from nailer.services.checks.addresses import _proof_name
from nailer.store.checks.attention import FindingCounts
from tests.world import World

OVER = of_way(WrongWay(Wrong.CERTIFICATE_OVER, "mosslane.example", "The certificate expired."))
EXPOSED = SiteFinding(FindingKind.LISTS, "/htdocs/img", path=SitePath.parse(b"/htdocs/img"))
BOTH = (FindingKind.WAY, FindingKind.LISTS)


async def test_findings_are_counted_as_their_page_counts_them(world: World) -> None:
    stores, site = world.nailer.stores, world.site.id

    await stores.findings.put(site, BOTH, [OVER, EXPOSED])

    known = await world.nailer.checks.known.overview(world.site)
    counts = (await stores.attention.all())[site].counts
    assert counts.all == len(known.cards) == 2
    assert counts.certificate == Wrong.CERTIFICATE_OVER

    finding = next(one for one in known.found if one.finding.kind is FindingKind.WAY)
    await stores.findings.ignore(site, finding.id, world.account_id, "known")
    assert (await stores.attention.all())[site].counts == FindingCounts(0, 1, "")

    await stores.findings.unignore(site, finding.id)
    assert (await stores.attention.all())[site].counts == counts

    await stores.findings.put(site, BOTH, [])
    assert (await stores.attention.all())[site].counts == FindingCounts()


async def test_findings_of_before_are_counted_at_the_first_look(world: World) -> None:
    stores, site = world.nailer.stores, world.site.id
    await stores.findings.put(site, BOTH, [OVER])
    await stores.database.write(lambda work: work._cursor.execute("DELETE FROM site_finding_counts"))

    facts = await world.nailer.checks.attention.of([world.site], not_sent={}, changed=(), asides=lambda _: ())

    assert facts[site].findings == 1
    assert await stores.attention.uncounted() == []


async def test_an_open_site_past_its_first_steps_is_told_of_with_its_times(world: World) -> None:
    stores, site = world.nailer.stores, world.site.id
    await stores.sites.opened(site)
    await stores.database.write(
        lambda work: work._cursor.execute("UPDATE sites SET created_at = created_at - INTERVAL 90 DAY")
    )
    opened = await stores.sites.get(site)
    assert opened.opened_at is not None

    attention = world.nailer.checks.attention
    facts = await attention.of([opened], not_sent={}, changed=(), asides=lambda _: ())

    assert [one.kind.value for one in attention.needs(facts[site])] == ["never-scanned"]


async def test_a_folder_is_tested_once_a_file_in_it_was_seen(world: World) -> None:
    stores, site = world.nailer.stores, world.site.id
    assert (await stores.attention.all())[site].tested is False

    await stores.findings.learn(site, _proof_name("https://mosslane.example/"), "", "no folder matched")
    assert (await stores.attention.all())[site].tested is False

    await stores.findings.learn(site, _proof_name("https://mosslane.example/"), "/htdocs", "a file was seen")
    assert (await stores.attention.all())[site].tested is True
