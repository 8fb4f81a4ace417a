"""Asking a Nailer over its API."""

from __future__ import annotations

import json
import secrets
from collections.abc import Iterator
from typing import Any
from urllib.parse import quote, urlencode

import httpx2

_WITHIN_S = 120.0


class Refused(Exception):
    """What Nailer refused, with its words; `status` 0: it did not answer."""

    def __init__(self, status: int, said: str, advice: list[str], fields: dict[str, str]) -> None:
        super().__init__(said)
        self.status = status
        self.said = said
        self.advice = advice
        self.fields = fields

    @property
    def needs_person(self) -> bool:
        """True where only a person can go on: something changed, is guarded, or waits for a word."""
        return self.status == 409 or "typed" in self.fields


class Client:
    """One Nailer, and the token it knows us by."""

    def __init__(self, address: str, token: str, transport: httpx2.BaseTransport | None = None) -> None:
        headers = {"Authorization": f"Bearer {token}", "User-Agent": "nailer command"}
        base = address.rstrip("/") + "/api/v1"
        self._http = httpx2.Client(base_url=base, headers=headers, timeout=_WITHIN_S, transport=transport)

    def get(self, address: str, /, **query: str | int) -> Any:
        """What lies at an address of the API. Raises Refused."""
        wanted = {name: value for name, value in query.items() if value != ""}
        return self._answer(self._send("GET", f"{address}?{urlencode(wanted)}" if wanted else address))

    def all(self, address: str, /, **query: str | int) -> Iterator[Any]:
        """Every item of a list, page after page."""
        after: str | None = ""
        while after is not None:
            page = self.get(address, **query, after=after)
            yield from page["items"]
            after = page["next"]

    def post(self, path: str, body: dict[str, Any] | None = None) -> Any:
        """Change something, once even where the line is cut and it is sent again. Raises Refused."""
        key = secrets.token_hex(16)
        for tries in (1, 2, 3):
            try:
                return self._answer(self._send("POST", path, json.dumps(body or {}), {"Idempotency-Key": key}))
            except Refused as refused:
                if refused.status != 0 or tries == 3:
                    raise
        raise AssertionError("the last try returns or raises")

    def follow(self, job_id: int) -> Iterator[Any]:
        """A job after every change, until it has ended or needs a person. Raises Refused."""
        try:
            with self._http.stream("GET", f"/jobs/{job_id}/events") as stream:
                if stream.status_code != 200:
                    stream.read()
                    self._answer(stream)
                for line in stream.iter_lines():
                    if line.startswith("data:"):
                        yield json.loads(line[5:])
        except httpx2.HTTPError as error:
            raise Refused(0, f"Nailer is not responding: {error}.", [], {}) from error

    def _send(
        self, method: str, path: str, body: str | None = None, more: dict[str, str] | None = None
    ) -> httpx2.Response:
        headers = (more or {}) | ({"Content-Type": "application/json"} if body is not None else {})
        try:
            return self._http.request(method, path, content=body, headers=headers)
        except httpx2.HTTPError as error:
            raise Refused(
                0, f"Nailer is not responding: {error}.", ["Check the address and that Nailer is running."], {}
            ) from error

    @staticmethod
    def _answer(response: httpx2.Response) -> Any:
        try:
            body = response.json()
        except ValueError as error:
            said = (
                "This address does not belong to a Nailer server."
                if response.is_success
                else f"Nailer returned status {response.status_code}."
            )
            raise Refused(response.status_code, said, [], {}) from error
        if response.is_success:
            return body
        said = body.get("detail") or body.get("title") or f"Nailer returned status {response.status_code}."
        raise Refused(response.status_code, said, body.get("advice", []), body.get("fields", {}))


def token_of(path: str) -> str:
    """A path as the API takes it, from one as it is typed: bytes that are no UTF-8 stay what they are."""
    return quote(path.encode("utf-8", "surrogateescape"), safe="/-._~")
