"""What room a plan needs, and what a server says of it."""

from __future__ import annotations

import pytest

from nailer.core.plans.room import Fit, Room, need_of, room_of_quota


def test_room_is_needed_for_the_new_beside_the_old() -> None:
    need = need_of([(1_000, 900), (500, 0), (10, 400)])

    assert (need.growth, need.at_once, need.in_order) == (210, 1_510, 1_000)
    assert need.fit(1_510) is Fit.FITS
    assert need.fit(1_000) is Fit.IN_ORDER
    assert need.fit(999) is Fit.SHORT
    assert need.short_by(999) == 1
    assert need_of([]).fit(0) is Fit.FITS
    assert need_of([(1_000, 900)]).then(500, 0).then(10, 400) == need


@pytest.mark.parametrize(
    ("lines", "room"),
    [
        (["Uploaded Mb:\t38.50/40.00"], Room(41_943_040, 1_572_864)),
        (["Files: 3/10", "Disk usage: 512 kB of 1024 kB"], Room(1_048_576, 524_288)),
        (["Bytes used: 1,000 / 2,000 bytes"], Room(2000, 1000)),
        (["You have no quota."], None),
        (["Files: 3/10"], None),
    ],
)
def test_the_room_is_read_out_of_a_quota(lines: list[str], room: Room | None) -> None:
    assert room_of_quota(lines) == room
