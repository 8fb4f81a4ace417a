"""What of a site needs somebody: one line for each thing, the most urgent first."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest

from nailer.core.site.address import Wrong
from nailer.core.site.attention import (
    FailedTimer,
    FirstSteps,
    NeedKind,
    SiteFacts,
    Urgency,
    is_new,
    needs_of,
    urgency_of,
)

NOW = datetime(2026, 5, 4, 12, tzinfo=UTC)
LONG_AGO = NOW - timedelta(days=400)
DONE = FirstSteps(True, True, True, True)
WELL = SiteFacts(
    added_at=LONG_AGO,
    opened_at=NOW - timedelta(days=1),
    is_encrypted=True,
    identity_changed=False,
    sees_all=True,
    scanned_at=NOW - timedelta(days=1),
    steps=DONE,
)


def kinds(**changed: object) -> list[NeedKind]:
    return [one.kind for one in needs_of(replace(WELL, **changed), NOW)]  # type: ignore[arg-type]


def test_a_site_that_is_well_needs_nobody() -> None:
    assert needs_of(WELL, NOW) == ()
    assert urgency_of(()) is Urgency.WELL


@pytest.mark.parametrize(
    ("changed", "expected", "urgency"),
    [
        ({"identity_changed": True}, NeedKind.IDENTITY, Urgency.STOPPED),
        ({"is_encrypted": False}, NeedKind.UNENCRYPTED, Urgency.NOTE),
        ({"not_sent": 3}, NeedKind.NOT_SENT, Urgency.NOTE),
        ({"findings": 5, "serious": 1}, NeedKind.FINDINGS, Urgency.WARN),
        ({"findings": 5}, NeedKind.FINDINGS, Urgency.NOTE),
        ({"certificate": Wrong.CERTIFICATE_SOON.value}, NeedKind.CERTIFICATE, Urgency.WARN),
        ({"asides": ("Fog banner",)}, NeedKind.ASIDE, Urgency.WARN),
        ({"failed_timers": (FailedTimer(4, "Sky charts", NOW),)}, NeedKind.TIMER, Urgency.WARN),
        ({"scanned_at": None}, NeedKind.NEVER_SCANNED, Urgency.NOTE),
        ({"opened_at": NOW - timedelta(days=121)}, NeedKind.IDLE, Urgency.NOTE),
        ({"opened_at": None}, NeedKind.IDLE, Urgency.NOTE),
    ],
)
def test_each_thing_is_one_line(changed: dict[str, object], expected: NeedKind, urgency: Urgency) -> None:
    found = needs_of(replace(WELL, **changed), NOW)  # type: ignore[arg-type]

    assert [(one.kind, one.urgency) for one in found] == [(expected, urgency)]


def test_the_most_urgent_comes_first() -> None:
    assert kinds(not_sent=2, asides=("A", "B"), identity_changed=True) == [
        NeedKind.IDENTITY,
        NeedKind.ASIDE,
        NeedKind.ASIDE,
        NeedKind.NOT_SENT,
    ]


def test_a_timer_that_waits_for_a_decision_has_not_failed() -> None:
    timers = (FailedTimer(1, "Charts", NOW, asked=True), FailedTimer(2, "Tides", NOW))

    assert [one.serious for one in needs_of(replace(WELL, failed_timers=timers), NOW)] == [0, 1]


def test_a_changed_identity_is_said_once_and_not_as_a_lack_of_encryption() -> None:
    assert kinds(identity_changed=True, is_encrypted=False) == [NeedKind.IDENTITY]


def test_a_new_site_is_led_through_its_first_steps() -> None:
    new = replace(WELL, added_at=NOW - timedelta(days=2), scanned_at=None, steps=FirstSteps(None, False, True, False))

    assert is_new(new, NOW)
    assert [(one.kind, one.count) for one in needs_of(new, NOW)] == [(NeedKind.NEW, 2)]
    assert not is_new(replace(new, added_at=NOW - timedelta(days=31)), NOW)
    assert not is_new(replace(new, steps=DONE), NOW)


def test_what_nobody_looked_at_is_not_said_to_be_open() -> None:
    assert FirstSteps(None, True, True, True).open == 0
    assert FirstSteps(False, True, True, True).open == 1


def test_of_a_part_of_a_site_only_that_is_told_which_lies_in_it() -> None:
    assert kinds(
        sees_all=False,
        not_sent=1,
        findings=9,
        serious=9,
        asides=("Fog banner",),
        failed_timers=(FailedTimer(4, "Sky charts", NOW),),
        scanned_at=None,
        opened_at=None,
    ) == [NeedKind.NOT_SENT]
