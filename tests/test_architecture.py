"""The house stays as docs/architecture.md draws it: who may import whom, and that nobody reaches past a door."""

from __future__ import annotations

import ast
import re
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src" / "nailer"

# Who may import whom. `errors` and `unbroken` may be used by all and use nobody.
ALLOWED = {
    "core": {"core"},
    "sides": {"core", "sides"},
    "store": {"core", "store", "seal", "sides.identities.identity"},
    "engine": {"core", "engine", "sides", "store"},
    "services": {"core", "engine", "services", "sides", "store"},
    "web": {"core", "services", "settings", "web", "app"},
    "acting": {"core"},
    # The command line needs nothing of the server's: it is installed apart from it.
    "command": {"command"},
    "seal": set(),
    "settings": {"core.numbers", "core.zones"},
    "unbroken": set(),
    "private": set(),
    "ending": set(),
    "watchdog": set(),
    "bounded": {"bounded"},
    "errors": set(),
    "standins": {"app", "core", "sides.identities", "sides.sftp.meeting", "standins", "store"},
}
# Who acts may be asked wherever something is decided, but never in the core.
FOR_ALL = {"errors", "unbroken", "private", "ending", "bounded", "acting"}

# The wings of services in layers: each may use those of the layers below it, by their doors.
LAYERS = (("sites", "people"), ("files",), ("plans",), ("editing", "pairs"), ("checks",), ("packages",))
# The groups of the core, likewise: a group may use itself and those before it.
CORE_GROUPS = (
    "numbers",
    "patterns",
    "zones",
    "files",
    "words",
    "compare",
    "plans",
    "pairs",
    "jobs",
    "connecting",
    "check",
    "site",
    "packages",
    "people",
    "work",
)
# What the core may take from outside: computing, and nothing that reads, writes, waits or asks the clock.
OUTSIDE_CORE = frozenset(
    {
        "PIL",
        "__future__",
        "bisect",
        "calendar",
        "codecs",
        "collections",
        "collections.abc",
        "croniter",
        "dataclasses",
        "datetime",
        "defusedxml",
        "defusedxml.common",
        "difflib",
        "enum",
        "fnmatch",
        "functools",
        "hashlib",
        "html",
        "html.parser",
        "io",  # bytes in memory; a file cannot be opened without a path, and the core has none
        "ipaddress",
        "itertools",
        "json",
        "math",
        "merge3",
        "pathspec",
        "patiencediff",
        "pygments",
        "pygments.formatters",
        "pygments.lexers",
        "pygments.token",
        "pygments.util",
        "re",
        "re2",
        "selectolax.lexbor",
        "string",
        "stat",
        "tinycss2",
        "tinycss2.ast",
        "typing",
        "unicodedata",
        "urllib.parse",
        "xml.etree.ElementTree",
        "zoneinfo",
    }
)


def imports(file: Path) -> list[tuple[int, str]]:
    """Every module that a file imports, with its line; of `from package import module` the package."""
    found = []
    for node in ast.walk(ast.parse(file.read_text())):
        if isinstance(node, ast.Import):
            found += [(node.lineno, alias.name) for alias in node.names]
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.append((node.lineno, node.module))
    return found


def part_of(file: Path) -> str:
    return file.relative_to(SOURCE).parts[0].removesuffix(".py")


def shown(file: Path) -> str:
    return str(file.relative_to(SOURCE))


FILES = [file for file in sorted(SOURCE.rglob("*.py")) if part_of(file) in ALLOWED]


def _shared(part: str) -> set[str]:
    if part == "command":
        return set()
    return {"errors", "unbroken"} if part in FOR_ALL else FOR_ALL


@pytest.mark.parametrize("file", FILES, ids=shown)
def test_data_flows_one_way(file: Path) -> None:
    part = part_of(file)
    for line, name in imports(file):
        if not name.startswith("nailer."):
            continue
        target = name.removeprefix("nailer.")
        allowed = (ALLOWED[part] | _shared(part)) - ({"acting"} if part == "core" else set())
        fits = any(target == one or target.startswith(one + ".") for one in allowed)
        assert fits, f"{file}:{line} imports {name}"


