"""What stood below each folder at the last reading."""

from __future__ import annotations

from nailer.core.pairs.differences import trees_compared
from nailer.core.pairs.standing import Rolled, rolled
from tests.core.pairs.trees import a_tree


def test_folders_know_what_stands_below_them() -> None:
    here = a_tree({"a/x": (1, 9), "a/deep/y": (1, 0), "c": (1, 0)})
    there = a_tree({"a/x": (2, 0), "b/z": (1, 0), "c": (1, 0)})

    found = rolled(trees_compared(here, there, {}).rows)

    assert found[(b"a",)] == Rolled(ups=3)
    assert found[()] == Rolled(ups=3, downs=2)
