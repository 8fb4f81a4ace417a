"""Who may sign in: accounts and sessions."""

from __future__ import annotations

from nailer.services.people.accounts import Stays
from nailer.services.people.door import Lasting, People
from nailer.services.people.log import Did
from nailer.services.people.rights import checked_grant, folder_typed, grant_words, rights_words
from nailer.services.people.second import NewCodes, PasskeyPlace
from nailer.store.people.accounts import Account, From, Session, SignedIn, WhenDone
from nailer.store.people.grants import Granted
from nailer.store.people.invitations import Invitation
from nailer.store.people.log import LogEntry
from nailer.store.people.tokens import Token

__all__ = [
    "Account",
    "Did",
    "From",
    "Granted",
    "Invitation",
    "Lasting",
    "LogEntry",
    "NewCodes",
    "PasskeyPlace",
    "People",
    "Session",
    "SignedIn",
    "Stays",
    "Token",
    "WhenDone",
    "checked_grant",
    "folder_typed",
    "grant_words",
    "rights_words",
]
