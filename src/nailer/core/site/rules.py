"""Rules that a web server reads from a file in the folder itself (`.htaccess`, as Apache's core and mod_alias take them)."""

from __future__ import annotations

import re
from collections.abc import Sequence

from nailer.core.files.sitepath import SitePath
from nailer.core.site.exposed import Danger
from nailer.errors import InvalidInput

NAME = b".htaccess"
_NO_LISTS = "Options -Indexes"


def without_lists(text: str) -> str:
    """The rules with one more: folders without a first page show nothing. The same where that is there already.

    >>> without_lists("")
    'Options -Indexes\\n'
    """
    if re.search(r"^[ \t]*Options[ \t][^\n]*-Indexes\b", text, re.I | re.M):
        return text
    return _after(text, _NO_LISTS)


def forbidding(text: str, paths: Sequence[tuple[SitePath, Danger | None]]) -> str:
    """The rules with one more: nobody gets these names. A folder's history is forbidden wherever it lies below.

    Raises InvalidInput where a name cannot stand in a rule: one that is written wrongly shuts the whole folder.
    """
    names = sorted({_plainly(path) for path, danger in paths if danger is not Danger.HISTORY})
    folders = sorted({_plainly(path) for path, danger in paths if danger is Danger.HISTORY})
    lines = []
    if names:
        lines += [f'<FilesMatch "^({"|".join(names)})$">', "  Require all denied", "</FilesMatch>"]
    if folders:
        lines.append(f'RedirectMatch 404 "/({"|".join(folders)})(/|$)"')
    more = "\n".join(lines)
    return text if not lines or more in text else _after(text, more)


def _plainly(path: SitePath) -> str:
    try:
        name = path.name.decode()
    except UnicodeDecodeError:
        name = ""
    if not name.isprintable() or not name or set(name) & set('"\\'):
        raise InvalidInput(f"The name of {path} cannot stand in a rule. Take it down, or move it.")
    return re.escape(name)


def _after(text: str, more: str) -> str:
    return (text.rstrip("\n") + "\n" if text.strip() else "") + more + "\n"
