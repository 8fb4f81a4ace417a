"""The table of joints, row by row, and what it may never do."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.compare.joint import (
    Baseline,
    Compare,
    Joint,
    Seen,
    Standing,
    joint_of,
    rolled_up,
    same_time,
    seen,
    still_as,
)
from nailer.core.files.entry import NS, Entry, Kind, Stamp
from tests.builders import NOON_S, a_file, a_folder, a_link

OLD = a_file(size=100, at_s=NOON_S)
LEVEL = Baseline(seen(OLD), seen(OLD))
CHANGED = a_file(size=150, at_s=NOON_S + 500)
OTHER = a_file(size=170, at_s=NOON_S + 900)


@pytest.mark.parametrize(
    ("here", "there", "joint"),
    [
        pytest.param(OLD, OLD, Joint.SAME, id="same, same"),
        pytest.param(CHANGED, OLD, Joint.NEWER_HERE, id="changed, same"),
        pytest.param(OLD, CHANGED, Joint.NEWER_THERE, id="same, changed"),
        pytest.param(CHANGED, CHANGED, Joint.SAME, id="changed alike"),
        pytest.param(CHANGED, OTHER, Joint.BOTH_CHANGED, id="changed differently"),
        pytest.param(None, OLD, Joint.ONLY_THERE, id="gone, same"),
        pytest.param(OLD, None, Joint.ONLY_HERE, id="same, gone"),
        pytest.param(None, CHANGED, Joint.BOTH_CHANGED, id="gone, changed"),
        pytest.param(CHANGED, None, Joint.BOTH_CHANGED, id="changed, gone"),
    ],
)
def test_joint_with_a_baseline(here: Entry | None, there: Entry | None, joint: Joint) -> None:
    assert joint_of(here, there, LEVEL).joint is joint


@pytest.mark.parametrize(
    ("here", "there", "joint", "guess"),
    [
        pytest.param(OLD, None, Joint.ONLY_HERE, False, id="only here"),
        pytest.param(None, OLD, Joint.ONLY_THERE, False, id="only there"),
        pytest.param(OLD, a_file(at_s=NOON_S + 2), Joint.SAME, False, id="two seconds apart"),
        pytest.param(OLD, a_file(at_s=NOON_S + 3), Joint.NEWER_THERE, True, id="three seconds apart"),
        pytest.param(CHANGED, OLD, Joint.NEWER_HERE, True, id="later here"),
        pytest.param(OLD, a_file(at_s=NOON_S + 3600), Joint.SAME, True, id="summer time"),
        pytest.param(OLD, a_file(size=101, at_s=NOON_S + 3600), Joint.NEWER_THERE, True, id="an hour and another size"),
        pytest.param(OLD, a_file(size=101), Joint.BOTH_CHANGED, True, id="same time, other size"),
        pytest.param(OLD, Entry(b"index.html", Kind.FILE, 100), Joint.SAME, True, id="no time, same size"),
        pytest.param(OLD, Entry(b"index.html", Kind.FILE, 9), Joint.BOTH_CHANGED, True, id="no time, other size"),
    ],
)
def test_joint_without_a_baseline(here: Entry | None, there: Entry | None, joint: Joint, guess: bool) -> None:
    standing = joint_of(here, there)

    assert (standing.joint, standing.guess) == (joint, guess)
    assert standing.reason


def test_removed_is_told_from_new() -> None:
    assert joint_of(None, OLD, LEVEL).removed
    assert not joint_of(None, OLD).removed


@pytest.mark.parametrize("other", [a_folder("index.html"), a_link("index.html")], ids=["folder", "link"])
def test_another_kind_of_the_same_name_is_always_both_changed(other: Entry) -> None:
    assert joint_of(OLD, other, LEVEL).joint is Joint.BOTH_CHANGED
    assert joint_of(other, OLD).joint is Joint.BOTH_CHANGED


def test_links_are_the_same_where_they_lead_to_the_same_place() -> None:
    assert joint_of(a_link(), a_link()).joint is Joint.SAME
    assert joint_of(a_link(), a_link(target="elsewhere")).joint is Joint.BOTH_CHANGED


def test_a_coarse_clock_widens_the_tolerance() -> None:
    minute = Stamp(NOON_S * NS, 60 * NS)

    assert same_time(minute, Stamp((NOON_S + 59) * NS))
    assert not same_time(minute, Stamp((NOON_S + 61) * NS))


def test_compared_by_size_only_times_do_not_matter() -> None:
    assert joint_of(OLD, a_file(at_s=NOON_S + 9999), compare=Compare.SIZE).joint is Joint.SAME


def test_neither_side_is_no_joint() -> None:
    with pytest.raises(ValueError, match="neither side"):
        joint_of(None, None)


files = st.builds(
    lambda size, at: Entry(b"a", Kind.FILE, size, Stamp(at * NS)), st.integers(0, 3), st.integers(NOON_S, NOON_S + 9)
)
maybe = st.none() | files
MIRROR = {
    Joint.NEWER_HERE: Joint.NEWER_THERE,
    Joint.NEWER_THERE: Joint.NEWER_HERE,
    Joint.ONLY_HERE: Joint.ONLY_THERE,
    Joint.ONLY_THERE: Joint.ONLY_HERE,
}


@given(here=maybe, there=maybe, was_here=files, was_there=files, known=st.booleans())
def test_exchanging_the_sides_mirrors_the_joint(
    here: Entry | None, there: Entry | None, was_here: Entry, was_there: Entry, known: bool
) -> None:
    if here is None and there is None:
        return
    one = Baseline(seen(was_here), seen(was_there)) if known else None
    other = Baseline(seen(was_there), seen(was_here)) if known else None

    joint = joint_of(here, there, one).joint

    assert joint_of(there, here, other).joint is MIRROR.get(joint, joint)


@given(one=files, known=st.booleans())
def test_equal_sides_are_the_same_whatever_they_were(one: Entry, known: bool) -> None:
    baseline = Baseline(Seen(77, None), Seen(77, None)) if known else None

    assert joint_of(one, one, baseline).joint is Joint.SAME


@pytest.mark.parametrize(
    ("inside", "complete", "joint"),
    [
        ([Joint.SAME, Joint.SAME], True, Joint.SAME),
        ([], True, Joint.SAME),
        ([Joint.SAME], False, Joint.NOT_READ),
        ([Joint.SAME, Joint.NOT_READ], True, Joint.NOT_READ),
        ([Joint.ONLY_HERE, Joint.SAME], True, Joint.NEWER_HERE),
        ([Joint.ONLY_THERE, Joint.NEWER_THERE], False, Joint.NEWER_THERE),
        ([Joint.NEWER_HERE, Joint.NEWER_THERE], True, Joint.BOTH_CHANGED),
        ([Joint.BOTH_CHANGED], False, Joint.BOTH_CHANGED),
    ],
)
def test_a_folder_rolls_up_what_is_inside(inside: list[Joint], complete: bool, joint: Joint) -> None:
    assert rolled_up([Standing(one, "") for one in inside], complete=complete).joint is joint


@pytest.mark.parametrize(
    ("now", "untouched"),
    [
        pytest.param(OLD, True, id="as it was"),
        pytest.param(a_file(size=100, at_s=NOON_S + 500), False, id="another time"),
        pytest.param(a_file(size=101, at_s=NOON_S), False, id="another size"),
        pytest.param(Entry(b"index.html", Kind.FILE, 100), True, id="no time now, so size alone speaks"),
        pytest.param(a_link("index.html"), False, id="another kind"),
    ],
)
def test_nobody_changed_a_name_where_kind_size_and_time_are_as_they_were(now: Entry, untouched: bool) -> None:
    assert still_as(now, OLD) is untouched
    assert still_as(OLD, now) is untouched


def test_a_folder_is_as_it_was_whatever_is_in_it() -> None:
    assert still_as(a_folder(), replace(a_folder(), size=4096))


@pytest.mark.parametrize(
    ("equal", "joint"),
    [(True, Joint.SAME), (False, Joint.NEWER_THERE), (None, Joint.SAME)],
    ids=["same", "other", "unread"],
)
def test_contents_decide_without_a_baseline_where_they_were_read(equal: bool | None, joint: Joint) -> None:
    an_hour_on = a_file(at_s=NOON_S + 3600)

    assert joint_of(OLD, an_hour_on, compare=Compare.CONTENT, equal=equal).joint is joint


def test_contents_do_not_speak_where_they_were_not_asked_for() -> None:
    assert joint_of(OLD, OLD, equal=False).joint is Joint.SAME
    assert (
        joint_of(CHANGED, a_file(size=150, at_s=NOON_S + 700), LEVEL, compare=Compare.SIZE, equal=False).joint
        is Joint.SAME
    )


@pytest.mark.parametrize(("here", "there", "side"), [(OLD, None, "there"), (None, OLD, "here")])
def test_a_name_that_may_be_hidden_is_not_read_and_says_on_which_side(
    here: Entry | None, there: Entry | None, side: str
) -> None:
    standing = joint_of(here, there, LEVEL, unsure="The listing was cut.")

    assert standing.joint is Joint.NOT_READ
    assert standing.reason == f"unknown whether it exists {side}. The listing was cut."


def test_a_folder_says_what_is_in_it_and_whether_all_of_it_was_read() -> None:
    up, clash, unread = (Standing(one, "") for one in (Joint.NEWER_HERE, Joint.BOTH_CHANGED, Joint.NOT_READ))

    assert rolled_up([up, up], complete=True).reason == "inside: 2 newer or only here"
    assert rolled_up([clash, clash], complete=True).reason.endswith("2 both changed")
    assert rolled_up([up, unread], complete=True).reason == "inside: 1 newer or only here, as far as it was read"
