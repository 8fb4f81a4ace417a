"""References: found where they are, resolved as a browser does, and rewritten without touching anything else."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.check.references import references, renamed, rewritten, target_of
from nailer.core.files.sitepath import DocumentRoot, SitePath
from tests.builders import path

ROOTS = (DocumentRoot(path("/htdocs"), "https://skerryferries.example/"),)
PAGE = path("/htdocs/fares/index.html")


@pytest.mark.parametrize(
    ("name", "text", "found"),
    [
        ("a.html", "<A HREF='x.html'>x</A>", ["x.html"]),
        ("a.html", '<img srcset="a.png 1x, b.png 2x" src="a.png">', ["a.png", "b.png", "a.png"]),
        ("a.html", "<p style=\"background: url('bg.png')\">", ["bg.png"]),
        ("a.html", "<style>p { background: url(bg.png) }</style><p>url(no.png)", ["bg.png"]),
        ("a.html", '<!-- <img src="old.png"> --><video poster="p.jpg">', ["p.jpg"]),
        ("a.html", "<script>var a = '<img src=\"no.png\">'</script>", []),
        ("a.php", '<a href="<?= $x ?>">x</a><a href="y.php?a=1&amp;b=2">y</a>', ["y.php?a=1&b=2"]),
        ("a.css", "/* url(no.png) */ a { b: url(yes.png) }", ["yes.png"]),
        ("a.html", "<link rel=stylesheet href=site.css>", ["site.css"]),
        ("a.html", "<a href='half", []),
    ],
)
def test_addresses_are_found_where_they_count(name: str, text: str, found: list[str]) -> None:
    assert [one.address for one in references(name.encode(), text.encode())] == found


def test_a_reference_knows_its_line() -> None:
    (_, second) = references(b"a.html", b'<a href="1.html">\n\n<a\nhref="2.html">')
    assert second.line == 4


@pytest.mark.parametrize(
    ("address", "target"),
    [
        ("a.css", "/htdocs/fares/a.css"),
        ("./a.css", "/htdocs/fares/a.css"),
        ("../a.css", "/htdocs/a.css"),
        ("/a.css", "/htdocs/a.css"),
        ("//skerryferries.example/a.css", "/htdocs/a.css"),
        ("http://SKERRYFERRIES.example/a.css", "/htdocs/a.css"),
        ("https://gannet.example/a.css", None),
        ("mailto:maren@skerryferries.example", None),
        ("#top", None),
        ("../../../../etc/passwd", "/htdocs/etc/passwd"),
        ("%zz", "/htdocs/fares/%zz"),
        ("http://[broken", None),
    ],
)
def test_addresses_lead_where_a_browser_goes(address: str, target: str | None) -> None:
    found = target_of(address, PAGE, ROOTS)
    assert (found.shown if found else None) == target


@pytest.mark.parametrize(
    ("written", "after"),
    [
        ("../Pier%20End.svg", "../pier-end.svg"),
        ("/Pier End.svg#a", "/pier-end.svg#a"),
        (
            "https://skerryferries.example/Pier%20End.svg?b=1&amp;c",
            "https://skerryferries.example/pier-end.svg?b=1&amp;c",
        ),
        ("../pier end.svg", "../pier end.svg"),
    ],
)
def test_a_reference_is_rewritten_in_its_own_form(written: str, after: str) -> None:
    renames = {path("/htdocs/Pier End.svg"): b"pier-end.svg"}
    data = f'<p>Pier End.svg <img alt="" src="{written}"></p>'.encode()

    text, count = rewritten(b"a.html", data, PAGE, renames, ROOTS)

    assert text == f'<p>Pier End.svg <img alt="" src="{after}"></p>'.encode()
    assert count == (written != after)


def test_a_renamed_folder_changes_what_leads_through_it_and_nothing_within() -> None:
    renames = {path("/htdocs/fares"): b"prices"}
    inside = b'<a href="a.html"><a href="../fares/b.html"><a href="/fares/">'

    assert rewritten(b"index.html", inside, PAGE, renames, ROOTS) == (
        b'<a href="a.html"><a href="../prices/b.html"><a href="/prices/">',
        2,
    )
    assert renamed(PAGE, renames) == path("/htdocs/prices/index.html")


def test_other_bytes_stay_whatever_their_character_set() -> None:
    data = b'caf\xe9 <img src="\xc3\xbc.png"> \xff\x00'
    renames = {SitePath((b"htdocs", b"\xc3\xbc.png")): b"ue.png"}

    text, count = rewritten(b"a.html", data, path("/htdocs/a.html"), renames, ROOTS)

    assert (text, count) == (b'caf\xe9 <img src="ue.png"> \xff\x00', 1)


@given(st.binary(max_size=300))
def test_nothing_is_changed_where_nothing_is_renamed(data: bytes) -> None:
    for name in (b"a.html", b"a.css"):
        assert rewritten(name, data, PAGE, {}, ROOTS) == (data, 0)
        text = data.decode("latin-1")
        assert all(text[one.start : one.end] == one.written for one in references(name, data))
