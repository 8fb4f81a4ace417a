"""The door of the wing: packages of a site, what is set aside, and the search for what breaks a page."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.engine.engine import Engine
from nailer.services.checks import Checks
from nailer.services.editing import Editing
from nailer.services.files import Files
from nailer.services.packages.asides import Asides
from nailer.services.packages.copies import ProvedCopies
from nailer.services.packages.searching import Searching
from nailer.services.packages.seen import PackageBook
from nailer.store.stores import Stores


@dataclass(frozen=True, slots=True)
class Packages:
    """Packages are seen (`book`), set aside and brought back (`asides`), and searched for what breaks a page
    (`searching`); of folders proved copies are taken, rehearsed and restored (`copies`)."""

    book: PackageBook
    asides: Asides
    searching: Searching
    copies: ProvedCopies

    @classmethod
    def build(cls, stores: Stores, engine: Engine, files: Files, editing: Editing, checks: Checks) -> Packages:
        """The wing over the others."""
        asides = Asides(stores, files)
        searching = Searching(stores, files, editing, checks, asides)
        return cls(PackageBook(files, checks, asides), asides, searching, ProvedCopies(stores, engine, files))
