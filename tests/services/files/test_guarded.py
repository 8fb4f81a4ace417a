"""Guarded folders are open for as long as is said, for whoever opened them, and for nobody else."""

from __future__ import annotations

from dataclasses import replace

import pytest

from nailer.core.files.entry import SideName
from nailer.errors import Locked
from nailer.services.files.guarded import GuardedFolders
from tests.builders import a_site, path

MAIL = path("/htdocs/mail")
SITE = replace(a_site(), id=1, guarded=(MAIL,))


def test_a_folder_is_open_for_fifteen_minutes_and_its_person() -> None:
    guarded = GuardedFolders()
    inside = MAIL.child(b"inbox")
    assert guarded.left_s(1, SITE, path("/htdocs")) is None
    assert guarded.is_locked(1, SITE, inside)
    guarded.open(1, SITE, inside)
    left = guarded.left_s(1, SITE, inside)
    assert left is not None
    assert 14 * 60 < left <= 15 * 60, "the page says 15 minutes"
    with pytest.raises(Locked):
        guarded.check(2, SITE, SideName.THERE, inside)
    guarded.check(1, SITE, SideName.THERE, inside)
    guarded.lock(1, SITE, inside)
    with pytest.raises(Locked):
        guarded.check(1, SITE, SideName.THERE, inside)


def test_it_is_locked_again_after_its_time(monkeypatch: pytest.MonkeyPatch) -> None:
    guarded, now = GuardedFolders(), [1000.0]
    monkeypatch.setattr("nailer.services.files.guarded.time.monotonic", lambda: now[0])
    guarded.open(1, SITE, MAIL)
    now[0] += 15 * 60 - 1
    assert not guarded.is_locked(1, SITE, MAIL)
    now[0] += 1
    assert guarded.is_locked(1, SITE, MAIL)
