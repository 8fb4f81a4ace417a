"""Reads the SQL files: each query by name, with the shape of its result.

-- name: due_jobs(now, limit)      rows           -- name: ...^   one row or None
-- name: ...$   one value          -- name: ...!  rows affected
-- name: ...*   many rows at once, as one JSON parameter `rows` of objects with these arguments; bytes in hex
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from importlib import resources

_HEAD = re.compile(r"^-- name: (?P<name>\w+)\((?P<args>[^)]*)\)(?P<shape>[\^$!*]?)\s*$", re.MULTILINE)


@dataclass(frozen=True, slots=True)
class Query:
    """One statement. `shape` is '' for rows, '^' one row, '$' one value, '!' rows affected,
    '*' many rows in one statement."""

    name: str
    arguments: tuple[str, ...]
    shape: str
    sql: str


def parse_queries(family: str, text: str) -> dict[str, Query]:
    """The queries of one file, as `family.name`.

    >>> parse_queries("jobs", "-- name: one(id)^\\nSELECT 1 WHERE %(id)s;")["jobs.one"].shape
    '^'
    """
    heads = list(_HEAD.finditer(text))
    found = {}
    for number, head in enumerate(heads):
        end = heads[number + 1].start() if number + 1 < len(heads) else len(text)
        arguments = tuple(part.strip() for part in head["args"].split(",") if part.strip())
        sql = text[head.end() : end].strip().rstrip(";")
        name = f"{family}.{head['name']}"
        if name in found:
            raise ValueError(f"two queries are called {name}")
        found[name] = Query(name, arguments, head["shape"], sql)
    return found


def load_queries() -> dict[str, Query]:
    """Every query that ships with Nailer."""
    found: dict[str, Query] = {}
    for file in sorted(resources.files("nailer.store.queries").iterdir(), key=lambda one: one.name):
        if file.name.endswith(".sql"):
            found |= parse_queries(file.name.removesuffix(".sql"), file.read_text("utf-8"))
    return found
