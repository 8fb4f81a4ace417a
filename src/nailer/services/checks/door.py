"""The door of the wing: what is known of a site, from one reading of it."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.services.checks.asking import Asker
from nailer.services.checks.known import Knowledge
from nailer.services.checks.mending import Mending
from nailer.services.checks.nightly import Nightly
from nailer.services.checks.reader import SiteReader
from nailer.services.editing import Editing
from nailer.services.files import Files
from nailer.services.plans import Plans
from nailer.store.stores import Stores


@dataclass(frozen=True, slots=True)
class Checks:
    """A site is read (`reader`, at set times `nightly`), what is known of it is shown (`known`), and buttons of findings
    make plans (`mending`)."""

    reader: SiteReader
    nightly: Nightly
    known: Knowledge
    mending: Mending

    @classmethod
    def build(cls, stores: Stores, files: Files, plans: Plans, editing: Editing) -> Checks:
        """The wing over the others."""
        reader = SiteReader(stores, files.browse, Asker(editing))
        return cls(
            reader=reader,
            nightly=Nightly(stores, reader, plans.notices),
            known=Knowledge(stores, files, reader),
            mending=Mending(files, plans, editing),
        )