@pytest.mark.parametrize("file", sorted((SOURCE / "core").rglob("*.py")), ids=shown)
def test_the_core_takes_nothing_that_does_io(file: Path) -> None:
    for line, name in imports(file):
        assert name.startswith("nailer.") or name in OUTSIDE_CORE, f"{file}:{line} imports {name}"


def test_the_core_groups_use_only_what_lies_before_them() -> None:
    # A group may use `words`, which are names for what all of them say.
    rank = {name: number for number, name in enumerate(CORE_GROUPS)}
    upward = [
        f"{shown(file)}:{line} imports {name}"
        for file in (SOURCE / "core").rglob("*.py")
        for line, name in imports(file)
        if name.startswith("nailer.core.")
        and file.name != "__init__.py"
        and rank[name.split(".")[2]] > rank[file.relative_to(SOURCE / "core").parts[0].removesuffix(".py")]
        and name != "nailer.core.words"
    ]

    assert not upward


@pytest.mark.parametrize("file", [file for file in FILES if part_of(file) != "core"], ids=shown)
def test_nobody_reaches_past_the_door_of_a_wing(file: Path) -> None:
    own = file.relative_to(SOURCE).parts[1] if part_of(file) == "services" else ""
    for line, name in imports(file):
        parts = name.split(".")
        if parts[:2] == ["nailer", "services"] and len(parts) > 2 and parts[2] != own:
            assert len(parts) == 3, f"{file}:{line} imports {name}, past the door of {parts[2]}"


@pytest.mark.parametrize("file", [file for file in FILES if part_of(file) == "services"], ids=shown)
def test_the_wings_stand_in_layers(file: Path) -> None:
    floor = {wing: number for number, wings in enumerate(LAYERS) for wing in wings}
    own = file.relative_to(SOURCE).parts[1]
    for line, name in imports(file):
        parts = name.split(".")
        if parts[:2] == ["nailer", "services"] and len(parts) > 2 and parts[2] != own:
            assert floor[parts[2]] < floor[own], f"{file}:{line}: {own} uses {parts[2]}, which is not below it"


@pytest.mark.parametrize("file", [file for file in FILES if part_of(file) == "web"], ids=shown)
def test_pages_know_no_store_and_no_engine(file: Path) -> None:
    names = {node.attr for node in ast.walk(ast.parse(file.read_text())) if isinstance(node, ast.Attribute)}

    assert not names & {"stores", "engine"}


_LIBRARIES = (
    "PIL",
    "croniter",
    "defusedxml",
    "merge3",
    "patiencediff",
    "pathspec",
    "pygments",
    "re2",
    "selectolax",
    "tinycss2",
)


@pytest.mark.parametrize(
    "file", [*sorted((SOURCE / "sides").rglob("*.py")), *sorted((SOURCE / "engine").glob("*.py"))], ids=shown
)
def test_errors_name_their_path_in_a_field(file: Path) -> None:
    """A file is known by its temporary name to the sides alone: a name inside a sentence could not be told from it."""
    sentences = [
        node.exc.args[0]
        for node in ast.walk(ast.parse(file.read_text()))
        if isinstance(node, ast.Raise) and isinstance(node.exc, ast.Call) and node.exc.args
    ]
    written = {
        ast.unparse(part)
        for node in sentences
        for part in ast.walk(node)
        if isinstance(part, ast.FormattedValue)
        and {one.id for one in ast.walk(part) if isinstance(one, ast.Name)} & {"path", "old", "new", "part", "aside"}
    }

    assert not written or file.name == "meeting.py", written  # a key file of this machine has one name only


