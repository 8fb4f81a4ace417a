"""Setting up a second factor ends: a secret that stood on a screen is not taken for ever."""

from __future__ import annotations

import pyotp
import pytest

from nailer.errors import InvalidInput
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
