"""Manifests: when a copy is whole, and what restoring does."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from nailer.core.files.completeness import Incomplete, Lack
from nailer.core.files.entry import NS, Entry, Kind, Stamp
from nailer.core.files.tree import RelativePath, Tree
from nailer.core.packages.manifest import (
    Copied,
    Difference,
    Manifest,
    difference,
    differences,
    incomplete,
    manifest_of,
    names_of,
    restore_steps,
    still_known,
    unagreed,
)

LATE_S = 2.0**41
UNSURE = Difference.UNSURE
NAMES = st.binary(min_size=1, max_size=4).filter(lambda one: not {0, 47} & set(one) and one not in (b".", b".."))
STAMPS = st.one_of(st.none(), st.integers(0, 2**40).map(lambda at: Stamp(at * NS)))
PERMISSIONS = st.one_of(st.none(), st.integers(0, 0o777))


@st.composite
def trees(draw: st.DrawFn, depth: int = 2) -> Tree:
    folders: dict[RelativePath, list[Entry]] = {}

    def grow(below: RelativePath, left: int) -> None:
        entries = []
        for name in draw(st.lists(NAMES, max_size=4, unique=True)):
            kind = draw(st.sampled_from([Kind.FILE, Kind.LINK, Kind.FOLDER] if left else [Kind.FILE, Kind.LINK]))
            target = b"x" if kind is Kind.LINK else None
            size = draw(st.integers(0, 2**50)) if kind is Kind.FILE else 0
            entries.append(Entry(name, kind, size, draw(STAMPS), draw(PERMISSIONS), target=target))
            if kind is Kind.FOLDER:
                grow((*below, name), left - 1)
        folders[below] = entries

    grow((), depth)
    return Tree(folders)


def contents(tree: Tree) -> dict[RelativePath, tuple[bytes, int]]:
    return {below: (bytes(32), entry.size) for below, entry in names_of(tree).items() if entry.is_file}


@given(trees())
def test_what_is_stored_is_read_back_name_for_name(tree: Tree) -> None:
    manifest = manifest_of(tree, contents(tree))
    assert Manifest.of(manifest.data) == manifest
    assert {one.below for one in manifest.names} == names_of(tree).keys()
    assert manifest.size == sum(entry.size for entry in names_of(tree).values() if entry.is_file)


@given(trees())
def test_of_what_is_as_it_was_nothing_is_restored(tree: Tree) -> None:
    manifest = manifest_of(tree, contents(tree))
    found = dict(differences(manifest, tree, LATE_S))
    assert list(restore_steps(manifest, tree, {below: how for below, how in found.items() if how is not UNSURE})) == []
    untimed = {below for below, entry in names_of(tree).items() if entry.is_file and entry.stamp is None}
    assert {below for below, how in found.items() if how is UNSURE} == untimed
    assert found.keys() == untimed


@given(trees(), trees())
def test_restoring_touches_nothing_beside_the_copy(tree: Tree, now: Tree) -> None:
    manifest = manifest_of(tree, contents(tree))
    steps = list(restore_steps(manifest, now, dict(differences(manifest, now, LATE_S))))
    assert {step.copied.below for step in steps} <= names_of(tree).keys()
    missing = names_of(tree).keys() - names_of(now).keys()
    assert missing <= {step.copied.below for step in steps}


@given(trees())
def test_two_listings_that_agree_differ_in_nothing(tree: Tree) -> None:
    assert unagreed(tree, tree) == set()
    assert unagreed(tree, Tree({(): ()})) == set(names_of(tree))
    assert incomplete(tree, contents(tree)) == ""


def test_a_time_tells_only_where_a_change_would_have_shown_in_it() -> None:
    minutes = Entry(b"a", Kind.FILE, 5, Stamp(120 * NS, 60 * NS))
    assert difference(FILE, FILE, 200) is Difference.SAME
    assert difference(FILE, FILE, 101) is UNSURE
    assert difference(minutes, minutes, 170) is UNSURE
    assert difference(minutes, minutes, 200) is Difference.SAME
    assert difference(Entry(b"a", Kind.FILE, 5), Entry(b"a", Kind.FILE, 5), 200) is UNSURE
    assert difference(FILE, Entry(b"a", Kind.FILE, 6, FILE.stamp), 200) is Difference.CHANGED
    assert difference(FILE, None, 200) is Difference.GONE
    assert difference(None, FILE, 200) is Difference.CAME


FILE = Entry(b"a", Kind.FILE, 5, Stamp(100 * NS))


def test_a_copy_that_lacks_a_file_a_byte_or_a_folder_is_none() -> None:
    tree = Tree({(): [FILE]})
    assert "not in the copy" in incomplete(tree, {})
    assert "5 bytes there, but 4 were received" in incomplete(tree, {(b"a",): (b"", 4)})
    assert "could not be read" in incomplete(Tree({(): [FILE]}, {(b"b",): "refused"}), {(b"a",): (b"", 5)})
    lack = Incomplete(Lack.CUT, "", 1000)
    assert "may hold more" in incomplete(Tree({(): [FILE]}, lacks={(): lack}), {(b"a",): (b"", 5)})


def test_an_earlier_copy_vouches_only_for_what_its_time_proves() -> None:
    copied = Copied((b"a",), FILE, b"hash")
    assert still_known(FILE, copied, 200) == b"hash"
    assert still_known(FILE, copied, 101) is None, "it may have changed within the same second"
    assert still_known(Entry(b"a", Kind.FILE, 6, Stamp(100 * NS)), copied, 200) is None
    assert still_known(Entry(b"a", Kind.FILE, 5, Stamp(101 * NS)), copied, 200) is None
    assert still_known(Entry(b"a", Kind.FILE, 5), copied, 200) is None
    assert still_known(FILE, None, 200) is None
