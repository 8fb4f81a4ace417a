"""The gate before every change of how somebody signs in, of tokens, and of what people may do: prove once more who you are.

An open session is not its person: somebody may sit at a screen that was left, or have a stolen cookie. What is proved
holds for this session and some minutes, in memory. Each try is counted before it is looked at, as at the sign-in.
"""

from __future__ import annotations

import time

from nailer.errors import ConfirmFirst, InvalidInput, NotAllowed
from nailer.services.people.accounts import Accounts
from nailer.services.people.second import SecondProof
from nailer.store.people.accounts import From, Session

HOLDS_S = 5 * 60.0
_MOST_REFUSED = 8


class Gate:
    def __init__(self, accounts: Accounts, second: SecondProof) -> None:
        self._accounts = accounts
        self._second = second
        self._open_until_s: dict[bytes, float] = {}
        self._refused: dict[bytes, int] = {}

    def is_open(self, session: Session) -> bool:
        """True where the person of a session has proved some minutes ago who they are."""
        return self._open_until_s.get(session.key, 0.0) > time.monotonic()

    def check(self, session: Session) -> None:
        """Raises ConfirmFirst where that is not so."""
        if not self.is_open(session):
            raise ConfirmFirst("Confirm it is you before you change sign-in details, tokens or permissions.")

    async def confirm(self, session: Session, proof: str, from_: From) -> None:
        """Open the gate by the person's password, or by a code of their second factor.

        Raises InvalidInput, NotAllowed where it was tried too often. A session in which many are refused ends.
        """
        try:
            if not await self._second.fits_code(session, proof, from_):
                await self._accounts.check_password(session, proof, from_)
        except (InvalidInput, NotAllowed):
            await self._count(session)
            raise
        now_s = time.monotonic()
        self._refused.pop(session.key, None)
        self._open_until_s = {key: until for key, until in self._open_until_s.items() if until > now_s}
        self._open_until_s[session.key] = now_s + HOLDS_S

    async def _count(self, session: Session) -> None:
        self._refused[session.key] = self._refused.get(session.key, 0) + 1
        if self._refused[session.key] >= _MOST_REFUSED:
            del self._refused[session.key]
            await self._accounts.end_one(session.account_id, session.id)
