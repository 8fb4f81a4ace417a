"""Where a link leads: to a path of the site, to another site, to somebody's own disk, or nowhere in particular."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from urllib.parse import quote, unquote_to_bytes, urljoin, urlsplit

from nailer.core.files.sitepath import DocumentRoot, SitePath, address_of, path_of
from nailer.core.site.links import FileLinks, Link, Use
from nailer.errors import InvalidInput

_DISK = re.compile(r"file:|[a-z]:[\\/]|\\\\[\w.-]+\\", re.I)
_SCHEME = re.compile(r"[a-zA-Z][a-zA-Z0-9+.-]*:")
# What a browser fetches by itself to show a page: over plain http it is blocked or warned of on a page that is not.
_FETCHED = frozenset(Use) - {Use.PAGE, Use.MOVE, Use.LISTED, Use.FEED}


class Leads(StrEnum):
    """Where to."""

    HERE = "to this site"
    ELSEWHERE = "to another site"
    DISK = "to a disk"
    NOWHERE = "nowhere"


@dataclass(frozen=True, slots=True)
class Target:
    """Where a link leads. `address` is absolute, '' where it leads nowhere; `path` is set where it leads to this site.
    `insecure`: the page comes by https, this part of it does not."""

    leads: Leads
    address: str = ""
    path: SitePath | None = None
    insecure: bool = False


def target_of(link: Link, page: SitePath, base: str, roots: Sequence[DocumentRoot]) -> Target:
    """Where a link on a page leads. `base` is what the page says its links are joined with.

    >>> roots = (DocumentRoot(SitePath.parse(b"/htdocs"), "https://skerryferries.example/"),)
    >>> page = SitePath.parse(b"/htdocs/fares/index.html")
    >>> str(target_of(Link("../img/pier%20end.svg?v=2#top", Use.PICTURE), page, "", roots).path)
    '/htdocs/img/pier end.svg'
    >>> target_of(Link("http://www.skerryferries.example/a.png", Use.PICTURE), page, "", roots).insecure
    True
    >>> target_of(Link("C:\\\\Users\\\\pier.png", Use.PICTURE), page, "", roots).leads
    <Leads.DISK: 'to a disk'>
    """
    own = address_of(page, tuple(roots))
    address = link.address
    if own is None or not address or address.startswith("#"):
        return Target(Leads.NOWHERE)
    if _DISK.match(address):
        return Target(Leads.DISK, address)
    if _SCHEME.match(address) and not address.lower().startswith(("http:", "https:")):
        return Target(Leads.NOWHERE)
    try:
        absolute = urljoin(urljoin(own, _forward(base)) if base else own, _forward(address))
        return _of_absolute(absolute, link.use, own, roots)
    except (InvalidInput, ValueError):
        return Target(Leads.NOWHERE)


def targets_of(page: SitePath, links: FileLinks, roots: Sequence[DocumentRoot]) -> list[tuple[Link, Target]]:
    """Where each link of a page leads, in their order."""
    return [(one, target_of(one, page, links.base, roots)) for one in links.links]


def _of_absolute(absolute: str, use: Use, own: str, roots: Sequence[DocumentRoot]) -> Target:
    parts = urlsplit(absolute)
    if not parts.hostname:
        return Target(Leads.NOWHERE)
    insecure = parts.scheme == "http" and own.startswith("https:") and use in _FETCHED
    # A browser sends letters beyond ASCII in a path as UTF-8 (URL standard).
    path = quote(parts.path, safe="/%~!$&'()*+,;=:@-._")
    for root in roots:
        its = urlsplit(root.address)
        if _bare(parts.netloc) == _bare(its.netloc):
            found = path_of(f"{its.scheme}://{its.netloc}{path or '/'}", (root,))
            if found is not None and b"\0" not in unquote_to_bytes(path):
                deepest = path_of(f"{its.scheme}://{its.netloc}{path or '/'}", tuple(roots))
                return Target(Leads.HERE, absolute, deepest or found, insecure)
    return Target(Leads.ELSEWHERE, absolute, None, insecure)


def _bare(netloc: str) -> str:
    """A host without `www.` and without the port that its scheme has anyway."""
    return netloc.rpartition("@")[2].lower().removeprefix("www.").removesuffix(":443").removesuffix(":80")


def _forward(address: str) -> str:
    """Backslashes of a path are slashes in a web address (URL standard)."""
    cut = min((at for at in (address.find("?"), address.find("#")) if at >= 0), default=len(address))
    return address[:cut].replace("\\", "/") + address[cut:]
