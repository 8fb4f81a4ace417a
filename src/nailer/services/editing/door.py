"""The door of the wing: files edited where they lie, and what visitors get of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nailer.core.connecting.public import Network
from nailer.core.connecting.routes import Route
from nailer.engine.engine import Engine
from nailer.services.editing.drafts import Drafts
from nailer.services.editing.live_check import LiveCheck
from nailer.services.editing.own_editor import OwnEditor
from nailer.services.editing.references import References
from nailer.services.editing.saving import Saving
from nailer.services.editing.scripts import Scripts
from nailer.services.files import Files
from nailer.services.plans import Plans
from nailer.store.stores import Stores


@dataclass(frozen=True, slots=True)
class Editing:
    """Open files and their drafts (`drafts`), saving with care (`saving`), editing with a person's own program (`own`);
    who refers to what (`references`), what visitors get (`live_check`), and why a script does not run (`scripts`)."""

    drafts: Drafts
    saving: Saving
    own: OwnEditor
    references: References
    live_check: LiveCheck
    scripts: Scripts

    @classmethod
    def build(
        cls, stores: Stores, engine: Engine, files: Files, plans: Plans, route: Route, fetched: Sequence[Network]
    ) -> Editing:
        """`route` says where a web server is to be reached in this installation."""
        browse, live = files.browse, engine.live
        drafts = Drafts(browse, stores.drafts, stores.jobs, plans.prepared, live)
        live_check = LiveCheck(browse, route, fetched)
        return cls(
            drafts=drafts,
            saving=Saving(
                drafts, stores.drafts, stores.changes, stores.jobs, plans.take_back, live_check, browse, live
            ),
            own=OwnEditor(stores.drafts, stores.sites, engine.here, browse, plans.make, stores.jobs, live),
            references=References(browse, plans.prepared),
            live_check=live_check,
            scripts=Scripts(browse, live_check, plans.server, files.permissions, plans.make, plans.prepared),
        )