def test_every_folder_and_module_is_spoken_for() -> None:
    parts = {part_of(file) for file in SOURCE.rglob("*.py")}
    wings = {one.parent.name for one in (SOURCE / "services").glob("*/__init__.py")}
    groups = {one.relative_to(SOURCE / "core").parts[0].removesuffix(".py") for one in (SOURCE / "core").rglob("*.py")}

    assert parts - set(ALLOWED) == {"__init__", "app", "cli", "cli_accounts", "cli_serve", "main"}
    assert wings == {wing for wings in LAYERS for wing in wings}
    assert groups - {"__init__"} == set(CORE_GROUPS)
    assert not OUTSIDE_CORE & {"os", "socket", "time", "pathlib", "asyncio", "random", "subprocess", "threading"}
    assert all(
        name.split(".")[0] in sys.stdlib_module_names for name in OUTSIDE_CORE if not name.startswith(_LIBRARIES)
    )


def test_the_documents_draw_every_wing() -> None:
    text = (SOURCE.parent.parent / "docs" / "architecture.md").read_text()

    assert all(f"services/{wing}/" in text for wings in LAYERS for wing in wings)


def test_every_request_by_sftp_is_awaited_where_the_librarys_errors_become_ours() -> None:
    """A request that is awaited bare lets an error of the library through, which no caller knows."""
    request = re.compile(r"client\.(lstat|stat|readlink|realpath|mkdir|symlink|setstat|listdir|rename|remove|rmdir)\(")
    heard = ("ask(", "_or_because(", "_unless_refused(")
    bare = [
        f"{file.name}: {line.strip()}"
        for file in (SOURCE / "sides" / "sftp").glob("*.py")
        for line in file.read_text().splitlines()
        if request.search(line) and not any(one in line for one in heard)
    ]
    assert bare == []


_BEGIN_TASKS = {"nailer/unbroken.py", "nailer/cli_serve.py"}


@pytest.mark.parametrize("file", FILES, ids=shown)
def test_tasks_are_begun_where_they_are_ended(file: Path) -> None:
    """Wings begin what goes on beside them by `engine/tasks.py` and `engine/work.py`, which end it, too."""
    name = str(file.relative_to(SOURCE.parent))
    if name.startswith(("nailer/engine/", "nailer/sides/", "nailer/standins/")) or name in _BEGIN_TASKS:
        return
    begun = [
        node.lineno
        for node in ast.walk(ast.parse(file.read_text()))
        if isinstance(node, ast.Attribute) and node.attr in ("create_task", "ensure_future", "TaskGroup")
    ]
    assert begun == [], f"{name} begins tasks of its own in lines {begun}"


def _calls(tree: ast.AST) -> Iterator[tuple[int, str, list[str]]]:
    """Line, name of what is called, and names among its arguments."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Call):
            name = node.func.id if isinstance(node.func, ast.Name) else getattr(node.func, "attr", "")
            yield node.lineno, name, [one.id for one in node.args if isinstance(one, ast.Name)]


def _from_core(tree: ast.AST) -> set[str]:
    """Names that a module takes from the core."""
    return {
        alias.asname or alias.name
        for node in ast.walk(tree)
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("nailer.core")
        for alias in node.names
    }


def test_what_is_read_within_bounds_is_read_so_everywhere() -> None:
    """What others wrote may keep its reader busy for minutes: one call on the event loop would hold everybody."""
    trees = {file: ast.parse(file.read_text()) for file in FILES if part_of(file) in ("web", "services", "engine")}
    readers = {
        arguments[0]
        for tree in trees.values()
        for _, name, arguments in _calls(tree)
        if name == "bounded" and arguments
    }
    assert len(readers) > 12
    theirs = {file: readers & _from_core(tree) for file, tree in trees.items()}
    on_the_loop = [
        f"{shown(file)}:{line} {name}"
        for file, tree in trees.items()
        for line, name, _ in _calls(tree)
        if name in theirs[file]
    ]
    assert not on_the_loop, "\n".join(on_the_loop)
