"""Every route meets what nobody meant to send: no failure that nobody foresaw, and every answer is strict."""

from __future__ import annotations

import json
import os
import random
import re
import traceback
from collections.abc import Iterator
from typing import Any
from urllib.parse import quote

import pytest
from fastapi.routing import APIRoute
from pydantic import BaseModel
from structlog.testing import capture_logs

from nailer.core.people.rights import Right
from nailer.errors import TransferError, every_error
from nailer.web.app import ROUTERS
from nailer.web.shell import headers as strict
from tests.builders import write
from tests.web.conftest import PAGE, Visitor

NINES, DIGITS = "9" * 400, "7" * 5000
NUMBERS = ["0", "-1", NINES, DIGITS, "1e400", "²", "%00", "x", str(2**62), str(2**64)]
TEXTS = [
    "",
    "\x00",
    "../../../etc/passwd",
    "/" * 3000,
    "a" * 5000,
    "\ud800",
    "ﬃ" * 300,
    "'\"<script>",
    "here",
    "there",
    "/htdocs",
    "studio/moss",
    "%ff",
    *NUMBERS,
]
RANGES = ["bytes=0-", f"bytes={DIGITS}-", "bytes=-5", "bytes=5-1", "lines=1", "bytes=0-1,4-5"]
JUNK: list[Any] = [None, True, -1, 1e308, int(NINES), [], {}, [[]], {"a": {}}, *TEXTS]
# These never end by themselves, or end the session that walks.
OPEN = {"/sign-in", "/first-account", "/health", "/manifest.webmanifest", "/worker.js", "/offline"}
LEFT_OUT = {"/events", "/sign-out", "/api/v1/jobs/{job_id}/events"}


def routes() -> Iterator[tuple[str, APIRoute]]:
    """Every route by its method."""
    for route in (one for router in ROUTERS for one in router.routes):
        if isinstance(route, APIRoute) and route.path not in LEFT_OUT:
            for method in sorted(route.methods or ()):
                yield method, route


def filled(path: str, chance: random.Random, known: dict[str, str]) -> str:
    """An address with something in its places: mostly what exists, else junk."""

    def one(found: re.Match[str]) -> str:
        name = found[1].partition(":")[0]
        if name in known and chance.random() < 0.6:
            return known[name]
        return quote(chance.choice(NUMBERS + TEXTS).encode("utf-8", "surrogatepass"), safe="%") or "0"

    return re.sub(r"\{([^}]+)\}", one, path)


def query(chance: random.Random) -> str:
    names = [
        "side",
        "path",
        "path_token",
        "here",
        "there",
        "page",
        "since",
        "sort",
        "joint",
        "text",
        "show",
        "name",
        "next",
    ]
    given = [(chance.choice(names), chance.choice(TEXTS)) for _ in range(chance.randrange(4))]
    return "&".join(f"{name}={quote(value.encode('utf-8', 'surrogatepass'), safe='%')}" for name, value in given)


def json_body(route: APIRoute, chance: random.Random) -> str:
    """A body with the fields that the route takes, and junk in them."""
    model = route.body_field and route.body_field.field_info.annotation
    if isinstance(model, type) and issubclass(model, BaseModel) and chance.random() < 0.9:
        values = {name: chance.choice(JUNK) for name in model.model_fields if chance.random() < 0.8}
        for name in ("side", "to_side"):
            if name in model.model_fields and chance.random() < 0.8:
                values[name] = chance.choice(["here", "there"])
        for name in ("here", "there", "folder", "path"):
            if name in model.model_fields and chance.random() < 0.7:
                values[name] = chance.choice(["", "aHRkb2Nz", "!!", "a" * 30_000])
        return json.dumps(values)
    return chance.choice(["", "{", "[]", "null", '"x"', NINES, DIGITS, '{"a":' * 2000, json.dumps(chance.choice(JUNK))])


def form(chance: random.Random) -> dict[str, str]:
    names = [
        "name",
        "password",
        "again",
        "host",
        "port",
        "count",
        "parent_id",
        "days",
        "most",
        "other",
        "here",
        "there",
    ]
    names += [
        "group_id",
        "package_mib",
        "clock_offset_h",
        "clock_how",
        "file_permissions",
        "web_address_0",
        "guarded",
        "site_id",
    ]
    given = {chance.choice(names): chance.choice(TEXTS) for _ in range(chance.randrange(6))}
    return {name: value.encode("utf-8", "replace").decode() for name, value in given.items()}


