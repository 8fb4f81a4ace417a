"""The door of the wing: what is known of a site, from one reading of it."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.services.checks.addresses import Addresses, Reaching
from nailer.services.checks.asking import Asker
from nailer.services.checks.known import Knowledge
from nailer.services.checks.lacking import Lacking
from nailer.services.checks.mending import Mending
from nailer.services.checks.nightly import Nightly
from nailer.services.checks.pictures import Pictures
from nailer.services.checks.reader import SiteReader
from nailer.services.editing import Editing
from nailer.services.files import Files
from nailer.services.plans import Plans
from nailer.store.stores import Stores


@dataclass(frozen=True, slots=True)
class Checks:
    """A site is read (`reader`, at set times `nightly`), what is known of it is shown (`known`), and buttons of findings
    make plans (`mending`). `lacking` is what an upload's pages need and nobody sends,
    `addresses` tells the ways in and which folder answers, `pictures` makes smaller copies."""

    reader: SiteReader
    nightly: Nightly
    known: Knowledge
    mending: Mending
    lacking: Lacking
    addresses: Addresses
    pictures: Pictures

    @classmethod
    def build(cls, stores: Stores, files: Files, plans: Plans, editing: Editing, reaching: Reaching) -> Checks:
        """The wing over the others; `reaching` is how this installation reaches the world."""
        addresses = Addresses(stores, files, editing, reaching)
        reader = SiteReader(stores, files.browse, Asker(editing, addresses))
        known = Knowledge(stores, files, reader)
        return cls(
            reader=reader,
            nightly=Nightly(stores, reader, plans.notices),
            known=known,
            mending=Mending(files, plans, editing),
            lacking=Lacking(stores, files, plans),
            addresses=addresses,
            pictures=Pictures(files, plans, known),
        )
