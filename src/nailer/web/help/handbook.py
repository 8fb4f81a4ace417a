"""The handbook: short pages by task, read from Markdown files that ship with Nailer, and searched."""

from __future__ import annotations

import functools
import re
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote

from fastapi import APIRouter
from markdown_it import MarkdownIt
from markupsafe import Markup
from starlette.requests import Request
from starlette.responses import FileResponse, Response

from nailer.errors import NotFound
from nailer.web.shell import urls
from nailer.web.shell.forms import QueryValues
from nailer.web.shell.pages import render

router = APIRouter()

_PLACE = Path(__file__).parents[2] / "handbook"
# In the order in which somebody new reads them.
_ORDER = (
    "first-start",
    "new-customer",
    "change-and-back",
    "in-sync",
    "pictures-missing",
    "new-version",
    "something-is-broken",
    "colleague",
    "phone",
    "pipeline",
    "when-nailer-fails",
    "words",
)
# They lie beside the documents of a checkout, and are no part of what is installed.
_PICTURES = Path(__file__).parents[4] / "docs" / "screenshots"
_PICTURE = re.compile(r'<img src="\.\./screenshots/(?P<name>[a-z-]+)\.png" alt="(?P<alt>[^"]*)" ?/?>')
_AROUND = 90  # letters shown around what was found


@dataclass(frozen=True, slots=True)
class HelpPage:
    """A page by its name in the address: its title, its text as written, and as HTML."""

    name: str
    title: str
    text: str
    html: Markup


@dataclass(frozen=True, slots=True)
class PageFound:
    """A page that holds what was looked for, with the words around it."""

    page: HelpPage
    around: str


@functools.cache
def pages() -> tuple[HelpPage, ...]:
    """All pages, in the order of reading."""
    return tuple(_page(name) for name in _ORDER)


def _page(name: str) -> HelpPage:
    text = (_PLACE / f"{name}.md").read_text()
    # HTML in a page would be shown as text: the pages are ours, and need none.
    html = MarkdownIt("commonmark", {"html": False}).enable("table").render(text)
    html = _PICTURE.sub(_shown_picture, html)
    return HelpPage(name, text.splitlines()[0].removeprefix("# "), text, Markup(html))  # noqa: S704


def _shown_picture(found: re.Match[str]) -> str:
    """A picture's element with its own address; nothing where the pictures did not come with this installation."""
    if not (_PICTURES / f"{found['name']}.png").is_file():
        return ""
    return f'<img src="{urls.HELP}/pictures/{found["name"]}.png" alt="{found["alt"]}" loading="lazy">'


def search(wanted: str) -> list[PageFound]:
    """The pages that hold each of the words, those with it in the title first."""
    asked = wanted.casefold().split()
    found = [one for one in pages() if asked and all(word in one.text.casefold() for word in asked)]
    found.sort(key=lambda one: not any(word in one.title.casefold() for word in asked))
    return [PageFound(one, _around(one.text, asked[0])) for one in found]


def _around(text: str, word: str) -> str:
    plain = " ".join(
        re.sub(r"!\[[^\]]*\]\([^)]*\)", "", text).replace("*", "").replace("`", "").replace("#", "").split()
    )
    at = max(0, plain.casefold().find(word) - _AROUND // 2)
    return ("… " if at else "") + plain[at : at + 2 * _AROUND].strip() + " …"


@router.get(urls.HELP)
async def contents(request: Request) -> Response:
    """The pages of the handbook, or those that hold what `q` says."""
    wanted = QueryValues(request).text("q").strip()
    return render(request, "help/contents.html", pages=pages(), wanted=wanted, found=search(wanted))


@router.get(urls.HELP + "/pictures/{name}")
async def picture(name: str) -> Response:
    """A picture of the handbook. Raises NotFound."""
    known = {match["name"] for one in pages() for match in re.finditer(r"/pictures/(?P<name>[a-z-]+)\.png", one.html)}
    if name.removesuffix(".png") not in known:
        raise NotFound("The handbook has no such picture.")
    return FileResponse(_PICTURES / name, media_type="image/png")


@router.get(urls.HELP + "/{name}")
async def page(request: Request, name: str) -> Response:
    """One page. Raises NotFound."""
    names = [one.name for one in pages()]
    if name not in names:
        raise NotFound(f"The handbook has no page “{quote(name[:40])}”.")
    return render(request, "help/page.html", page=pages()[names.index(name)], pages=pages())
