"""Scripts and styles: built of what lies in the sources, found by every page, and sent compressed."""

from __future__ import annotations

import gzip
import hashlib
import json
import re
import zlib
from pathlib import Path

import pytest
import zstandard

from nailer.web.shell import formtoken
from nailer.web.shell.compress import accepted, best_coding, compressed
from nailer.web.shell.pages import static_folder
from nailer.web.shell.urls import asset, scripts
from tests.web.conftest import Visitor

WEB = static_folder().parent
TOP = WEB.parents[2]
BUILT = static_folder() / "vendor"
MADE = json.loads((BUILT / "built.json").read_bytes())
TEMPLATES = WEB / "templates"
AGAIN = "run `npm ci && npm run build` in tools/assets"


def test_what_is_served_was_built_of_these_sources() -> None:
    files = [*(WEB / "scripts").rglob("*.js"), *(WEB / "styles").rglob("*.css")]
    files += [TOP / "tools" / "assets" / name for name in ("build.mjs", "package-lock.json")]
    now = {str(file.relative_to(TOP)): hashlib.sha256(file.read_bytes()).hexdigest()[:16] for file in files}

    assert MADE["sources"] == now, AGAIN


def test_every_icon_that_is_named_is_among_those_that_are_sent() -> None:
    known, sent = set(MADE["known_icons"]), set(MADE["icons"])
    word = "[a-z0-9]+(?:-[a-z0-9]+)*"
    named = re.compile(rf"""(?<=["']){word}(?=["'])|(?<=bi-){word}""")
    sources = [*TEMPLATES.rglob("*.html"), *(WEB / "scripts").rglob("*.js"), *WEB.rglob("*.py")]
    wanted = {one for file in sources for one in named.findall(file.read_text())} & known

    assert wanted - sent == set(), AGAIN


def _components(template: Path, seen: set[Path]) -> set[str]:
    """The components of a template and of what it includes."""
    if template in seen:
        return set()
    seen.add(template)
    text = template.read_text()
    own = set(re.findall(r'x-data="([a-z]+)', text))
    for name in re.findall(r'{%-? (?:include|extends|from|import) "([^"]+)"', text):
        own |= _components(TEMPLATES / name, seen)
    return own


@pytest.mark.parametrize("wing", sorted(folder.name for folder in TEMPLATES.iterdir() if folder.is_dir()))
def test_a_page_s_script_knows_every_component_of_the_page(wing: str) -> None:
    address, _ = scripts(f"{wing}/any.html")
    page = (WEB / "scripts" / "pages" / address.rpartition("/")[2]).read_text()
    everywhere = re.search(r"const EVERYWHERE = \{(.*?)\}", (WEB / "scripts" / "main.js").read_text(), re.S)
    assert everywhere is not None
    known = set(re.findall(r"\w+", everywhere.group(1))) | set(re.findall(r"import (\w+) from", page))
    known |= {"editor"} if "own.editor" in page else set()
    pages = [file for file in (TEMPLATES / wing).glob("*.html") if "people/door.html" not in file.read_text()]

    assert {name for file in pages for name in _components(file, set())} - known == set()


def test_scripts_and_styles_come_in_the_smallest_form_that_is_taken(maren: Visitor) -> None:
    client = maren.client
    plain = client.get(asset("vendor/app.css"), headers={"accept-encoding": "identity"})
    small = client.get(asset("vendor/app.css"), headers={"accept-encoding": "gzip"})

    assert plain.content == small.content == gzip.decompress((BUILT / "app.css.gz").read_bytes())
    assert "content-encoding" not in plain.headers
    assert small.headers["content-encoding"] == "gzip"
    assert small.headers["content-type"].startswith("text/css")
    assert small.headers["vary"] == "Accept-Encoding"
    assert "immutable" in small.headers["cache-control"]


@pytest.mark.parametrize("coding", ["gzip", "zstd"])
def test_pages_are_compressed_and_say_the_same(maren: Visitor, coding: str) -> None:
    raw = maren.client.stream("GET", "/sites", headers={"accept-encoding": coding})
    with raw as answer:
        sent = b"".join(answer.iter_raw())
    assert answer.headers["content-encoding"] == coding
    assert int(answer.headers["content-length"]) == len(sent)
    body = zlib.decompress(sent, 31) if coding == "gzip" else zstandard.decompress(sent)
    assert b"</html>" in body
    assert len(sent) < len(body) / 3


def test_a_coding_of_no_weight_is_not_taken() -> None:
    assert accepted("gzip;q=0, zstd; q=0.0, br") == {"br"}
    assert best_coding("gzip;q=0, deflate") is None
    assert best_coding("br, gzip;q=0.5, zstd") == "zstd"


def test_a_large_body_comes_back_whole() -> None:
    body = b"<tr><td>a row</td></tr>" * 40_000

    assert zlib.decompress(compressed(body, "gzip"), 31) == body
    assert zstandard.decompress(compressed(body, "zstd")) == body


def test_the_token_of_forms_looks_different_each_time_and_is_the_same() -> None:
    shown = {formtoken.shown("the token of a session") for _ in range(20)}

    assert len(shown) == 20
    assert all(formtoken.is_same(one, "the token of a session") for one in shown)
    assert not any("token" in one for one in shown)


@pytest.mark.parametrize("given", ["", "the token of a session", "AAAA", "ä", "\udc80", "=" * 9, "A" * 4000])
def test_another_token_is_refused(given: str) -> None:
    assert not formtoken.is_same(given, "the token of a session")
