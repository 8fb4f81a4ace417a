"""The ways in to a site, and what is wrong with them."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from nailer.core.site.address import (
    LeadsTo,
    NameLeads,
    SeenCertificate,
    Step,
    WayIn,
    Wrong,
    proved,
    ways_in,
    where_it_leads,
    wrong_ways,
)
from tests.builders import path

NOW = datetime(2026, 11, 29, tzinfo=UTC)
END = "https://skerry.example/"


LEADS = NameLeads("skerry.example", LeadsTo.HERE)


def way(address: str, *steps: tuple[str, int | None, str], digest: bytes = b"x") -> WayIn:
    return WayIn(address, tuple(Step(at, status, moved) for at, status, moved in steps), digest)


def led(address: str) -> WayIn:
    return way(address, (address, 301, END), (END, 200, ""))


HEALTHY = [
    led("http://skerry.example/"),
    led("http://www.skerry.example/"),
    way(END, (END, 200, "")),
    led("https://www.skerry.example/"),
]


def wrong(ways: list[WayIn], *certificates: SeenCertificate) -> list[tuple[Wrong, str]]:
    return [(one.wrong, one.about) for one in wrong_ways(ways, certificates, LEADS, NOW)]


def test_four_ways_that_end_at_one_place_are_well() -> None:
    assert wrong(HEALTHY) == []


@pytest.mark.parametrize(
    ("one", "what"),
    [
        (way("http://skerry.example/", ("http://skerry.example/", 200, "")), Wrong.INSECURE),
        (way("http://skerry.example/", ("http://skerry.example/", None, "")), Wrong.SILENT),
        (
            way(
                "http://skerry.example/",
                ("http://skerry.example/", 302, "https://other.example/"),
                ("https://other.example/", 200, ""),
            ),
            Wrong.APART,
        ),
        (way("http://skerry.example/", ("http://skerry.example/", 301, "http://skerry.example/")), Wrong.ROUND),
    ],
)
def test_a_way_that_goes_wrong_is_told_with_its_kind(one: WayIn, what: Wrong) -> None:
    assert wrong([one, *HEALTHY[1:]]) == [(what, "http://skerry.example/")]


def test_one_place_that_gives_two_contents_is_told() -> None:
    other = way("https://www.skerry.example/", ("https://www.skerry.example/", 301, END), (END, 200, ""), digest=b"y")
    assert wrong([*HEALTHY[:3], other]) == [(Wrong.ANOTHER_PAGE, END)]


@pytest.mark.parametrize(
    ("days", "names", "what"),
    [
        (60, ("skerry.example",), []),
        (60, ("*.example",), []),
        (9, ("skerry.example",), [Wrong.CERTIFICATE_SOON]),
        (-1, ("skerry.example",), [Wrong.CERTIFICATE_OVER]),
        (60, ("host.saltwind.example",), [Wrong.CERTIFICATE_NAME]),
        (60, ("*.skerry.example",), [Wrong.CERTIFICATE_NAME]),
    ],
)
def test_a_certificate_is_told_by_its_days_and_names(days: int, names: tuple[str, ...], what: list[Wrong]) -> None:
    seen = SeenCertificate("skerry.example", names, NOW + timedelta(days=days))
    assert [one for one, _ in wrong(HEALTHY, seen)] == what


def test_one_certificate_for_two_names_ends_once() -> None:
    names = ("skerry.example", "www.skerry.example")
    seen = [SeenCertificate(host, names, NOW + timedelta(days=3)) for host in names]
    assert wrong(HEALTHY, *seen) == [(Wrong.CERTIFICATE_SOON, "skerry.example")]


def test_a_server_that_shows_no_certificate_is_no_finding_of_its_own() -> None:
    assert wrong(HEALTHY, SeenCertificate("skerry.example", words="nothing answers")) == []


def test_ways_of_a_name_below_another_have_no_www() -> None:
    assert ways_in("https://stage.skerry.example/") == ("http://stage.skerry.example/", "https://stage.skerry.example/")
    assert len(ways_in("https://skerry.example/shop/")) == 4


@pytest.mark.parametrize(
    ("addresses", "own", "serves", "leads"),
    [
        ([], ["192.0.2.1"], None, LeadsTo.NOTHING),
        (["192.0.2.1"], ["192.0.2.1"], None, LeadsTo.HERE),
        (["203.0.113.9"], ["192.0.2.1"], True, LeadsTo.PROXY),
        (["203.0.113.9"], ["192.0.2.1"], False, LeadsTo.ELSEWHERE),
        (["203.0.113.9"], ["192.0.2.1"], None, LeadsTo.UNKNOWN),
        (["203.0.113.9"], [], False, LeadsTo.UNKNOWN),
    ],
)
def test_where_a_name_leads(addresses: list[str], own: list[str], serves: bool | None, leads: LeadsTo) -> None:
    assert where_it_leads("skerry.example", addresses, [], own, serves_this=serves).leads is leads


def test_only_a_content_of_ours_proves_a_folder() -> None:
    contents = {b"t-0": path("/htdocs"), b"t-1": path("/www")}
    assert proved(200, b"t-1\n", contents) == path("/www")
    assert proved(200, b"<h1>Not found</h1>", contents) is None, "a page that answers everything"
    assert proved(404, b"t-1", contents) is None


def test_a_way_that_answers_with_an_error_of_the_server_is_told() -> None:
    assert wrong([way("http://skerry.example/", ("http://skerry.example/", 500, "")), *HEALTHY[1:]]) == [
        (Wrong.BROKEN, "http://skerry.example/")
    ]


@pytest.mark.parametrize(
    ("leads", "what"),
    [
        (LeadsTo.HERE, []),
        (LeadsTo.PROXY, []),
        (LeadsTo.UNKNOWN, []),
        (LeadsTo.ELSEWHERE, [Wrong.LEADS_ELSEWHERE]),
        (LeadsTo.NOTHING, [Wrong.LEADS_NOWHERE]),
    ],
)
def test_a_name_is_a_finding_only_where_it_is_known_to_lead_away(leads: LeadsTo, what: list[Wrong]) -> None:
    ways = (
        [way("http://skerry.example/", ("http://skerry.example/", None, ""))] if leads is LeadsTo.NOTHING else HEALTHY
    )
    found = wrong_ways(ways, [], NameLeads("skerry.example", leads, ("203.0.113.9",)), NOW)
    assert [one.wrong for one in found] == what


def test_a_name_that_the_resolver_does_not_know_and_that_answers_is_no_finding() -> None:
    assert wrong_ways(HEALTHY, [], NameLeads("skerry.example", LeadsTo.NOTHING), NOW) == []
