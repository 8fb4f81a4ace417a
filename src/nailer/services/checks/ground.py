"""What a site is read by: its document roots on both sides, and which of its folders lie on the web."""

from __future__ import annotations

from nailer.acting import grant_on
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.errors import InvalidInput, NotAllowed
from nailer.store.sites import Site


def roots_there(site: Site) -> tuple[DocumentRoot, ...]:
    """The document roots of a site. Raises InvalidInput where it has none: then nobody knows what visitors get."""
    if not site.document_roots:
        raise InvalidInput("First set in the site's settings which folder each web address shows.")
    return site.document_roots


def tops_of(roots: tuple[DocumentRoot, ...]) -> list[SitePath]:
    """The folders to walk: a root that lies in another is read with it."""
    folders = sorted({one.folder for one in roots}, key=lambda one: len(one.names))
    found: list[SitePath] = []
    for folder in folders:
        if not any(folder.below(top) is not None for top in found):
            found.append(folder)
    return found


def here_of(site: Site, there: SitePath) -> SitePath | None:
    """The folder here that the pair maps one there to; None where it lies outside."""
    return site.counterpart(SideName.THERE, there)


def is_guarded(site: Site, folder: SitePath) -> bool:
    """True for a folder that nothing is put into without its guard being opened first."""
    return any(folder.below(guarded) is not None for guarded in site.guarded)


def need_whole(site: Site) -> None:
    """Raises NotAllowed where whoever acts does not see all of a site: what was read of it names every folder."""
    grant = grant_on(site.id)
    if grant is not None and not grant.is_whole:
        raise NotAllowed("Checks need access to the whole site. Ask an administrator.")
