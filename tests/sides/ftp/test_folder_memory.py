"""What a line remembers of the folders that it has listed, and what it forgets."""

from __future__ import annotations

import pytest

from nailer.core.files.entry import Entry
from nailer.sides.ftp import look as ftplook
from nailer.sides.ftp.look import FolderMemory
from tests.builders import a_file, a_folder, path


def remembering(**folders: list[Entry]) -> FolderMemory:
    memory = FolderMemory()
    for name, entries in folders.items():
        memory.put(path(f"/{name}"), entries, None)
    return memory


def test_the_folders_listed_longest_ago_are_forgotten_first(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ftplook, "_MOST_REMEMBERED", 8)
    memory = remembering(a=[a_file("1"), a_file("2")], b=[a_file("1"), a_file("2")], c=[a_file("1"), a_file("2")])
    assert memory.get(path("/a")) is None
    assert memory.get(path("/b")) is not None
    assert memory.get(path("/c")) is not None


def test_empty_folders_are_not_remembered_without_end(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ftplook, "_MOST_REMEMBERED", 8)
    memory = FolderMemory()
    for number in range(20):
        memory.put(path(f"/{number}"), [], None)
    assert sum(memory.get(path(f"/{number}")) is not None for number in range(20)) == 8


def test_a_folder_listed_again_and_again_takes_no_room_from_others(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ftplook, "_MOST_REMEMBERED", 8)
    memory = remembering(a=[a_file("1")])
    for _ in range(20):
        memory.put(path("/b"), [a_file("1"), a_file("2")], None)
        memory.made(path("/b/3"), a_file("3"))
    assert memory.get(path("/a")) is not None


def test_one_folder_larger_than_the_bound_is_still_remembered(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ftplook, "_MOST_REMEMBERED", 2)
    memory = remembering(a=[a_file("1"), a_file("2"), a_file("3")])
    assert memory.get(path("/a")) is not None


def test_a_removed_folder_is_forgotten_with_all_below_it() -> None:
    memory = FolderMemory()
    memory.put(path("/"), [a_folder("a")], None)
    memory.put(path("/a"), [a_folder("b")], None)
    memory.put(path("/a/b"), [a_file("1")], None)
    memory.gone(path("/a"))
    assert memory.one(path("/a")) == (True, None)
    assert memory.get(path("/a/b")) is None


def test_a_file_moved_from_a_folder_nobody_listed_makes_the_new_folder_stale() -> None:
    memory = remembering(b=[a_file("old")])
    memory.moved(path("/a/1"), path("/b/old"))
    assert memory.get(path("/b")) is None


def test_a_moved_file_is_remembered_under_its_new_name_only() -> None:
    memory = remembering(a=[a_file("1")], b=[])
    memory.moved(path("/a/1"), path("/b/2"))
    assert memory.one(path("/a/1")) == (True, None)
    _, entry = memory.one(path("/b/2"))
    assert entry is not None
    assert entry.name == b"2"
