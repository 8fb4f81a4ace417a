"""The second proof at the sign-in: passkeys (WebAuthn), one-time codes (RFC 6238), and codes for whoever lost both."""

from __future__ import annotations

import re
import secrets
import time
from dataclasses import dataclass

import pyotp
import segno
import webauthn
from webauthn.helpers import base64url_to_bytes, parse_authentication_credential_json
from webauthn.helpers.exceptions import WebAuthnException
from webauthn.helpers.structs import PublicKeyCredentialDescriptor, UserVerificationRequirement

from nailer.errors import InvalidInput, NotAllowed
from nailer.services.people.throttle import Throttle
from nailer.store.people.accounts import Account, From, Session
from nailer.store.people.proofs import Proofs, ProofStore

_SET_UP_WITHIN_S = 15 * 60.0
_STEP_S = 30
_RECOVERY_CODES = 10
_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"
_CHALLENGE_S = 300.0
_MOST_PASSKEYS = 20
_MOST_WAITING = 2000


_CODE = re.compile(r"[0-9]{6}|[a-z2-9]{5}-[a-z2-9]{5}")  # a one-time code, or a recovery code


@dataclass(frozen=True, slots=True)
class PasskeyPlace:
    """Where a passkey belongs: the name of the host, and the origin as a browser says it."""

    host: str
    origin: str


@dataclass(frozen=True, slots=True)
class NewCodes:
    """A secret that is being set up: as text in groups, and as a picture in SVG that a phone reads."""

    secret: str
    picture: str


