"""What pages, styles, manifests, feeds and lists refer to: as a browser reads them, and never an exception."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.site.links import Use, links_in, syntax_of


def found(name: str, text: str) -> list[tuple[str, str]]:
    return [(one.address, one.use.value) for one in links_in(name.encode(), text.encode()).links]


@pytest.mark.parametrize(
    ("name", "text", "expected"),
    [
        ("a.html", "<A HREF='x.html'>x</A>", [("x.html", "page")]),
        ("a.html", "<table><a href=y.html>y<tr><td background=bg.png>", [("y.html", "page"), ("bg.png", "picture")]),
        ("a.html", '<img srcset="a.png 1x, b,c.png 2x" src="a.png">', [("a.png", "picture"), ("b,c.png", "picture")]),
        (
            "a.html",
            "<picture><source srcset='w.webp 800w'><img src=w.jpg></picture>",
            [("w.webp", "picture"), ("w.jpg", "picture")],
        ),
        (
            "a.html",
            "<video src=v.mp4 poster=p.jpg><track src=v.vtt></video>",
            [("v.mp4", "media"), ("p.jpg", "picture"), ("v.vtt", "media")],
        ),
        ("a.html", "<p style=\"background: url('bg.png')\">", [("bg.png", "picture")]),
        ("a.html", "<style>@font-face{src:url(f.woff2)}</style><p>url(no.png)", [("f.woff2", "font")]),
        ("a.html", '<!-- <img src="old.png"> --><script>"<img src=no.png>"</script>', []),
        ("a.html", "<noscript><img src=n.png></noscript>", [("n.png", "picture")]),
        ("a.html", "<link rel='shortcut icon' href=i.ico><link rel=preconnect href=//x.example>", [("i.ico", "icon")]),
        ("a.html", "<link rel=alternate type=application/rss+xml href=feed.xml>", [("feed.xml", "feed")]),
        ("a.html", "<link rel=preload as=font href=f.woff2>", [("f.woff2", "font")]),
        ("a.html", "<meta http-equiv=refresh content='5; URL=\"next.html\"'>", [("next.html", "move")]),
        ("a.html", "<meta http-equiv=refresh content=30>", []),
        ("a.html", "<meta property=og:image content=/share.png>", [("/share.png", "picture")]),
        (
            "a.html",
            "<form action=send.php><button formaction=other.php>",
            [("send.php", "form"), ("other.php", "form")],
        ),
        (
            "a.html",
            "<svg><use href='i.svg#boat'/><image xlink:href=p.png /></svg>",
            [("i.svg#boat", "picture"), ("p.png", "picture")],
        ),
        ("a.html", "<img src=' a\n b.png '>", [("a b.png", "picture")]),
        ("a.html", "<img src='{{ it }}'><img src='${x}.png'>", []),
        ("a.php", "<?php echo '<img src=no.png>'; ?><img src=y.png><a href='<?= $x ?>'>", [("y.png", "picture")]),
        ("a.css", "/* url(no.png) */ a { b: url( 'yes.png' ) }", [("yes.png", "picture")]),
        ("a.css", "@import url(b.css) screen; @import 'c.css';", [("b.css", "style"), ("c.css", "style")]),
        (
            "a.css",
            "@media print { a { b: image-set('x.png' 1x, url(y.png) 2x) } }",
            [("x.png", "picture"), ("y.png", "picture")],
        ),
        ("a.css", "a { b: url(data:image/png;base64,xx) } c { d: url(", [("data:image/png;base64,xx", "picture")]),
        ("site.webmanifest", '{"icons": [{"src": "i.png"}, 3], "start_url": "/"}', [("i.png", "icon"), ("/", "page")]),
        (
            "sitemap.xml",
            "<urlset><url><loc>https://a.example/x</loc></url></urlset>",
            [("https://a.example/x", "listed")],
        ),
        (
            "feed.xml",
            "<rss><channel><item><link>/n</link><enclosure url='a.mp3'/></item></channel></rss>",
            [("/n", "page"), ("a.mp3", "media")],
        ),
        (
            "atom.xml",
            "<feed xmlns='http://www.w3.org/2005/Atom'><link href='/a'/><logo>/l.png</logo></feed>",
            [("/a", "page"), ("/l.png", "picture")],
        ),
        (
            "robots.txt",
            "User-agent: *\nSitemap: https://a.example/map.xml\n",
            [("https://a.example/map.xml", "listed")],
        ),
        ("notes.txt", "see img/pier.png", []),
    ],
)
def test_links_are_read_as_a_browser_reads_them(name: str, text: str, expected: list[tuple[str, str]]) -> None:
    assert sorted(found(name, text)) == sorted(expected)


def test_the_base_of_a_page_is_the_first_it_names() -> None:
    assert links_in(b"a.html", b"<base href='/sub/'><base href='/no/'><img src=a.png>").base == "/sub/"


def test_widths_are_those_the_page_says_in_figures() -> None:
    links = links_in(b"a.html", b"<img src=a.png width=620><img src=b.png width='50%'><img src=c.png width=0>").links
    assert [one.width for one in links] == [620, None, None]


def test_names_in_scripts_are_mentions_and_no_links() -> None:
    read = links_in(b"app.js", b"load('img/Pier-2.png'); const n = 3.14")
    assert read.links == ()
    assert "pier-2.png" in read.mentions


def test_xml_that_refers_to_itself_without_end_is_not_followed() -> None:
    bomb = b"<!DOCTYPE x [<!ENTITY a 'aaaa'><!ENTITY b '&a;&a;&a;'>]><urlset><loc>&b;</loc></urlset>"
    assert links_in(b"sitemap.xml", bomb).links == ()


@pytest.mark.parametrize("charset", ["utf-8", "cp1252", "utf-16"])
def test_a_page_is_read_in_its_own_character_set(charset: str) -> None:
    text = "<meta charset=windows-1252><img src='fähre.png'>"
    read = links_in(b"a.html", text.encode(charset)).links
    assert [one.address for one in read] == ["fähre.png"]


@given(
    st.sampled_from([b"a.html", b"a.css", b"a.xml", b"a.php", b"a.webmanifest", b"robots.txt", b"a.js"]),
    st.binary(max_size=400),
)
def test_no_content_makes_reading_fail(name: bytes, data: bytes) -> None:
    for one in links_in(name, data).links:
        assert one.address
        assert one.use in Use


@given(st.text(alphabet="<>\"'=/ abimgsrchref?{}()@;:.#\\", max_size=200))
def test_no_soup_of_tags_makes_reading_fail(soup: str) -> None:
    links_in(b"a.html", soup.encode())
    links_in(b"a.css", soup.encode())


def test_what_is_read_is_told_by_the_name() -> None:
    assert [syntax_of(name) for name in (b"a.SVG", b"x.Php", b"manifest.json", b"data.json", b"a.png", b"html")] == [
        "page",
        "program",
        "manifest",
        "text",
        "",
        "",
    ]
