"""What one scan of a site tells: findings, references, room, savings; and plans that mend them."""

from __future__ import annotations

from nailer.services.checks.addresses import AddressKnown, Reaching
from nailer.services.checks.door import Checks
from nailer.services.checks.ground import need_whole
from nailer.services.checks.known import MAP, PageKnown, RoomKnown, SavingsKnown, SiteKnown
from nailer.services.checks.scanner import SiteLearned
from nailer.services.checks.views import AskedFor, PageView, SideView, Viewer
from nailer.store.checks.findings import StoredFinding
from nailer.store.checks.scans import StoredScan

__all__ = [
    "MAP",
    "AddressKnown",
    "AskedFor",
    "Checks",
    "PageKnown",
    "PageView",
    "Reaching",
    "RoomKnown",
    "SavingsKnown",
    "SideView",
    "SiteKnown",
    "SiteLearned",
    "StoredFinding",
    "StoredScan",
    "Viewer",
    "need_whole",
]
