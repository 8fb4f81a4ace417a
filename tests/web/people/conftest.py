"""A second person beside Maren: a clerk, with a browser of their own."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from typing import Any

from starlette.testclient import TestClient

from nailer.core.files.sitepath import SitePath
from nailer.core.people.rights import Grant, Right
from tests.web.conftest import Visitor

PASSWORD = "harbour-gate-seven"


def portal_of(visitor: Visitor) -> Any:
    portal = visitor.client.portal
    assert portal is not None
    return portal


def number_of(site: str) -> int:
    return int(site.rsplit("/", 1)[1])


def grant(*rights: Right, there: str = "", here: str = "") -> Grant:
    folders = [SitePath.parse(one.encode()) if one else None for one in (there, here)]
    return Grant(frozenset(rights), folders[0], folders[1])


@contextmanager
def another(maren: Visitor, name: str, grants: dict[int, Grant]) -> Iterator[Visitor]:
    """Somebody with an account and these grants, signed in."""
    nailer, portal = maren.nailer, portal_of(maren)
    account_id = portal.call(nailer.people.accounts.make, name, PASSWORD)
    for site_id, one in grants.items():
        portal.call(nailer.stores.grants.give, account_id, site_id, one)
    # A second client on the running application: its life begins and ends with Maren's.
    client = TestClient(maren.client.app, follow_redirects=True)
    client.portal = portal
    person = replace(maren, client=client, password=PASSWORD)
    answer = client.post("/sign-in", data={"name": name, "password": PASSWORD}, headers={"accept": "text/html"})
    assert answer.status_code == 200, answer.text
    yield person


def tokens(page: str, name: str) -> list[str]:
    return re.findall(rf'{name}="([^"]*)"', page)
