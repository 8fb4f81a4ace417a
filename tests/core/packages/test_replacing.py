"""Replacing a version: every name has one fate, nothing carried over is lost, and edits are never taken for nothing."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.files.entry import NS, Entry, Kind, Stamp
from nailer.core.files.tree import RelativePath
from nailer.core.packages.declared import Declared
from nailer.core.packages.identity import Likeness, likeness, step_words
from nailer.core.packages.manifest import Copied, Manifest
from nailer.core.packages.replacing import (
    Fate,
    PackageRow,
    Take,
    hand_edits,
    joined,
    outcome,
    same_content,
    undecided,
    versions_compared,
)
from nailer.core.packages.versions import version_of

NAMES = st.sampled_from([b"a.php", b"b.css", b"c.png", b"sub", b"d"])
CONTENTS = st.binary(min_size=1, max_size=1)


@st.composite
def manifests(draw: st.DrawFn) -> Manifest:
    """Folders two deep, of few names and fewer contents, so that they meet in every way."""
    names: list[Copied] = []

    def grow(above: RelativePath, left: int) -> None:
        for name in draw(st.lists(NAMES, max_size=5, unique=True)):
            kind = draw(st.sampled_from([Kind.FILE, Kind.FILE, Kind.LINK] + [Kind.FOLDER] * bool(left)))
            permissions = draw(st.sampled_from([None, 0o644, 0o755]))
            content = draw(CONTENTS)
            target = content if kind is Kind.LINK else None
            entry = Entry(name, kind, len(content) if kind is Kind.FILE else 0, Stamp(NS), permissions, target=target)
            names.append(Copied((*above, name), entry, content if kind is Kind.FILE else None))
            if kind is Kind.FOLDER:
                grow((*above, name), left - 1)

    grow((), 2)
    return Manifest(tuple(sorted(names, key=lambda one: (len(one.below), one.below))))


def takes(rows: tuple[PackageRow, ...], draw: st.DataObject) -> dict[RelativePath, Take]:
    """A choice for some rows, and for each that waits for one."""
    choices = {}
    for row in rows:
        if row.advised is None or draw.draw(st.booleans()):
            choices[row.below] = draw.draw(st.sampled_from(row.may))
    return choices


def by_name(manifest: Manifest) -> dict[RelativePath, Copied]:
    return {one.below: one for one in manifest.names}


@given(manifests(), manifests(), st.none() | manifests(), st.data())
def test_nothing_carried_over_is_lost_and_what_was_not_wanted_is_not_there(
    old: Manifest, new: Manifest, base: Manifest | None, data: st.DataObject
) -> None:
    rows = versions_compared(old, new, base)
    choices = takes(rows, data)
    assert not undecided(rows, choices)
    after = by_name(outcome(rows, choices, {}, old, new))
    for row in rows:
        match row.taken(choices):
            case Take.CARRY | Take.OLD:
                assert after[row.below] == row.old
            case Take.NEW:
                assert row.new is not None
                assert same_content(after[row.below], row.new)
            case _:
                there = after.get(row.below)
                assert there is None or there.entry.is_folder


@given(manifests(), manifests(), st.none() | manifests(), st.data())
def test_every_name_has_one_fate_and_what_comes_out_is_a_tree(
    old: Manifest, new: Manifest, base: Manifest | None, data: st.DataObject
) -> None:
    rows = versions_compared(old, new, base)
    belows = [row.below for row in rows]
    assert len(belows) == len(set(belows))
    leaves = {one.below for one in (*old.names, *new.names) if not one.entry.is_folder}
    assert leaves <= set(belows)
    after = by_name(outcome(rows, takes(rows, data), {}, old, new))
    for below in after:
        for depth in range(1, len(below)):
            assert after[below[:depth]].entry.is_folder, (below, after)


@given(manifests(), st.none() | manifests())
def test_the_same_version_again_changes_nothing(old: Manifest, base: Manifest | None) -> None:
    rows = versions_compared(old, old, base)
    assert {row.fate for row in rows} <= {Fate.SAME}
    after = outcome(rows, {}, {}, old, old)
    assert by_name(after) == by_name(old)


@given(manifests(), manifests(), manifests())
def test_a_hand_edit_is_never_replaced_unasked(old: Manifest, new: Manifest, base: Manifest) -> None:
    edits = set(hand_edits(old, base))
    for row in versions_compared(old, new, base):
        if row.below in edits and row.old is not None and row.fate is not Fate.SAME:
            assert row.advised is not Take.NEW or row.old.entry.is_folder
            assert row.advised is not Take.DROP


@given(manifests(), manifests())
def test_where_nobody_knows_what_was_delivered_nothing_is_called_a_leftover_or_edited(
    old: Manifest, new: Manifest
) -> None:
    fates = {row.fate for row in versions_compared(old, new, None)}
    assert not fates & {Fate.LEFTOVER, Fate.EDITED, Fate.MERGED}


def file(name: str, content: bytes, permissions: int | None = 0o644) -> Copied:
    below = tuple(name.encode().split(b"/"))
    return Copied(below, Entry(below[-1], Kind.FILE, len(content), Stamp(NS), permissions), content)


def of(*files: Copied) -> Manifest:
    folders = {one.below[:depth] for one in files for depth in range(1, len(one.below))}
    above = [Copied(below, Entry(below[-1], Kind.FOLDER, permissions=0o755)) for below in folders]
    return Manifest(tuple(sorted([*above, *files], key=lambda one: (len(one.below), one.below))))


TABLE = [
    (b"1", b"1", b"1", Fate.SAME, Take.OLD),
    (b"1", b"1", b"2", Fate.CHANGED, Take.NEW),
    (b"e", b"1", b"1", Fate.EDITED, Take.OLD),
    (b"e", b"1", b"2", Fate.CLASH, None),
    (b"e", None, b"2", Fate.CLASH, None),
    (b"2", b"1", b"2", Fate.SAME, Take.OLD),
    (None, None, b"2", Fate.ADDED, Take.NEW),
    (None, b"1", b"2", Fate.ADDED, Take.NEW),
    (b"1", b"1", None, Fate.LEFTOVER, Take.DROP),
    (b"e", b"1", None, Fate.CLASH, None),
    (b"o", None, None, Fate.OWN, Take.CARRY),
]


@pytest.mark.parametrize(("live", "then", "now", "fate", "advised"), TABLE)
def test_the_table(live: bytes | None, then: bytes | None, now: bytes | None, fate: Fate, advised: Take | None) -> None:
    old, base, new = (of(file("x.php", one)) if one else Manifest(()) for one in (live, then, now))
    (row,) = versions_compared(old, new, base)
    assert (row.fate, row.advised) == (fate, advised)


def test_what_is_only_in_the_old_and_of_unknown_origin_is_carried_but_programs_are_asked_for() -> None:
    rows = versions_compared(of(file("gull.jpg", b"1"), file("hooks.php", b"2")), Manifest(()), None)
    assert [(row.fate, row.advised) for row in rows] == [(Fate.UNSURE, Take.CARRY), (Fate.UNSURE, None)]


def test_how_the_old_one_was_found_first_does_not_say_who_put_a_name_there() -> None:
    old = of(file("hooks.php", b"1"), file("gull.jpg", b"2"), file("since.php", b"3"), file("style.css", b"e"))
    found = of(file("hooks.php", b"1"), file("gull.jpg", b"2"), file("style.css", b"1"))
    rows = versions_compared(old, of(file("style.css", b"1")), found, is_delivered=False)
    assert [(row.below[0], row.fate) for row in rows] == [
        (b"gull.jpg", Fate.UNSURE),
        (b"hooks.php", Fate.UNSURE),
        (b"since.php", Fate.OWN),
        (b"style.css", Fate.EDITED),
    ]


def test_a_file_that_was_there_keeps_its_permissions() -> None:
    old, new = of(file("x.php", b"1", 0o600)), of(file("x.php", b"2", 0o644))
    after = outcome(versions_compared(old, new, None), {}, {}, old, new)
    assert after.names[0].entry.permissions == 0o600
    assert after.names[0].digest == b"2"


def test_texts_that_were_joined_take_the_place_of_both() -> None:
    old, new, base = of(file("x.php", b"e")), of(file("x.php", b"2")), of(file("x.php", b"1"))
    (row,) = (joined(one, places=0) for one in versions_compared(old, new, base))
    assert (row.fate, row.taken({})) == (Fate.MERGED, Take.JOINED)
    after = outcome([row], {}, {row.below: (b"joined", 7)}, old, new)
    assert (after.names[0].digest, after.names[0].entry.size) == (b"joined", 7)
    (clash,) = (joined(one, places=2) for one in versions_compared(old, new, base))
    assert clash.taken({}) is None
    assert clash.taken({row.below: Take.CARRY}) is None, "a choice that is not offered"


def declared(name: str, version: str) -> Declared:
    return Declared(name, version_of(version), "skin.json")


def test_another_package_is_told_from_another_version() -> None:
    harbour, tides = declared("Harbour", "1.4"), declared("Tides", "2.0")
    assert likeness(harbour, b"harbour", declared("HARBOUR", "1.5"), b"harbour-1.5") is Likeness.SAME
    assert likeness(harbour, b"harbour", tides, b"tides") is Likeness.OTHER
    assert likeness(harbour, b"harbour", declared("Harbour pro", "2"), b"harbour-2.0") is Likeness.RENAMED
    assert likeness(declared("", "1"), b"board", declared("", "2"), b"board-2.0.1") is Likeness.SAME
    assert likeness(declared("", "1"), b"board", declared("Tides", "2"), b"tides") is Likeness.OTHER


@pytest.mark.parametrize(
    ("new", "old", "words", "usual"),
    [
        ("1.10", "1.9", "1.9 to 1.10", True),
        ("1.9", "1.10", "1.10 to 1.9: this goes back to an older version", False),
        ("1.0", "1", "1 to 1.0: the same version again", False),
        ("", "1", "1 to no version: unknown which one is newer", False),
    ],
)
def test_the_step_is_said(new: str, old: str, words: str, usual: bool) -> None:
    assert step_words(declared("x", new), declared("x", old)) == (words, usual)
