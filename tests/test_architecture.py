"""The direction of imports stays as docs/architecture.md draws it."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src" / "nailer"

# Who may import whom. `errors` and `unbroken` may be used by all and use nobody.
ALLOWED = {
    "core": {"core"},
    "sides": {"core", "sides"},
    "store": {"core", "store", "seal", "sides.identity"},
    "engine": {"core", "engine", "sides", "store"},
    "services": {"core", "engine", "services", "sides", "store"},
    "web": {"core", "services", "engine.live", "engine.runner", "store", "web", "app"}
    | {"sides.identity", "sides.certificate", "sides.knownhosts", "sides.wire"},
    "seal": set(),
    "settings": set(),
    "unbroken": set(),
    "errors": set(),
    "standins": {"app", "core", "sides.certificate", "sides.identity", "sides.meeting", "standins", "store"},
}
OUTSIDE_CORE = {"asyncio", "os", "socket", "time", "pathlib", "pymysql", "asyncssh", "fastapi", "starlette", "random"}
FOR_ALL = {"errors", "unbroken"}


def imports(file: Path) -> list[tuple[int, str]]:
    found = []
    for node in ast.walk(ast.parse(file.read_text())):
        if isinstance(node, ast.Import):
            found += [(node.lineno, alias.name) for alias in node.names]
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.append((node.lineno, node.module))
    return found


def part_of(file: Path) -> str:
    return file.relative_to(SOURCE).parts[0].removesuffix(".py")


FILES = [file for file in sorted(SOURCE.rglob("*.py")) if part_of(file) in ALLOWED]


@pytest.mark.parametrize("file", FILES, ids=lambda one: str(one.relative_to(SOURCE)))
def test_data_flows_one_way(file: Path) -> None:
    part = part_of(file)
    for line, name in imports(file):
        if not name.startswith("nailer."):
            continue
        target = name.removeprefix("nailer.")
        allowed = ALLOWED[part] | (FOR_ALL if part not in FOR_ALL else set())
        fits = any(target == one or target.startswith(one + ".") for one in allowed)
        assert fits, f"{file}:{line} imports {name}"


@pytest.mark.parametrize("file", sorted((SOURCE / "core").glob("*.py")), ids=lambda one: one.name)
def test_the_core_does_no_io(file: Path) -> None:
    for line, name in imports(file):
        assert name.split(".")[0] not in OUTSIDE_CORE, f"{file}:{line} imports {name}"


def test_the_rules_of_this_test_cover_every_part() -> None:
    parts = {part_of(file) for file in SOURCE.rglob("*.py")}

    assert parts - set(ALLOWED) == {"__init__", "app", "cli"}
