"""Every text of the program that a person may read: on pages, in messages and mails, at the command line."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

SOURCE = Path(__file__).parents[2] / "src" / "nailer"
# What people never read: SQL, libraries, and the servers that ship with Nailer for its demo and its tests.
_PASSED_OVER = ("standins/", "store/queries", "store/migrations", "static/vendor", "__pycache__")
_SHOWN_ATTRIBUTE = re.compile(r'\b(?:title|aria-label|placeholder|alt|label|help)="([^"]*)"')
_QUOTED = re.compile(r'"((?:[^"\\\n]|\\.)*)"|\'((?:[^\'\\\n]|\\.)*)\'')
_LITERAL = re.compile(r'"((?:[^"\\\n]|\\.)*)"|\'((?:[^\'\\\n]|\\.)*)\'|`((?:[^`\\]|\\.)*)`', re.S)
_SCRIPT_COMMENT = re.compile(r"/\*.*?\*/|(?<![:\"'`])//[^\n]*", re.S)
_JINJA = re.compile(r"\{[{%].*?[%}]\}", re.S)
_INLINE = re.compile(r"</?(?:b|i|em|span|code|kbd|a|strong)\b[^>]*>")
# Nailer's own log is for an administrator with the code beside it.
_LOGGED = {"info", "warning", "error", "exception", "debug"}


@dataclass(frozen=True, slots=True)
class Text:
    """A text, its file below the package, and its line. What is filled in shows as {}."""

    where: str
    line: int
    words: str


def all_texts() -> Iterator[Text]:
    """Every text, file by file."""
    readers = {".html": _in_template, ".txt": _in_template, ".py": _in_python, ".js": _in_script}
    for file in sorted(SOURCE.rglob("*")):
        where = file.relative_to(SOURCE).as_posix()
        reader = readers.get(file.suffix)
        if reader is None or any(part in where for part in _PASSED_OVER):
            continue
        for line, words in reader(file.read_text()):
            if shown := " ".join(words.split()):
                yield Text(where, line, shown)


def _in_template(source: str) -> Iterator[tuple[int, str]]:
    source = re.sub(r"\{#.*?#\}", _blank, source, flags=re.S)
    for found in _JINJA.finditer(source):
        if not found.group().startswith(("{% include", "{% extends", "{% from", "{% import")):
            for at, words in _literals(_QUOTED, found.group()):
                yield _line(source, found.start() + at), words
    plain = _JINJA.sub(_blank, source)
    for found in _SHOWN_ATTRIBUTE.finditer(plain):
        yield _line(plain, found.start()), found.group(1)
    text = _INLINE.sub("", re.sub(r"<(script|style)\b.*?</\1>", _blank, plain, flags=re.S))
    for found in re.finditer(
        r"[^<>]+", re.sub(r"<[^>]*>", lambda tag: "<" + "\n" * tag.group().count("\n") + ">", text)
    ):
        if found.group().strip():
            yield _line(text, found.start()), found.group()


def _in_python(source: str) -> Iterator[tuple[int, str]]:
    tree = ast.parse(source)
    passed: set[ast.AST] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            passed.add(node.value)  # a docstring
        elif isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr in _LOGGED:
            passed.update(ast.walk(node))
    for node in ast.walk(tree):
        if node in passed:
            continue
        if isinstance(node, ast.JoinedStr):
            passed.update(part for part in node.values if isinstance(part, ast.Constant))
            yield (
                node.lineno,
                "".join(str(part.value) if isinstance(part, ast.Constant) else "{}" for part in node.values),
            )
        elif isinstance(node, ast.Constant) and isinstance(node.value, str) and " " in node.value.strip():
            yield node.lineno, node.value


def _in_script(source: str) -> Iterator[tuple[int, str]]:
    source = _SCRIPT_COMMENT.sub(_blank, source)
    for at, words in _literals(_LITERAL, source):
        yield _line(source, at), re.sub(r"\$\{[^}]*\}", "{}", words)


def _literals(pattern: re.Pattern[str], source: str) -> Iterator[tuple[int, str]]:
    """Literals that read like texts: of several words, or with a capital letter."""
    for found in pattern.finditer(source):
        words = next((one for one in found.groups() if one is not None), "")
        if " " in words.strip() or words[:1].isupper():
            yield found.start(), words


def _blank(found: re.Match[str]) -> str:
    return "\n" * found.group().count("\n") or " "


def _line(source: str, at: int) -> int:
    return source.count("\n", 0, at) + 1