class SecondProof:
    """Second proofs of every account. What is being set up, and challenges, wait in memory for some minutes."""

    def __init__(self, store: ProofStore, throttle: Throttle) -> None:
        self._store = store
        self._throttle = throttle
        self._setting_up: dict[int, tuple[str, float]] = {}
        self._challenges: dict[bytes, tuple[bytes, float]] = {}

    async def of(self, account_id: int) -> Proofs:
        """What an account has."""
        return await self._store.of(account_id)

    async def require(self, account_id: int, *, required: bool) -> None:
        """Require a second proof of somebody, or not."""
        await self._store.require(account_id, required=required)

    async def forget_all(self, account_id: int) -> None:
        """Take every second proof away, for somebody who has lost them."""
        await self._store.forget_all(account_id)

    def begin_codes(self, account: Account) -> NewCodes:
        """A secret for one-time codes; nothing is stored until a code of it is given back. Whoever leaves it open is shown
        another one later: a secret that stood on a screen is not taken for ever."""
        now_s = time.monotonic()
        self._setting_up = {key: one for key, one in self._setting_up.items() if one[1] > now_s}
        secret, _ = self._setting_up.setdefault(account.id, (pyotp.random_base32(), now_s + _SET_UP_WITHIN_S))
        address = pyotp.TOTP(secret).provisioning_uri(name=account.name, issuer_name="Nailer")
        picture = segno.make(address).svg_data_uri(scale=4, border=2, omitsize=True)
        return NewCodes(" ".join(secret[at : at + 4] for at in range(0, len(secret), 4)), picture)

    async def finish_codes(self, account_id: int, code: str) -> list[str]:
        """Store the secret whose code this is; return the recovery codes, which are shown once. Raises InvalidInput."""
        secret, until_s = self._setting_up.get(account_id, (None, 0.0))
        if until_s <= time.monotonic():
            secret = None
        step = _step_of(secret, code) if secret is not None else None
        if secret is None or step is None:
            what = (
                "The code is wrong or has expired. Check that the clock of your device is right, then type the "
                "newest code."
            )
            raise InvalidInput(what, fields={"code": what})
        recovery = [_recovery_code() for _ in range(_RECOVERY_CODES)]
        await self._store.set_codes(account_id, secret, step, recovery)
        self._setting_up.pop(account_id, None)
        return recovery

    async def forget_codes(self, account_id: int) -> None:
        """Ask for no one-time codes any more."""
        await self._store.forget_codes(account_id)

    async def prove_by_code(self, session: Session, code: str, from_: From) -> None:
        """A one-time code or a recovery code makes a half session whole. Each works once. Raises NotAllowed."""
        if not await self._use(session, "".join(code.split()).lower(), from_):
            raise NotAllowed("The code is wrong or has already been used.")
        await self._store.complete_sign_in(session.key)

    async def fits_code(self, session: Session, code: str, from_: From) -> bool:
        """Whether this is a one-time code or a recovery code of the person, who has one. Each works once. False also for
        what does not look like one: it may be a password. Raises NotAllowed where it comes too early."""
        bare = "".join(code.split()).lower()
        has_codes = await self._store.secret(session.account_id) is not None
        return has_codes and _CODE.fullmatch(bare) is not None and await self._use(session, bare, from_)

    async def _use(self, session: Session, bare: str, from_: From) -> bool:
        """Count a try, and use up a code where it is one."""
        await self._throttle.count(f"second {session.account_id}", from_.address)
        secret = await self._store.secret(session.account_id)
        step = _step_of(secret, bare) if secret is not None else None
        fits = step is not None and await self._store.use_step(session.account_id, step)
        if not fits and not await self._store.use_recovery(session.account_id, bare):
            return False
        await self._throttle.fitted(f"second {session.account_id}", from_.address)
        return True

    async def passkey_wanted(self, account: Account, session: Session, place: PasskeyPlace) -> str:
        """What a browser makes a passkey from, as JSON. Raises InvalidInput where there are enough."""
        known = (await self._store.of(account.id)).passkeys
        if len(known) >= _MOST_PASSKEYS:
            raise InvalidInput(f"An account can have up to {_MOST_PASSKEYS} passkeys. Remove one first.")
        options = webauthn.generate_registration_options(
            rp_id=place.host,
            rp_name="Nailer",
            user_id=f"nailer-{account.id}".encode(),
            user_name=account.name,
            challenge=self._challenge(session),
            exclude_credentials=[PublicKeyCredentialDescriptor(id=one.credential) for one in known],
        )
        return webauthn.options_to_json(options)

    async def add_passkey(self, session: Session, credential: str, name: str, place: PasskeyPlace) -> None:
        """Store the passkey that a browser made. Raises InvalidInput."""
        try:
            made = webauthn.verify_registration_response(
                credential=credential,
                expected_challenge=self._challenge_of(session),
                expected_rp_id=place.host,
                expected_origin=place.origin,
            )
        except (WebAuthnException, ValueError, KeyError, TypeError) as error:
            raise InvalidInput("The passkey could not be added. Try again.") from error
        shown = name.strip()[:80] or "A passkey"
        await self._store.add_passkey(
            session.account_id, made.credential_id, made.credential_public_key, made.sign_count, shown
        )

    async def forget_passkey(self, account_id: int, passkey_id: int) -> None:
        """Forget a passkey."""
        await self._store.forget_passkey(account_id, passkey_id)

    async def passkey_asked(self, session: Session, place: PasskeyPlace) -> str:
        """What a browser proves a passkey with, as JSON."""
        known = (await self._store.of(session.account_id)).passkeys
        options = webauthn.generate_authentication_options(
            rp_id=place.host,
            challenge=self._challenge(session),
            allow_credentials=[PublicKeyCredentialDescriptor(id=one.credential) for one in known],
            user_verification=UserVerificationRequirement.DISCOURAGED,
        )
        return webauthn.options_to_json(options)

    async def prove_by_passkey(self, session: Session, credential: str, place: PasskeyPlace) -> None:
        """A passkey makes a half session whole. Raises NotAllowed."""
        known = {one.credential: one for one in (await self._store.of(session.account_id)).passkeys}
        try:
            # Taken before anything is looked at: a challenge counts once, also where the answer to it is nonsense.
            challenge = self._challenge_of(session)
            given = parse_authentication_credential_json(credential)
            passkey = known[base64url_to_bytes(given.id)]
            proved = webauthn.verify_authentication_response(
                credential=given,
                expected_challenge=challenge,
                expected_rp_id=place.host,
                expected_origin=place.origin,
                credential_public_key=passkey.public_key,
                credential_current_sign_count=passkey.sign_count,
            )
        except (WebAuthnException, ValueError, KeyError, TypeError) as error:
            raise NotAllowed("The passkey was not accepted. Try again.") from error
        await self._store.passkey_used(passkey.id, proved.new_sign_count)
        await self._store.complete_sign_in(session.key)

    def _challenge(self, session: Session) -> bytes:
        """A fresh challenge of a session; it counts once, and for some minutes (WebAuthn, 13.4.3)."""
        now_s = time.monotonic()
        self._challenges = {key: one for key, one in self._challenges.items() if one[1] > now_s}
        while len(self._challenges) >= _MOST_WAITING:
            self._challenges.pop(next(iter(self._challenges)))
        challenge = secrets.token_bytes(32)
        self._challenges[session.key] = (challenge, now_s + _CHALLENGE_S)
        return challenge

    def _challenge_of(self, session: Session) -> bytes:
        challenge, ends_s = self._challenges.pop(session.key, (b"", 0.0))
        if ends_s < time.monotonic():
            raise ValueError("no challenge is open")
        return challenge


def _step_of(secret: str, code: str) -> int | None:
    """The step whose code this is: the one of now, or one beside it; None where it fits none."""
    now = int(time.time()) // _STEP_S
    bare = "".join(code.split())
    if len(bare) != 6 or not bare.isascii() or not bare.isdecimal():
        return None
    codes = pyotp.TOTP(secret)
    return next(
        (step for step in (now, now - 1, now + 1) if secrets.compare_digest(codes.at(step * _STEP_S), bare)), None
    )


def _recovery_code() -> str:
    return "-".join("".join(secrets.choice(_LETTERS) for _ in range(5)) for _ in range(2))
