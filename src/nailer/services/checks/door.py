"""The door of the wing: what is known of a site, from one scan of it."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.engine.engine import Engine
from nailer.services.checks.addresses import Addresses, Reaching
from nailer.services.checks.asking import Asker
from nailer.services.checks.attention import Attention
from nailer.services.checks.broken_pages import BrokenPages
from nailer.services.checks.first_pages import FirstPages
from nailer.services.checks.host_facts import HostFacts
from nailer.services.checks.known import Knowledge
from nailer.services.checks.lacking import Lacking
from nailer.services.checks.mending import Mending
from nailer.services.checks.nightly import Nightly
from nailer.services.checks.others import OtherSites
from nailer.services.checks.pictures import Pictures
from nailer.services.checks.scanner import SiteScanner
from nailer.services.checks.trying import TrialFiles
from nailer.services.checks.uploads import UploadAdvice
from nailer.services.checks.views import Views
from nailer.services.checks.watching import Watching
from nailer.services.editing import Editing
from nailer.services.files import Files
from nailer.services.plans import Plans
from nailer.store.stores import Stores


@dataclass(frozen=True, slots=True)
class Checks:
    """A site is read (`reader`, at set times `nightly`), what is known of it is shown (`known`), and buttons of findings
    make plans (`mending`). `lacking` is what an upload's pages need and nobody sends,
    `addresses` tells the ways in and which folder answers, `pictures` makes smaller copies, `watching` takes back
    what made a page worse, `first_pages` changes what an address serves without a gap, `broken` says why a page is
    blank or broken, `views` shows a page from both sides, `host` is what was learned
    of the host, `uploads` what there is to say of an upload before it goes, `attention` what of each site needs somebody."""

    reader: SiteScanner
    nightly: Nightly
    known: Knowledge
    mending: Mending
    lacking: Lacking
    addresses: Addresses
    pictures: Pictures
    watching: Watching
    first_pages: FirstPages
    broken: BrokenPages
    views: Views
    host: HostFacts
    uploads: UploadAdvice
    attention: Attention

    @classmethod
    def build(
        cls, stores: Stores, engine: Engine, files: Files, plans: Plans, editing: Editing, reaching: Reaching
    ) -> Checks:
        """The wing over the others; `reaching` is how this installation reaches the world."""
        trials = TrialFiles(stores.findings)
        addresses = Addresses(stores, files, editing, reaching, trials)
        host = HostFacts(stores, files, editing, trials)
        reader = SiteScanner(stores, engine.work, files.browse, Asker(editing, addresses), host, OtherSites(editing))
        watching = Watching(stores, plans, editing)
        plans.confirming.before_each(watching.look_before)
        known = Knowledge(stores, files, reader)
        return cls(
            reader=reader,
            nightly=Nightly(stores, reader, plans.notices),
            known=known,
            mending=Mending(files, plans, editing, watching),
            lacking=Lacking(stores, files, plans),
            addresses=addresses,
            pictures=Pictures(files, plans, known),
            watching=watching,
            first_pages=FirstPages(files, plans, editing, watching),
            broken=BrokenPages(stores, files, editing),
            views=Views(stores, files, editing),
            host=host,
            uploads=UploadAdvice(stores, files, reader),
            attention=Attention(stores, files),
        )
