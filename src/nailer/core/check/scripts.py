"""What keeps a script from running, in the order in which it is met: place, name, permissions, first line, interpreter,
syntax, and what the web answers. Each slip has a repair of one step (POSIX, execve; RFC 3875)."""

from __future__ import annotations

import itertools
import re
from dataclasses import dataclass
from enum import StrEnum

from nailer.core.check.live import Fetched
from nailer.core.files.entry import Entry
from nailer.core.files.permissions import octal

ENDINGS = (b".cgi", b".pl", b".py", b".rb", b".sh", b".fcgi")
_BOM = b"\xef\xbb\xbf"
_FIRST = re.compile(rb"#!\s*(?P<path>/\S+)(?P<rest>[^\n]*)")


class Repair(StrEnum):
    """What one step can mend."""

    PERMISSIONS = "permissions"
    FOLDERS = "folders"
    FIRST_LINE = "first-line"
    TAKE_DOWN = "take-down"


@dataclass(frozen=True, slots=True)
class ScriptMark:
    """One thing that was looked at. `good` None: it cannot be told from here, and `words` says why."""

    what: str
    good: bool | None
    words: str
    repair: Repair | None = None


def is_script(name: bytes) -> bool:
    """
    >>> is_script(b"next-boat.CGI"), is_script(b"index.php")
    (True, False)
    """
    return name.lower().endswith(ENDINGS)


def of_permissions(entry: Entry) -> ScriptMark:
    """Whether the web server may run it, and nobody else may change it: many hosts refuse what others can write."""
    permissions = entry.permissions
    if permissions is None:
        return ScriptMark("Run permission", None, "the server does not report permissions")
    if permissions & 0o022:
        words = f"{octal(permissions)}: others can change it, and many hosts refuse to run such a script"
        return ScriptMark("Run permission", False, words, Repair.PERMISSIONS)
    if permissions & 0o555 != 0o555:
        words = f"{octal(permissions)}: not everyone can read and run it"
        return ScriptMark("Run permission", False, words, Repair.PERMISSIONS)
    return ScriptMark("Run permission", True, f"{octal(permissions)}, everyone may run it")


def of_folders(folders: list[tuple[str, int | None]]) -> ScriptMark:
    """Whether every folder above it can be entered by everybody; each with its permissions."""
    closed = [
        f"{name} ({octal(permissions)})"
        for name, permissions in folders
        if permissions is not None and not permissions & 0o001
    ]
    if closed:
        return ScriptMark("Folders above it", False, f"no one else may enter {', '.join(closed)}", Repair.FOLDERS)
    if any(permissions is None for _, permissions in folders):
        return ScriptMark("Folders above it", None, "the server does not say who may enter them")
    return ScriptMark("Folders above it", True, "can be entered")


def of_beginning(data: bytes) -> list[ScriptMark]:
    """The first bytes and the first line.

    >>> [one.good for one in of_beginning(b"#!/usr/bin/perl\\n")], of_beginning(b"#!/bin/sh\\r\\n")[1].good
    ([True, True], False)
    """
    first = data.partition(b"\n")[0]
    if data.startswith(_BOM):
        begins = ScriptMark("First bytes", False, "a byte order mark stands before #!", Repair.FIRST_LINE)
    elif data.startswith(b"#!"):
        begins = ScriptMark("First bytes", True, "#! and nothing before it")
    elif data.lstrip().startswith(b"#!"):
        begins = ScriptMark("First bytes", False, "blanks or empty lines stand before #!", Repair.FIRST_LINE)
    else:
        begins = ScriptMark("First bytes", False, "it does not begin with #! and its interpreter")
    if b"\r" in first or (data.startswith(b"#!") and b"\r\n" in data[:4096]):
        ends = ScriptMark(
            "Line ends",
            False,
            "lines end in CR LF: the server would look for an interpreter whose name ends in CR",
            Repair.FIRST_LINE,
        )
    else:
        ends = ScriptMark("Line ends", True, "no CR in the first line")
    return [begins, ends]


# What stands before a file's name where it is brought in. Only so much is looked at: a file may be one long line.
_BRINGS_IN = re.compile(
    rb"""(?:\b(?:require|require_relative|do|load|source)\b|(?:^|[\s;])\.)[ \t]*\(?[ \t]*["']?[\w./-]*$"""
)
_BEFORE_BYTES, _MOST_PLACES = 160, 200


def includes(text: bytes, name: bytes) -> bool:
    """True where a script brings another file of its folder in by that name: then the other need not run by itself.

    >>> includes(b"require './lib.pl';", b"lib.pl"), includes(b"from tides import today", b"tides.py")
    (True, True)
    >>> includes(b"# lib.pl is not needed here", b"lib.pl")
    False
    """
    whole = re.compile(rb"(?<!\w)%b(?!\w)" % re.escape(name))
    for found in itertools.islice(whole.finditer(text), _MOST_PLACES):
        before = text[max(0, found.start() - _BEFORE_BYTES) : found.start()].rpartition(b"\n")[2]
        if b"#" not in before and _BRINGS_IN.search(before):
            return True
    stem = re.escape(name.rpartition(b".")[0])
    if not stem:
        return False
    by_stem = (
        rb"^[ \t]*(?:from[ \t]+\.?%b[ \t]+import|import[ \t]+%b|use[ \t]+%b"
        rb"|require_relative[ \t]+[\"'](?:\./)?%b[\"'])(?!\w)"
    )
    return re.search(by_stem.replace(b"%b", stem), text, re.M) is not None


def interpreter(data: bytes) -> bytes | None:
    """The path of the program that runs a script, and for `env` the program it looks for.

    >>> interpreter(b"#!/usr/bin/env python3\\n"), interpreter(b"#! /bin/sh -e\\n"), interpreter(b"x")
    (b'/usr/bin/env', b'/bin/sh', None)
    """
    found = _FIRST.match(data.lstrip(_BOM).lstrip())
    return found["path"].rstrip(b"\r") if found else None


def mended(data: bytes) -> bytes:
    """The content with #! as its first bytes and lines that end in a line feed.

    >>> mended(b"\\xef\\xbb\\xbf\\r\\n#!/bin/sh\\r\\necho\\r\\n")
    b'#!/bin/sh\\necho\\n'
    """
    return data.removeprefix(_BOM).lstrip(b" \t\r\n").replace(b"\r\n", b"\n")


def of_answer(answer: Fetched | None) -> ScriptMark:
    """What the web answers, and what that means for a script."""
    what = "What the web answers"
    if answer is None:
        return ScriptMark(what, None, "it is outside the folders that the web address serves")
    if answer.status is None:
        return ScriptMark(what, None, f"the address does not answer: {answer.words}")
    if answer.begins.lstrip("\ufeff \r\n").startswith("#!"):
        words = "its own text: it is not run here, and anybody can read it"
        return ScriptMark(what, False, words, Repair.TAKE_DOWN)
    match answer.status:
        case 404:
            return ScriptMark(what, False, "404: scripts are looked for in another folder, or under another name")
        case 403:
            return ScriptMark(
                what,
                False,
                "403: the server does not allow this script, or no scripts in this folder",
                Repair.PERMISSIONS,
            )
        case status if status >= 500:
            detail = f" “{answer.trouble}”" if answer.trouble else ""
            return ScriptMark(
                what,
                False,
                f"{status}: the script failed or sent no header.{detail} See the server's error log",
            )
    return ScriptMark(what, True, f"{answer.status}, {answer.size} bytes")
