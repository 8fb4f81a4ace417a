"""Rows of the ledger: sorted, filtered, counted."""

from __future__ import annotations

import pytest

from nailer.core.compare.joint import Joint
from nailer.core.compare.ledger import LedgerRow, SortBy, View, build_rows, joint_counts, visible
from tests.builders import a_file, a_folder


def rows() -> list[LedgerRow]:
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
