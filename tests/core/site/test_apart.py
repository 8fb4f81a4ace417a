"""What makes two answers differ, and pages that are shown below another address."""

from __future__ import annotations

import pytest

from nailer.core.site.apart import Apart, Got, told_apart
from nailer.core.site.within import within
from tests.builders import path

A, B = Got(200, 9, digest=b"a"), Got(200, 8, digest=b"b")


@pytest.mark.parametrize(
    ("here", "live", "wanted"),
    [
        (A, A, Apart.SAME),
        (A, B, Apart.CONTENT),
        (None, B, Apart.NOT_HERE),
        (Got(404), B, Apart.NOT_HERE),
        (A, Got(404), Apart.MISSING),
        (A, Got(410), Apart.MISSING),
        (Got(404), Got(404), Apart.NEITHER),
        (A, Got(403), Apart.FORBIDDEN),
        (A, Got(401), Apart.FORBIDDEN),
        (A, Got(500), Apart.FAILS),
        (A, Got(None, words="refused"), Apart.FAILS),
        (A, None, Apart.CONTENT),
        (Got(200, 9, is_program=True), B, Apart.MADE),
        (Got(200, 9, is_program=True), Got(500), Apart.FAILS),
    ],
)
def test_every_pair_of_answers_is_told(here: Got | None, live: Got | None, wanted: Apart) -> None:
    assert told_apart(here, live).apart is wanted


def test_a_cache_is_blamed_only_where_it_is_proved() -> None:
    held = Got(200, 8, digest=b"b", age_s=54)
    assert told_apart(A, held, past=A).apart is Apart.OLD
    assert told_apart(A, held, past=held).apart is Apart.CONTENT
    assert told_apart(A, held).apart is Apart.CONTENT


def test_another_writing_is_named() -> None:
    told = told_apart(A, Got(404), other=path("/htdocs/Crew.JPG"))
    assert (told.apart, "Crew.JPG" in told.sentence) == (Apart.WRITING, True)


ROOT = "https://moss.example/"


@pytest.mark.parametrize(
    ("page", "wanted"),
    [
        ('<img src="/a.png">', '<img src="/t/live/a.png">'),
        ('<img srcset="/a.png 1x, b.png 2x">', '<img srcset="/t/live/a.png 1x, b.png 2x">'),
        ('<a href="https://www.moss.example/b.html?x=1#y">', '<a href="/t/live/b.html?x=1#y">'),
        ('<a href="//moss.example/c/">', '<a href="/t/live/c/">'),
        ('<p style="background:url(/i.png)">', '<p style="background:url(/t/live/i.png)">'),
    ],
)
def test_what_leads_into_the_site_leads_below_the_view(page: str, wanted: str) -> None:
    assert within(page.encode(), "text/html; charset=utf-8", ROOT, "/t/live") == wanted.encode()


@pytest.mark.parametrize(
    "page",
    [
        '<img src="a.png">',
        '<a href="https://other.example/a">',
        '<a href="mailto:a@moss.example">',
        '<a href="#top">',
        '<img src="data:image/png;base64,AAAA">',
        '<a href="javascript:go()">',
        '<a href="https://moss.example.other.example/">',
    ],
)
def test_everything_else_stays(page: str) -> None:
    assert within(page.encode(), "text/html", ROOT, "/t/live") == page.encode()


def test_other_kinds_stay_byte_for_byte() -> None:
    data = bytes(range(256)) + b'<img src="/a.png">'
    assert within(data, "image/png", ROOT, "/t/live") == data
    assert within(b'\xff<img src="/a.png">', "text/html", ROOT, "/t") == b'\xff<img src="/t/a.png">'


def test_a_site_below_a_path_leads_only_what_lies_in_it() -> None:
    page = b'<img src="/shop/a.png"><img src="/other/a.png">'
    assert (
        within(page, "text/html", "https://moss.example/shop/", "/t") == b'<img src="/t/a.png"><img src="/other/a.png">'
    )
