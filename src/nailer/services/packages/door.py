"""The door of the wing: packages of a site, what is set aside, other versions, copies, and the search for what breaks a
page."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.engine.engine import Engine
from nailer.services.checks import Checks
from nailer.services.editing import Editing
from nailer.services.files import Files
from nailer.services.packages.asides import Asides
from nailer.services.packages.copies import VerifiedCopies
from nailer.services.packages.copy_times import CopyTimes
from nailer.services.packages.recovery import Recovery
from nailer.services.packages.replacing.plans import ReplacementPlans
from nailer.services.packages.replacing.reading import ReplacementReading
from nailer.services.packages.replacing.replacing import Replacing
from nailer.services.packages.replacing.runs import ReplacementRuns
from nailer.services.packages.restoring import Restoring
from nailer.services.packages.scratch import ScratchAreas
from nailer.services.packages.searching import Searching
from nailer.services.packages.seen import PackageBook
from nailer.services.packages.sources import VersionSources
from nailer.services.plans import Plans
from nailer.store.stores import Stores


@dataclass(frozen=True, slots=True)
class Packages:
    """Packages are seen (`book`), set aside and brought back (`asides`), and searched for what breaks a page
    (`searching`); of folders verified copies are taken and restore tested (`copies`),
    by timer too (`copy_times`), and restored (`restoring`). A version comes from somewhere
    (`sources`) and takes the place of another (`replacing`). `recovery` says how to go back; something is tried on the
    live server in a scratch area (`scratch`)."""

    book: PackageBook
    asides: Asides
    searching: Searching
    copies: VerifiedCopies
    restoring: Restoring
    copy_times: CopyTimes
    sources: VersionSources
    replacing: Replacing
    recovery: Recovery
    scratch: ScratchAreas

    @classmethod
    def build(
        cls, stores: Stores, engine: Engine, files: Files, plans: Plans, editing: Editing, checks: Checks
    ) -> Packages:
        """The wing over the others."""
        asides = Asides(stores, engine, files)
        copies = VerifiedCopies(stores, engine, files)
        sources = VersionSources(stores, engine, files, plans.archives)
        read = ReplacementPlans(stores.replacements, stores.copies, engine.kept)
        runs = ReplacementRuns(stores, engine, files, plans, editing, read)
        reading = ReplacementReading(stores, engine, files, copies, sources, read)
        book = PackageBook(stores, files, checks, asides, sources)
        return cls(
            book=book,
            asides=asides,
            searching=Searching(stores, engine, files, editing, checks, asides, book),
            copies=copies,
            restoring=Restoring(stores, engine, files, copies),
            copy_times=CopyTimes(stores, copies, plans.notices),
            sources=sources,
            recovery=Recovery(stores, asides),
            scratch=ScratchAreas(stores, engine, files, plans),
            replacing=Replacing(stores, engine, files, book, reading, read, runs),
        )

    async def start(self) -> None:
        """Begin what runs by itself, and go on with what was cut."""
        await self.sources.start()
        await self.asides.start()
        self.copy_times.start()
        self.scratch.start()

    async def stop(self) -> None:
        """End what is under way; what visitors would miss is put back first."""
        await self.scratch.stop()
        await self.copy_times.stop()
