"""The door of the wing: sites, their servers, and how they are reached."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.core.connecting.routes import Route
from nailer.services.sites.attempts import ConnectAttempts
from nailer.services.sites.book import SiteBook
from nailer.services.sites.connect import Connector
from nailer.services.sites.identities import Identities
from nailer.services.sites.questions import Questions
from nailer.services.sites.trial import Trials
from nailer.sides.pool import Pool
from nailer.store.identities import IdentityStore
from nailer.store.sites import SiteStore


@dataclass(frozen=True, slots=True)
class Sites:
    """Sites (`book`), the lines to their servers (`pool`), how a line comes about (`connector`, `attempts`, `questions`),
    whom one meets there (`identities`), and trying it out (`trials`)."""

    book: SiteBook
    connector: Connector
    pool: Pool
    identities: Identities
    trials: Trials
    questions: Questions
    attempts: ConnectAttempts

    @classmethod
    def build(cls, store: SiteStore, trusted: IdentityStore, route: Route) -> Sites:
        """`route` says where a server is to be dialled in this installation."""
        connector = Connector(store, trusted, route)
        pool = Pool(connector.dial, whose=connector.whose, when_closed=connector.forget_asked)
        questions = Questions()
        return cls(
            book=SiteBook(store, connector, pool),
            connector=connector,
            pool=pool,
            identities=Identities(trusted, store, connector, pool),
            trials=Trials(connector, store),
            questions=questions,
            attempts=ConnectAttempts(pool, questions),
        )
