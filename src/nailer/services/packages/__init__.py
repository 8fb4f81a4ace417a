"""Packages of a site: seen, set aside, brought back, and searched for what breaks a page."""

from __future__ import annotations

from nailer.services.packages.door import Packages
from nailer.services.packages.searching import SearchKnown
from nailer.services.packages.seen import PackageSeen, PackagesSeen
from nailer.store.packages.copies import CopyState, ProvedCopy
from nailer.store.packages.searches import SearchState, SetAside

__all__ = [
    "CopyState",
    "PackageSeen",
    "Packages",
    "PackagesSeen",
    "ProvedCopy",
    "SearchKnown",
    "SearchState",
    "SetAside",
]
