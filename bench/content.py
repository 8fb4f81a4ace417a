"""What is carried: many small files, one big one, a deep tree. Always the same bytes."""

from __future__ import annotations

import os
import random
import shutil
from pathlib import Path

SMALL_FILES, SMALL_FOLDERS = 420, 60
BIG_BYTES = 256 * 1024 * 1024
TREE_FILES, TREE_FOLDERS = 20_000, 1_000


def small(folder: Path) -> Path:
    """Files of 1 to 40 KiB in 60 folders."""
    chance = random.Random(4)
    for number in range(SMALL_FILES):
        file = folder / f"part-{number % SMALL_FOLDERS:02}" / f"leaf-{number:03}.txt"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(chance.randbytes(chance.randint(1024, 40 * 1024)))
    return folder


def big(file: Path) -> Path:
    file.parent.mkdir(parents=True, exist_ok=True)
    with file.open("wb") as out:
        for _ in range(BIG_BYTES // 2**20):
            out.write(os.urandom(2**20))
    return file


def tree(folder: Path) -> Path:
    """20,000 small files in 1,000 folders, 10 wide and 3 deep."""
    for number in range(TREE_FOLDERS):
        below = folder / f"a{number // 100}" / f"b{number // 10 % 10}" / f"c{number % 10}"
        below.mkdir(parents=True, exist_ok=True)
        for leaf in range(TREE_FILES // TREE_FOLDERS):
            (below / f"leaf-{leaf}.txt").write_bytes(b"leaf")
    return folder


def empty(folder: Path) -> None:
    """Take away what a run has left."""
    for one in folder.iterdir():
        if one.is_dir():
            shutil.rmtree(one)
        else:
            one.unlink()
