"""The whole application behind a client that speaks HTTP, with a real database and a real SFTP server."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from starlette.testclient import TestClient

from nailer.app import Nailer, join
from nailer.standins.sftp import SftpHost
from nailer.store.database import Database
from nailer.web.app import create_app
from tests.world import LIGHT, settings_for

FIRST = {"name": "maren", "password": "gannets-and-gorse", "again": "gannets-and-gorse"}
PAGE = {"accept": "text/html"}


class Answer:
    """An answer as a person reads it: white space of any length in a page counts as one blank. All else is as it came."""

    def __init__(self, response: Any) -> None:
        self._response = response

    @property
    def text(self) -> str:
        text: str = self._response.text
        is_page = "text/html" in self._response.headers.get("content-type", "")
        return re.sub(r"\s+", " ", text) if is_page else text

    def __getattr__(self, name: str) -> Any:
        return getattr(self._response, name)


@dataclass
class Visitor:
    """A person at the pages. `here` and `there` are the pair's folders on this machine's disk."""

    client: TestClient
    nailer: Nailer
    host: SftpHost
    here: Path
    there: Path
    token: str = ""
    password: str = FIRST["password"]

    def get(self, address: str, **more: Any):  # type: ignore[no-untyped-def]
        return Answer(self.client.get(address, headers=PAGE, **more))

    @property
    def csrf(self) -> str:
        found = re.search(r'name="csrf"\s+content="([^"]+)"', self.get("/sites").text)
        assert found, "no token in the page"
        return found[1]

    def confirm(self) -> None:
        """Prove once more who this is, as the gate asks."""
        form = {"csrf": self.csrf, "proof": self.password, "next": "/account"}
        answer = self.client.post("/account/confirm", data=form, headers=PAGE, follow_redirects=False)
        assert answer.status_code == 303, answer.text

    def post_form(self, address: str, **fields: str):  # type: ignore[no-untyped-def]
        """Send a form; where the gate asks who this is, prove it and send it again, as a person does."""
        form = {"csrf": self.csrf} | fields
        answer = self.client.post(address, data=form, headers=PAGE)
        if answer.url.path == "/account/confirm" and address != "/account/confirm":
            self.confirm()
            answer = self.client.post(address, data=form, headers=PAGE)
        return Answer(answer)

    def post(self, address: str, body: Any = None, **headers: str):  # type: ignore[no-untyped-def]
        sent = {"x-csrf": self.csrf} | headers
        answer = self.client.post(address, json=body or {}, headers=sent)
        if answer.status_code == 403 and '"ConfirmFirst"' in answer.text:
            self.confirm()
            answer = self.client.post(address, json=body or {}, headers=sent)
        return Answer(answer)

    def put(self, address: str, content: bytes):  # type: ignore[no-untyped-def]
        """Send bytes as they are."""
        return Answer(self.client.put(address, content=content, headers={"x-csrf": self.csrf}))

    def first_account(self) -> None:
        self.client.post("/first-account", data=FIRST | {"word": self.nailer.people.accounts.first_word})

    def add_site(self, **fields: str) -> str:
        """Add the site; return its address."""
        usual = {
            "name": "Moss Lane",
            "host": "ftp.mosslane.example",
            "user_name": "seedlib",
            "password": "sow-and-reap",
            "start_here": "studio/moss",
            "start_there": "/htdocs",
            "web_address_0": "https://mosslane.example/",
            "guarded": "/htdocs/mail",
        }
        response = self.client.post(
            "/sites", data={"csrf": self.csrf} | usual | fields, headers=PAGE, follow_redirects=False
        )
        assert response.status_code == 303, response.text
        return str(response.headers["location"]).split("/files")[0]

    def open_site(self) -> str:
        """Add the site, meet its server, trust it; return its address."""
        return self.open_site_at(self.add_site())

    def open_site_at(self, site: str) -> str:
        """Meet a site's server and trust it."""
        met = self.post(f"{site}/open")
        key = re.search(r'name="public_key"\s+value="([^"]+)"', met.text)
        assert key, met.text
        self.post_form(f"{site}/trust", public_key=key[1].replace("&#43;", "+"), how="always")
        assert self.post(f"{site}/open").json() == {"ok": True}
        return site


@pytest.fixture
def visitor(database: Database, migrated_url: str, tmp_path: Path) -> Iterator[Visitor]:
    here, root = tmp_path / "here" / "moss", tmp_path / "there"
    here.mkdir(parents=True)
    (root / "htdocs").mkdir(parents=True)
    settings = settings_for(tmp_path)
    nailer = join(settings, migrated_url, hasher=LIGHT)
    host = SftpHost(root, "seedlib", "sow-and-reap")
    with TestClient(create_app(nailer), follow_redirects=True) as client:
        portal = client.portal
        assert portal is not None
        settings.routes["ftp.mosslane.example:22"] = f"127.0.0.1:{portal.call(host.start)}"
        yield Visitor(client, nailer, host, here, root / "htdocs")
        portal.call(host.stop)


@pytest.fixture
def maren(visitor: Visitor) -> Visitor:
    """Signed in."""
    visitor.first_account()
    return visitor
