"""Media of content-managed sites: files in a folder by year and month, which a library of the site's own knows by itself."""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import pairwise

from nailer.core.files.kinds import FileKind, kind_by_name
from nailer.core.files.sitepath import SitePath

_YEAR = re.compile(rb"(?:19|20)\d\d$")
_MONTH = re.compile(rb"(?:0[1-9]|1[0-2])$")
_MEDIA = frozenset({FileKind.PICTURE, FileKind.SOUND, FileKind.DOCUMENT})


def in_dated_folder(path: SitePath) -> bool:
    """True for a picture, a sound, a film or a document in a folder by year and month.

    >>> in_dated_folder(SitePath.parse(b"/htdocs/media/2026/11/pier.jpg"))
    True
    >>> in_dated_folder(SitePath.parse(b"/htdocs/2026/13/pier.jpg")), in_dated_folder(SitePath.parse(b"/2026/11/a.html"))
    (False, False)
    """
    if kind_by_name(path.name) not in _MEDIA:
        return False
    return any(_YEAR.match(year) and _MONTH.match(month) for year, month in pairwise(path.names[:-1]))


def is_managed(names: Sequence[bytes]) -> bool:
    """True for a document root whose first page a program makes: `names` are those of its files.

    >>> is_managed([b"index.php", b"robots.txt"]), is_managed([b"index.html", b"form.php"])
    (True, False)
    """
    return any(name.lower() in (b"index.php", b"index.phtml", b"index.cgi", b"index.aspx") for name in names)
