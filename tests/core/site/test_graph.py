"""The graph of a site: every kind of fault, with a near miss that is none."""

from __future__ import annotations

from collections.abc import Mapping

import pytest

from nailer.core.files.completeness import Incomplete, Lack
from nailer.core.files.entry import Entry, Kind, Stamp
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.files.tree import Tree
from nailer.core.site.graph import Fault, Graph, lacking
from nailer.core.site.links import Link, Use, links_in
from nailer.core.site.names import Names
from nailer.core.site.targets import Leads, target_of
from tests.builders import path

ROOTS = (DocumentRoot(path("/htdocs"), "https://skerryferries.example/"),)
PAGE = path("/htdocs/fares/index.html")


def names(
    *files: str, sizes: Mapping[str, int] | None = None, lacks: bool = False, links: Mapping[str, str] | None = None
) -> Names:
    """The names of one side below `/htdocs`."""
    folders: dict[tuple[bytes, ...], dict[bytes, Entry]] = {(): {}}
    for file in files:
        parts = tuple(one.encode() for one in file.split("/"))
        for depth in range(1, len(parts)):
            folders.setdefault(parts[:depth], {})
            folders[parts[: depth - 1]].setdefault(parts[depth - 1], Entry(parts[depth - 1], Kind.FOLDER))
        size = (sizes or {}).get(file, 10)
        folders[parts[:-1]][parts[-1]] = Entry(parts[-1], Kind.FILE, size, Stamp.seconds(1))
    for name, target in (links or {}).items():
        folders[()][name.encode()] = Entry(name.encode(), Kind.LINK, target=target.encode(), leads_to=Kind.FOLDER)
    lack = {(): Incomplete(Lack.CUT)} if lacks else {}
    return Names({path("/htdocs"): Tree({key: list(inside.values()) for key, inside in folders.items()}, lacks=lack)})


def graph(**pages: str) -> Graph:
    """Pages by their names with `__` for a slash and `_` for a dot."""
    return Graph.of(
        {
            path("/htdocs/" + name.replace("__", "/").replace("_", ".")): links_in(
                name.replace("_", ".").encode(), text.encode()
            )
            for name, text in pages.items()
        },
        ROOTS,
    )


@pytest.mark.parametrize(
    ("address", "leads", "shown"),
    [
        ("../img/pier%20end.svg?v=2#top", Leads.HERE, "/htdocs/img/pier end.svg"),
        ("img\\pier.svg", Leads.HERE, "/htdocs/fares/img/pier.svg"),
        ("//www.skerryferries.example/a.png", Leads.HERE, "/htdocs/a.png"),
        ("http://SkerryFerries.example:80/a.png", Leads.HERE, "/htdocs/a.png"),
        ("/fähre.png", Leads.HERE, "/htdocs/fähre.png"),
        ("../../../a.png", Leads.HERE, "/htdocs/a.png"),
        ("https://gannet.example/a.png", Leads.ELSEWHERE, None),
        ("file:///C:/pier.png", Leads.DISK, None),
        ("D:\\web\\pier.png", Leads.DISK, None),
        ("\\\\nas\\share\\pier.png", Leads.DISK, None),
        ("mailto:a@b.example", Leads.NOWHERE, None),
        ("javascript:void(0)", Leads.NOWHERE, None),
        ("data:image/png;base64,xx", Leads.NOWHERE, None),
        ("#top", Leads.NOWHERE, None),
        ("http://[x", Leads.NOWHERE, None),
    ],
)
def test_where_an_address_leads(address: str, leads: Leads, shown: str | None) -> None:
    target = target_of(Link(address, Use.PICTURE), PAGE, "", ROOTS)
    assert (target.leads, target.path.shown if target.path else None) == (leads, shown)


def test_a_base_moves_what_is_joined_with_it() -> None:
    target = target_of(Link("a.png", Use.PICTURE), PAGE, "/other/", ROOTS)
    assert target.path == path("/htdocs/other/a.png")


def test_each_fault_is_told_apart_and_what_is_there_is_none() -> None:
    text = (
        "<img src=gone.png><img src=Crew.jpg><img src=deck.png><img src=old.png><img src='C:\\x.png'>"
        "<img src='http://skerryferries.example/here.png'><img src=here.png><a href=news/>n</a><a href='?x=1'>q</a>"
    )
    there = names("index.html", "crew.jpg", "new.png", "here.png", "news/index.html")
    here = names("index.html", "Crew.jpg", "deck.png")

    def now(at: SitePath) -> SitePath:
        return path("/htdocs/new.png") if at == path("/htdocs/old.png") else at

    found = {one.fault: one for one in graph(index_html=text).broken(there, here, now)}

    assert {fault: (one.path.name if one.path else one.address.encode()) for fault, one in found.items()} == {
        Fault.MISSING: b"gone.png",
        Fault.WRITTEN_OTHERWISE: b"Crew.jpg",
        Fault.ONLY_HERE: b"deck.png",
        Fault.RENAMED: b"old.png",
        Fault.ON_A_DISK: b"C:\\x.png",
        Fault.INSECURE: b"here.png",
    }
    assert found[Fault.WRITTEN_OTHERWISE].other == path("/htdocs/crew.jpg")
    assert found[Fault.RENAMED].other == path("/htdocs/new.png")


