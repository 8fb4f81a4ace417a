"""Sieves: built by picking and typing, tried on real trees meanwhile, ordered, switched off, read from ignore files."""

from __future__ import annotations

from typing import Any, Literal

from fastapi import APIRouter
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from nailer.bounded import bounded
from nailer.core.files.kinds import KIND_WORDS
from nailer.core.plans.sieve import Condition, CountedAs, Match, RuleGroup, Sieve, Test, ignore_text, read_ignore
from nailer.core.words import size_text
from nailer.errors import NailerError
from nailer.services.files import OnPair
from nailer.web.shell.doors import FilesDoor, Id, PairsDoor
from nailer.web.shell.forms import IgnoreWish, OrderWish, QueryValues, SieveWish
from nailer.web.shell.pages import render

router = APIRouter()

_TESTS = (
    (Test.KIND, "is a"),
    (Test.PATTERN, "is called, or is at"),
    (Test.LARGER, "is larger than"),
    (Test.SMALLER, "is smaller than"),
    (Test.OLDER, "is older than"),
    (Test.NEWER, "is newer than"),
)
_NEW = Sieve("", RuleGroup(CountedAs.ANY, ()))


@router.get("/sieves")
async def sieves_page(request: Request, files: FilesDoor, pairs: PairsDoor) -> Response:
    """All sieves, one of them open."""
    query = QueryValues(request)
    stored = await files.sieves.all()
    its_pairs = await pairs.book.all()
    wanted = query.number("open", 0)
    opened = next((one.sieve for one in stored if one.sieve.id == wanted), None)
    if opened is None and query.text("new") != "1" and stored:
        opened = stored[0].sieve
    pair = query.number("pair", its_pairs[0].id if its_pairs else 0)
    return render(
        request,
        "files/sieves.html",
        stored=stored,
        opened=opened or _NEW,
        pairs=its_pairs,
        pair_id=pair,
        off=sum(one.off_since is not None for one in stored),
        state={
            "rule": _shown(opened.rule if opened else _NEW.rule),
            "always": list(opened.always) if opened else [],
            "tests": [[test.value, word] for test, word in _TESTS],
            "kinds": [[kind.value, word] for kind, word in KIND_WORDS.items()],
        },
    )


@router.post("/sieves/try")
async def try_sieve(request: Request, wish: SieveWish, files: FilesDoor, pairs: PairsDoor) -> Response:
    """How a sieve reads, and what it catches in a pair."""
    sieve = wish.sieve
    found: OnPair | None = None
    problem = ""
    if wish.pair and sieve.rule.parts:
        try:
            found = await files.sieves.try_on(sieve, await pairs.book.get(wish.pair))
        except NailerError as error:
            problem = error.what
    return render(request, "files/_sieve-tried.html", sieve=sieve, found=found, problem=problem)


@router.post("/sieves")
async def add(request: Request, wish: SieveWish, files: FilesDoor, pairs: PairsDoor) -> Response:
    """Store a new sieve, and let it hold for a pair where the form says so."""
    sieve_id = await files.sieves.add(wish.sieve)
    if wish.pair and not wish.everywhere:
        await pairs.book.pick_sieve(wish.pair, sieve_id)
    pairs.book.sieves_changed()
    return JSONResponse({"id": sieve_id})


@router.post("/sieves/order")
async def order(request: Request, wish: OrderWish, files: FilesDoor) -> Response:
    """Put sieves in another order."""
    await files.sieves.order(wish.sieves)
    return JSONResponse({"ok": True})


@router.post("/sieves/read-ignore")
async def read_ignore_file(request: Request, wish: IgnoreWish) -> Response:
    """What an ignore file says, as parts of a rule."""
    found = await bounded(read_ignore, wish.text)
    parts = [{"test": Test.PATTERN.value, "value": one} for one in found.patterns]
    return JSONResponse({"parts": parts, "always": list(found.always), "notes": list(found.notes)})


@router.post("/sieves/{sieve_id}")
async def write(request: Request, sieve_id: Id, wish: SieveWish, files: FilesDoor, pairs: PairsDoor) -> Response:
    """Store a sieve that was changed."""
    await files.sieves.write(sieve_id, wish.sieve)
    pairs.book.sieves_changed()
    return JSONResponse({"id": sieve_id})


@router.post("/sieves/{sieve_id}/{act}")
async def act_on(
    request: Request, sieve_id: Id, act: Literal["on", "off", "remove"], files: FilesDoor, pairs: PairsDoor
) -> Response:
    """Switch a sieve on or off without losing it, or remove it."""
    if act == "remove":
        await files.sieves.remove(sieve_id)
    else:
        await files.sieves.switch(sieve_id, on=act == "on")
    pairs.book.sieves_changed()
    return JSONResponse({"ok": True})


@router.get("/sieves/{sieve_id}/ignore.txt")
async def as_ignore_file(request: Request, sieve_id: Id, files: FilesDoor) -> Response:
    """A sieve in the style of ignore files."""
    stored = await files.sieves.get(sieve_id)
    headers = {"Content-Disposition": 'attachment; filename="ignore.txt"'}
    return Response(ignore_text(stored.sieve), media_type="text/plain; charset=utf-8", headers=headers)


def _shown(condition: Condition) -> dict[str, Any]:
    """A condition as the page's script holds it: sizes as they are typed."""
    if isinstance(condition, Match):
        sized = condition.test in (Test.LARGER, Test.SMALLER)
        return {"test": condition.test.value, "value": size_text(int(condition.value)) if sized else condition.value}
    return {"how": condition.how.value, "parts": [_shown(one) for one in condition.parts]}