def one_request(visitor: Visitor, csrf: str, route: APIRoute, method: str, chance: random.Random, address: str) -> Any:
    headers = {"x-csrf": csrf} | (PAGE if chance.random() < 0.3 else {})
    if route.path.startswith("/api/"):
        headers["authorization"] = f"Bearer {visitor.token}"
    if chance.random() < 0.2:
        headers["range"] = chance.choice(RANGES)
    more: dict[str, Any] = {}
    if method != "GET" and route.body_field is not None:
        more = {"content": json_body(route, chance)}
        headers["content-type"] = "application/json"
    elif method == "PUT":
        more = {"content": chance.randbytes(chance.randrange(2000))}
    elif method != "GET":
        more = {"data": form(chance)}
    return visitor.client.request(method, address, headers=headers, follow_redirects=False, **more)


def wrong(answer: Any, logs: list[Any]) -> str:
    """What is wrong with an answer; empty for one of ours, with all its headers: at worst an error that has a name."""
    missing = [name for name in strict.ALWAYS if name not in answer.headers]
    if missing:
        return f"{answer.status_code} without {missing}"
    if foreseen := [log for log in logs if "nobody foresaw" in log["event"]]:
        logs.clear()
        return "".join(traceback.format_exception(foreseen[0]["exc_info"])[-3:])
    if answer.status_code == 502:
        titles = [kind.title for kind in every_error() if issubclass(kind, TransferError)]
        return "" if any(title in answer.text for title in titles) else answer.text[:300]
    return answer.text[:300] if answer.status_code >= 500 else ""


def token_of(maren: Visitor) -> str:
    """A token of Maren's for everything, so that the API is met too."""
    portal = maren.client.portal
    assert portal is not None
    account = portal.call(maren.nailer.people.accounts.by_name, "maren")
    assert account is not None
    token: str = portal.call(maren.nailer.people.tokens.make, account.id, "fuzz", None, list(Right), 30)
    return token


@pytest.mark.parametrize("seed", range(int(os.environ.get("FUZZ", "2"))))
def test_no_route_fails_in_a_way_nobody_foresaw(maren: Visitor, seed: int) -> None:
    write(maren.here, "index.html")
    write(maren.there, "index.html", "other")
    site = maren.open_site()
    csrf = maren.csrf
    maren.token = token_of(maren)
    known = {
        "site_id": site.rsplit("/", 1)[1],
        "job_id": "1",
        "item_id": "1",
        "draft_id": "1",
        "pair_id": "1",
        "number": "0",
    }
    chance = random.Random(seed)
    found: list[str] = []
    with capture_logs() as logs:
        for method, route in [one for one in routes() for _ in range(4)]:
            address, asked = filled(route.path, chance, known), query(chance)
            answer = one_request(maren, csrf, route, method, chance, f"{address}?{asked}" if asked else address)
            if trouble := wrong(answer, logs):
                found.append(f"{method} {address[:200]}?{asked[:300]}: {trouble}")

    assert not found, "\n".join(found[:10])


@pytest.mark.parametrize("seed", range(2))
def test_before_sign_in_no_route_tells_or_fails(maren: Visitor, seed: int) -> None:
    chance = random.Random(seed)
    maren.client.cookies.clear()
    found: list[str] = []
    with capture_logs() as logs:
        for method, route in routes():
            address = filled(route.path, chance, {"site_id": "1", "job_id": "1"})
            answer = one_request(maren, chance.choice(["a" * 5000, "guess"]), route, method, chance, address)
            shut = answer.status_code in (303, 401, 403, 404) or route.path in OPEN
            if trouble := wrong(answer, logs) or ("" if shut else f"answered {answer.status_code}"):
                found.append(f"{method} {address[:200]}: {trouble}")

    assert not found, "\n".join(found[:10])


def test_every_number_in_an_address_has_its_bound() -> None:
    for _, route in routes():
        for one in route.dependant.path_params:
            if one.field_info.annotation is int:
                bounds = [getattr(rule, "le", None) for rule in one.field_info.metadata]
                assert any(bounds), f"{route.path}: {one.name} has no bound"
