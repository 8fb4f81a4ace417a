"""The small rules: names, access, words, progress, states, the ledger's views."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.access import fitting, octal, rwx, sentence, trouble
from nailer.core.entry import Entry, Kind, Stamp
from nailer.core.joint import Joint
from nailer.core.ledger import Row, SortBy, View, build_rows, joint_counts, visible
from nailer.core.limits import Limit, Limits, hours_json, hours_of_json, hours_text, parse_hours, parse_rate
from nailer.core.names import free_name, is_part_name, part_name
from nailer.core.progress import Count, Rate, Tally
from nailer.core.states import ENDED, ItemState, JobState, Wish, check_item, check_job, ended_as, may_follow
from nailer.core.words import exact_stamp, size_text, stamp_text, when_text
from nailer.errors import Conflict, InvalidInput
from tests.builders import NOON_S, a_file, a_folder


@given(st.binary(min_size=1, max_size=255).filter(lambda raw: b"/" not in raw), st.integers(0, 5))
def test_a_free_name_is_free_and_fits(name: bytes, steps: int) -> None:
    taken = {name}
    for _ in range(steps):
        taken.add(free_name(name, taken))

    assert len(taken) == steps + 1
    assert all(len(one) <= 255 for one in taken)


def test_part_names_are_known_again_and_differ_by_item() -> None:
    assert is_part_name(part_name(3, 4))
    assert part_name(3, 4) != part_name(3, 5)
    assert is_part_name(part_name(3, 4, hidden=False))
    assert not is_part_name(b"nailer-notes.part")


@given(st.integers(0, 0o7777))
def test_octal_and_rwx_lose_nothing(access: int) -> None:
    assert int(octal(access), 8) == access
    text = rwx(access)
    back = sum(0o400 >> place for place, letter in enumerate(text) if letter in "rwxst")
    special = sum(bit for bit, place in ((0o4000, 2), (0o2000, 5), (0o1000, 8)) if text[place] in "sStT")
    assert back | special == access


@pytest.mark.parametrize(
    ("access", "text"),
    [
        (0o644, "The owner can change it; everyone can read it."),
        (0o666, "Everyone on the server can change it; everyone can read it."),
        (0o640, "The owner can change it; only the group can read it too."),
        (0o600, "The owner can change it; nobody else can read it."),
        (0o444, "Nobody can change it; everyone can read it."),
        (0o755, "The owner can change it; everyone can read and run it."),
    ],
)
def test_access_as_a_sentence(access: int, text: str) -> None:
    assert sentence(access) == text


@pytest.mark.parametrize(
    ("entry", "word"),
    [
        (a_file("a.zip", access=0o666), "anyone"),
        (a_file(".env", access=0o644), "private"),
        (a_file("run.cgi", access=0o644), "cannot run"),
        (Entry(b"x", Kind.FOLDER, access=0o600), "cannot enter"),
        (Entry(b"tmp", Kind.FOLDER, access=0o1777), None),
        (a_file("index.html"), None),
    ],
)
def test_trouble_with_access(entry: Entry, word: str | None) -> None:
    found = trouble(entry)

    assert (word in found) if word and found else found is word


def test_what_suits_a_purpose() -> None:
    assert [fitting(one) for one in (a_file(), a_folder(), a_file("x.cgi"), a_file(".env"))] == [
        0o644,
        0o755,
        0o755,
        0o600,
    ]


def test_dates_are_as_short_as_can_be_told_apart() -> None:
    now = datetime(2026, 11, 23, 12, 0, tzinfo=UTC)
    ages = [timedelta(hours=1), timedelta(days=1), timedelta(days=11), timedelta(days=500)]

    assert [when_text(now - age, now) for age in ages] == [
        "today 11:00",
        "yesterday 12:00",
        "12 Nov 12:00",
        "11 Jul 2025",
    ]


@given(st.integers(-(2**62), 2**62))
def test_no_time_a_server_sends_breaks_a_page(at_ns: int) -> None:
    now = datetime(2026, 11, 23, tzinfo=UTC)

    assert stamp_text(Stamp(at_ns), now)
    assert exact_stamp(Stamp(at_ns)).endswith("UTC")


@given(st.integers(0, 2**60))
def test_sizes_stay_short(size: int) -> None:
    assert len(size_text(size)) <= 10


@given(st.lists(st.tuples(st.integers(0, 9), st.integers(0, 900)), min_size=4, max_size=4))
def test_the_tally_always_adds_up(parts: list[tuple[int, int]]) -> None:
    done, failed, left, waiting = (Count(*part) for part in parts)
    tally = Tally(done + failed + left + waiting, done, failed, left)

    assert tally.waiting == waiting
    assert 0 <= tally.share <= 1


def test_no_time_left_is_shown_before_it_means_something() -> None:
    rate = Rate().after(0, 0.0).after(5000, 1.0)
    assert rate.time_left_s(10_000) is None

    assert Rate().after(0, 0.0).after(5000, 1.0).after(5000, 2.0).time_left_s(10_000) == pytest.approx(2.0)


def test_a_standing_rate_gives_no_time() -> None:
    rate = Rate()
    for second in range(60):
        rate = rate.after(0, float(second))

    assert rate.time_left_s(1000) is None


def test_ended_states_only_begin_again_by_waiting() -> None:
    for state in ENDED:
        assert {after for after in JobState if may_follow(state, after)} <= {JobState.WAITING, JobState.STOPPED}
    with pytest.raises(Conflict):
        check_job(JobState.DONE, JobState.RUNNING)
    with pytest.raises(Conflict):
        check_item(ItemState.DONE, ItemState.FAILED)
    assert check_item(ItemState.FAILED, ItemState.WAITING) is ItemState.WAITING


@pytest.mark.parametrize(
    ("failed", "waiting", "wish", "state"),
    [
        (0, 0, Wish.GO_ON, JobState.DONE),
        (1, 0, Wish.GO_ON, JobState.NEEDS_YOU),
        (0, 3, Wish.GO_ON, JobState.NEEDS_YOU),
        (1, 3, Wish.STOP, JobState.STOPPED),
        (0, 3, Wish.PAUSE, JobState.PAUSED),
        (1, 0, Wish.PAUSE, JobState.NEEDS_YOU),
    ],
)
def test_how_a_job_ends(failed: int, waiting: int, wish: Wish, state: JobState) -> None:
    assert ended_as(failed=failed, waiting=waiting, wish=wish) is state


@pytest.mark.parametrize("text", ["fast", "-4 MB/s", "10 B/s", "4 parsecs"])
def test_a_speed_that_is_none_is_refused_in_words(text: str) -> None:
    with pytest.raises(InvalidInput):
        parse_rate(text)


def test_hours_of_the_day_have_limits_of_their_own() -> None:
    limits = Limits(Limit(up=1_000_000), parse_hours("22:00-06:00\n08:00-18:00 up 500 kB/s down 2 MB/s"))

    assert limits.at(23 * 60) == Limit(), "at night there is none"
    assert limits.at(12 * 60) == Limit(500_000, 2_000_000)
    assert limits.at(19 * 60) == Limit(1_000_000)
    assert hours_of_json(hours_json(limits.hours)) == limits.hours
    assert parse_hours(hours_text(limits.hours)) == limits.hours
    with pytest.raises(InvalidInput, match="cannot be read"):
        parse_hours("from eight to six")


def rows() -> list[Row]:
    here = [a_file("plate-2.txt", 20), a_file("plate-10.txt", 10), a_folder("img"), a_file(".hidden")]
    there = [a_file("plate-2.txt", 20), a_file("Zebra.txt", 5), a_folder("img")]
    return build_rows(here, there, {}, {})


def test_names_sort_as_people_count_and_folders_first() -> None:
    shown = [row.name for row in visible(rows(), View())]

    assert shown == [b"img", b"plate-2.txt", b"plate-10.txt", b"Zebra.txt"]


def test_views_narrow_the_ledger() -> None:
    assert [row.name for row in visible(rows(), View(joint="only-here"))] == [b"plate-10.txt"]
    assert [row.name for row in visible(rows(), View(joint="differ"))] == [b"plate-10.txt", b"Zebra.txt"]
    assert [row.name for row in visible(rows(), View(text="PLATE"))] == [b"plate-2.txt", b"plate-10.txt"]
    assert b".hidden" in [row.name for row in visible(rows(), View(hidden=True))]


@pytest.mark.parametrize("sort", list(SortBy))
def test_every_sorting_shows_every_name_and_turns_round(sort: SortBy) -> None:
    up = visible(rows(), View(sort=sort))
    down = visible(rows(), View(sort=sort, descending=True))

    assert {row.name for row in up} == {row.name for row in down}
    assert up[0].is_folder
    assert down[0].is_folder


def test_counts_follow_what_is_shown() -> None:
    assert joint_counts(rows(), hidden=False)[Joint.ONLY_HERE] == 1
    assert joint_counts(rows(), hidden=True)[Joint.ONLY_HERE] == 2
    assert sum(joint_counts(rows(), hidden=True).values()) == 5


def test_a_time_is_shown_in_the_zone_that_is_set() -> None:
    from zoneinfo import ZoneInfo

    now = datetime.fromtimestamp(NOON_S, UTC)

    assert stamp_text(Stamp.seconds(NOON_S), now, ZoneInfo("Asia/Tokyo")) != stamp_text(Stamp.seconds(NOON_S), now)
