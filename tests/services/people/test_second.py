"""Setting up a second factor ends: a secret that stood on a screen is not taken for ever."""

from __future__ import annotations

import pyotp
import pytest

from nailer.errors import InvalidInput, NotAllowed
from nailer.services.people.second import PasskeyPlace
from nailer.store.people.accounts import Session
from tests.world import World


async def test_a_secret_that_is_left_open_is_another_one_later(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    account = await world.nailer.people.accounts.get(world.account_id)
    second = world.nailer.people.second
    first = second.begin_codes(account).secret
    assert second.begin_codes(account).secret == first, "reading the page again shows the same"
    monkeypatch.setattr("nailer.services.people.second._SET_UP_WITHIN_S", -1.0)
    second._setting_up.clear()
    left = second.begin_codes(account).secret
    with pytest.raises(InvalidInput):
        await second.finish_codes(world.account_id, pyotp.TOTP(left.replace(" ", "")).now())
    assert second.begin_codes(account).secret != left

    monkeypatch.undo()
    second._setting_up.clear()
    fresh = second.begin_codes(account).secret.replace(" ", "")
    assert len(await second.finish_codes(world.account_id, pyotp.TOTP(fresh).now())) > 5


async def test_a_challenge_counts_once_also_where_the_answer_to_it_is_nonsense(world: World) -> None:
    """Else whoever sees one answer could try what they make of it again and again (WebAuthn, 13.4.3)."""
    second, place = world.nailer.people.second, PasskeyPlace("nailer.example", "https://nailer.example")
    session = Session(1, world.account_id, "maren", is_admin=True, half=True, lacks_second=False, csrf="c", key=b"key")
    await second.passkey_asked(session, place)
    with pytest.raises(NotAllowed):
        await second.prove_by_passkey(session, "{}", place)
    with pytest.raises(ValueError, match="no challenge is open"):
        second._challenge_of(session)
    await second.passkey_asked(session, place)
    first = second._challenge_of(session)
    assert len(first) == 32
    with pytest.raises(ValueError, match="no challenge is open"):
        second._challenge_of(session)