def test_a_name_in_a_folder_that_is_not_known_whole_is_not_called_missing() -> None:
    page = graph(index_html="<img src=gone.png><img src=sub/gone.png>")
    assert page.broken(names("index.html", lacks=True)) == []


def test_what_lies_behind_a_link_is_found_there() -> None:
    there = names("index.html", "img/pier.png", links={"pictures": "img"})
    page = graph(index_html="<img src=pictures/pier.png><img src=pictures/gone.png>")
    assert [one.path for one in page.broken(there)] == [path("/htdocs/pictures/gone.png")]


def test_a_loop_of_links_ends_and_is_not_known() -> None:
    there = names("index.html", links={"a": "b", "b": "a"})
    assert graph(index_html="<img src=a/x.png>").broken(there) == []


def test_one_thing_missing_on_many_pages_is_one_with_all_its_pages() -> None:
    broken = graph(a_html="<img src=x.png>", b_html="<img src=/x.png>", c_html="<a href=y.html>").broken(
        names("a.html")
    )
    assert [(one.path, len(one.pages), one.is_noticed) for one in broken] == [
        (path("/htdocs/x.png"), 2, True),
        (path("/htdocs/y.html"), 1, False),
    ]


def test_a_page_needs_its_styles_and_what_they_need_and_belongs_with_its_pages() -> None:
    site = graph(
        index_html="<link rel=stylesheet href=site.css><a href=fares.html>f</a>",
        site_css="a { b: url(bg.png) }",
        fares_html="<img src=boat.png>",
    )
    there = names("index.html", "site.css", "bg.png", "fares.html", "boat.png", "other.html")

    needs = [one.name for one in site.needs(path("/htdocs/index.html"), there)]
    belongs = [one.name for one in site.needs(path("/htdocs/index.html"), there, follow=True)]

    assert needs == [b"site.css", b"bg.png"]
    assert set(belongs) == {b"site.css", b"bg.png", b"fares.html", b"boat.png"}


@pytest.mark.parametrize(
    ("file", "keeps"),
    [
        ("img/alone.png", ""),
        ("favicon.ico", "expect this name"),
        ("sitemap-2.xml.gz", "expect this name"),
        ("proof-0a1b2c3d4e5f6a7b.html", "prove"),
        (".well-known/x/anything.bin", "expect it at this place"),
        ("news/feed.xml", "feed"),
        ("downloads/list.bin", "downloads"),
        ("menu.pdf", "sent its address"),
        ("lib/tool.php", "program"),
        ("img/spoken.png", "names it"),
        ("img/CREW.png", "different capital letters"),
        ("skins/h/unused.svg", "package"),
    ],
)
def test_what_nothing_refers_to_says_what_speaks_for_keeping_it(file: str, keeps: str) -> None:
    site = graph(
        index_html="<img src=img/used.png><img src=img/crew.png><link rel=stylesheet href=skins/h/a.css>",
        app_js="show('spoken.png')",
    )
    there = names("index.html", "img/used.png", "skins/h/skin.json", "skins/h/a.css", file)

    found = {one.path: one.keeps for one in site.unreferenced(there, ROOTS)}

    assert keeps in found[path("/htdocs/" + file)]
    assert bool(found[path("/htdocs/" + file)]) is bool(keeps)
    assert path("/htdocs/img/used.png") not in found
    assert path("/htdocs/index.html") not in found


def test_what_sent_pages_need_and_nobody_sends_is_told() -> None:
    site = graph(index_html="<img src=a.png><img src=b.png><img src=c.png><img src=d.png>")
    source, target = names("index.html", "a.png", "b.png", "c.png"), names("b.png")

    found = lacking(site, [path("/htdocs/index.html")], source, target, {path("/htdocs/c.png")})

    assert list(found) == [path("/htdocs/a.png")], "there, coming, or nowhere: none of these is lacking"


def test_widths_are_known_only_where_every_page_says_them() -> None:
    site = graph(
        a_html="<img src=x.png width=300><img src=y.png width=10>", b_html="<img src=x.png width=620><img src=y.png>"
    )
    assert site.widths() == {path("/htdocs/x.png"): (300, 620)}
