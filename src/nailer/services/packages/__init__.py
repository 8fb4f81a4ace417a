"""Packages of a site: seen, set aside, replaced, brought back, copied, and searched for what breaks a page."""

from __future__ import annotations

from nailer.core.work.states import CopyState, ReplacementState, SearchState
from nailer.services.packages.declaring import Found
from nailer.services.packages.door import Packages
from nailer.services.packages.packing import Form
from nailer.services.packages.replacing.plans import ReplacementPlan
from nailer.services.packages.restoring import CopyRow, RestoreTarget
from nailer.services.packages.searching import SearchKnown
from nailer.services.packages.seen import FileInPackage, PackageSeen, PackagesSeen
from nailer.services.packages.sources import Offered, VersionSource
from nailer.store.packages.copies import VerifiedCopy
from nailer.store.packages.replacements import Replacement, ReplacementKind
from nailer.store.packages.searches import SetAside
from nailer.store.packages.seen import SeenPackage

__all__ = [
    "CopyRow",
    "CopyState",
    "FileInPackage",
    "Form",
    "Found",
    "Offered",
    "PackageSeen",
    "Packages",
    "PackagesSeen",
    "Replacement",
    "ReplacementKind",
    "ReplacementPlan",
    "ReplacementState",
    "RestoreTarget",
    "SearchKnown",
    "SearchState",
    "SeenPackage",
    "SetAside",
    "VerifiedCopy",
    "VersionSource",
]
