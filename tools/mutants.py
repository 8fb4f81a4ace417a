"""Does a test notice? Changes a module in small ways, one at a time, and names the changes that no test failed at.

`python tools/mutants.py core/compare/joint.py --tests tests/core/compare [--sample 60]`. It works in a copy of the tree, two
changes at a time. A change that makes the tests run for ever counts as noticed. By hand only: it takes minutes a module.
"""

from __future__ import annotations

import argparse
import ast
import copy
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

TOP = Path(__file__).parent.parent
_WITHIN_S = 240
_AT_ONCE = 2
_OTHER_COMPARISON: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE,
    ast.LtE: ast.Lt,
    ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
}
_OTHER_SUM: dict[type[ast.operator], type[ast.operator]] = {ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Add}


@dataclass(frozen=True)
class Mutant:
    """A module with one change: at which line, what stands there now, and the whole text."""

    line: int
    change: str
    text: str


def mutants(source: str) -> Iterator[Mutant]:
    """Every module that differs from `source` by one change."""
    tree = ast.parse(source)
    ornaments = {
        id(part)
        for node in ast.walk(tree)
        for decorator in getattr(node, "decorator_list", [])
        for part in ast.walk(decorator)
    }
    for number, node in enumerate(ast.walk(tree)):
        if id(node) in ornaments:
            continue
        for change in _changes(node):
            other = copy.deepcopy(tree)
            twin = next(one for at, one in enumerate(ast.walk(other)) if at == number)
            before = ast.unparse(twin)
            change(twin)
            line = getattr(node, "lineno", 0)
            yield Mutant(
                line, f"{before[:60]}  ->  {ast.unparse(twin)[:60]}", ast.unparse(ast.fix_missing_locations(other))
            )


def _changes(node: ast.AST) -> list:  # type: ignore[type-arg]
    """Functions that each make one change to a node like this one."""
    match node:
        case ast.Compare(ops=[op]) if type(op) in _OTHER_COMPARISON:
            return [lambda one: one.ops.__setitem__(0, _OTHER_COMPARISON[type(op)]())]
        case ast.BoolOp(op=ast.And()):
            return [lambda one: setattr(one, "op", ast.Or())]
        case ast.BoolOp(op=ast.Or()):
            return [lambda one: setattr(one, "op", ast.And())]
        case ast.If() | ast.IfExp():
            return [lambda one: setattr(one, "test", ast.UnaryOp(ast.Not(), one.test))]
        case ast.Constant(value=bool(value)):
            return [lambda one: setattr(one, "value", not value)]
        case ast.Constant(value=int(value)):
            return [lambda one: setattr(one, "value", value + 1)]
        case ast.BinOp(op=op) if type(op) in _OTHER_SUM:
            return [lambda one: setattr(one, "op", _OTHER_SUM[type(op)]())]
        case ast.Continue():
            return [lambda one: setattr(one, "__class__", ast.Break)]
    return []


def survives(mutant: Mutant, module: str, tests: list[str]) -> bool:
    """True where every test passes with the change."""
    with tempfile.TemporaryDirectory(prefix="mutant-") as folder:
        place = Path(folder)
        shutil.copytree(TOP / "src", place / "src", ignore=shutil.ignore_patterns("__pycache__", "vendor"))
        for name in ("tests", "pyproject.toml", ".venv", "tools"):
            (place / name).symlink_to(TOP / name)
        (place / "src" / "nailer" / module).write_text(mutant.text)
        # Temporary folders of its own: runs that share them clear away each other's old ones.
        scratch = f"--basetemp={place / 'tmp'}"
        command = [sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:xdist", scratch, *tests]
        environment = os.environ | {"PYTHONPATH": "src", "PYTHONDONTWRITEBYTECODE": "1"}
        try:
            done = subprocess.run(
                command, cwd=place, env=environment, capture_output=True, timeout=_WITHIN_S, check=False
            )
        except subprocess.TimeoutExpired:
            return False
        return done.returncode == 0


def main() -> int:
    """Print the share of changes that nobody noticed, and which they are."""
    reads = argparse.ArgumentParser(description=__doc__)
    reads.add_argument("module", help="a file below src/nailer")
    reads.add_argument("--tests", nargs="+", required=True)
    reads.add_argument("--sample", type=int, default=0, help="try so many, picked at random; 0 for all")
    asked = reads.parse_args()
    source = (TOP / "src" / "nailer" / asked.module).read_text()
    if not survives(Mutant(0, "", source), asked.module, asked.tests):
        sys.exit("These tests fail without any change, so they would seem to notice every one.")
    found = list(mutants(source))
    if asked.sample and len(found) > asked.sample:
        found = random.Random(7).sample(found, asked.sample)  # noqa: S311 - the same sample each time
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        alive = list(pool.map(lambda one: survives(one, asked.module, asked.tests), found))
    left = [one for one, lives in zip(found, alive, strict=True) if lives]
    for one in sorted(left, key=lambda one: one.line):
        sys.stdout.write(f"{asked.module}:{one.line}: {one.change}\n")
    sys.stdout.write(
        f"{len(left)} of {len(found)} changes were not noticed: {100 * len(left) // max(1, len(found))} %\n"
    )
    return 0


if __name__ == "__main__":
    sys.exit(main())
