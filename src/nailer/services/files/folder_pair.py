"""Two folders that belong together, and where a folder lies in a pair."""

from __future__ import annotations

from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import RelativePath
from nailer.store.sites import Site

FolderPair = tuple[SitePath, SitePath]


def place_in_pair(site: Site, here: SitePath, there: SitePath) -> RelativePath:
    """Where two folders lie below the start folders of a site, as sieves name places; the start itself where outside."""
    below = there.below(site.start_there)
    return below if below is not None else here.below(site.start_here) or ()
